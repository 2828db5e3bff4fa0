package sqlstore

import (
	"os"
	"strings"

	"ironseal/internal/disk"
	"ironseal/pki/journal"
)

// The journal's head is noted beside the records after every change. A journal whose
// end was cut off, or that was emptied, is whole by its own links; it is the note
// that tells. It may be behind, where the program ended in between, and never ahead.

// HeadFile is the file beside the records that notes the journal's newest entry.
func (s *Store) HeadFile() string { return s.Path() + ".head" }

// note writes the head down. That it cannot be written is no reason to fail: the
// change is on record, and the next one notes it as well.
func (s *Store) note(head journal.Head) {
	if known, ok := s.NotedHead(); ok && known.Seq >= head.Seq {
		return
	}
	making := s.HeadFile() + ".new"
	if os.WriteFile(making, []byte(head.String()+"\n"), 0o600) == nil {
		_ = disk.Rename(making, s.HeadFile())
	}
}

// NotedHead is the head that was noted beside the records; false if there is none.
func (s *Store) NotedHead() (journal.Head, bool) {
	data, err := disk.Read(s.HeadFile(), 100)
	if err != nil {
		return journal.Head{}, false
	}
	h, err := journal.ParseHead(strings.TrimSpace(string(data)))
	return h, err == nil
}
