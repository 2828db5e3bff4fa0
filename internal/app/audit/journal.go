package audit

import (
	"context"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/pki/journal"
)

// The journal is read once. While one part of it comes from the records, the one before is proved by its links and its
// operators' signatures, and beside that, what it tells is gathered.

// Bounds of a part: entries of one signature are small, and those of a batch large.
const (
	partEntries = 256
	partOctets  = 1 << 20
)

// journalRead is what came of reading the journal.
type journalRead struct {
	links   journal.Verifier
	broken  error // the first link that does not hold
	witness event.Witness
	unsaid  error // the first entry that its operator did not sign
	times   journal.Times
	told    *told
}

func readJournal(ctx context.Context, e *estate.Estate, known *journal.Head) (*journalRead, error) {
	j := &journalRead{links: journal.Verifier{Known: known}, told: nothingTold()}
	proved, over := inParts(j.prove)
	gathered, gatheredAll := inParts(j.told.add)
	var part []journal.Entry
	octets := 0
	give := func() {
		proved <- part
		gathered <- part
		part, octets = nil, 0
	}
	err := e.Records.Entries(ctx, -1<<62, 0, func(en journal.Entry) error {
		part = append(part, en)
		if octets += len(en.Detail); len(part) == partEntries || octets > partOctets {
			give()
		}
		return nil
	})
	give()
	close(proved)
	close(gathered)
	<-over
	<-gatheredAll
	return j, err
}

// inParts calls fn for each entry of the parts that come, and says when all was.
func inParts(fn func(journal.Entry)) (parts chan<- []journal.Entry, over <-chan struct{}) {
	come, done := make(chan []journal.Entry, 1), make(chan struct{})
	go func() {
		defer close(done)
		for part := range come {
			for _, en := range part {
				fn(en)
			}
		}
	}()
	return come, done
}

func (j *journalRead) prove(en journal.Entry) {
	if j.broken == nil {
		j.broken = j.links.Add(en)
	}
	if en.Seq <= 0 { // this program writes no such entry, and the links report it
		return
	}
	if j.unsaid == nil {
		j.unsaid = j.witness.Add(en)
	}
	j.times.Add(en)
}

// head is the newest entry, and the first link that does not hold.
func (j *journalRead) head() (journal.Head, error) {
	if j.broken != nil {
		return journal.Head{}, j.broken
	}
	return j.links.End()
}

// witnessed is why an entry is not its operator's; nil where each is.
func (j *journalRead) witnessed() error {
	if j.unsaid != nil {
		return j.unsaid
	}
	return j.witness.End()
}
