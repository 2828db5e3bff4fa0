package sqlstore

import (
	"os"
	"strings"
	"sync"
	"time"

	"ironseal/internal/disk"
	"ironseal/pki/journal"
)

// The journal's head is noted beside the records after every change. A journal whose
// end was cut off, or that was emptied, is whole by its own links; it is the note
// that tells. It may be behind, where the program ended in between, and never ahead.

// notes are the heads of one program that are to be noted. Where it records very often, not each is: the next one, the
// next look at the newest entry, or the end of the program, notes what is missing.
type notes struct {
	mu      sync.Mutex
	pending journal.Head
	last    time.Time // of the last that was written
}

// noteEach is how long a head may wait until it is noted, while others follow it.
const noteEach = 50 * time.Millisecond

// note notes a head, now or soon.
func (s *Store) note(head journal.Head) {
	n := s.heads
	n.mu.Lock()
	defer n.mu.Unlock()
	if head.Seq > n.pending.Seq {
		n.pending = head
	}
	if time.Since(n.last) >= noteEach {
		s.writeNote()
	}
}

// flushNote notes what is still to be noted.
func (s *Store) flushNote() {
	s.heads.mu.Lock()
	defer s.heads.mu.Unlock()
	s.writeNote()
}

// writeNote writes the head down. That it cannot be written is no reason to fail: the
// change is on record, and the next one notes it as well.
func (s *Store) writeNote() {
	n := s.heads
	head := n.pending
	if head.Seq == 0 {
		return
	}
	n.last, n.pending = time.Now(), journal.Head{}
	if known, ok := s.NotedHead(); ok && known.Seq >= head.Seq {
		return
	}
	making := s.HeadFile() + ".new"
	if os.WriteFile(making, []byte(head.String()+"\n"), 0o600) == nil {
		_ = disk.Rename(making, s.HeadFile())
	}
}

// Close notes what is missing, and ends the use of the records.
func (s *Store) Close() error {
	s.flushNote()
	return s.DB.Close()
}

// NotedHead is the head that was noted beside the records; false if none exists.
func (s *Store) NotedHead() (journal.Head, bool) {
	data, err := disk.Read(s.HeadFile(), 100)
	if err != nil {
		return journal.Head{}, false
	}
	h, err := journal.ParseHead(strings.TrimSpace(string(data)))
	return h, err == nil
}
