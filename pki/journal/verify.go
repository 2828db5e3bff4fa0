package journal

import (
	"bytes"
	"fmt"
	"time"
)

// Backwards is an entry that is dated before an earlier one.
type Backwards struct {
	Seq        int64     `json:"number"`
	At, Before time.Time `json:"-"`
	Settled    bool      `json:"settled"` // a later entry says that the clock was wrong, or it is that entry
}

// Times looks for entries at which time runs backwards, as they come, oldest first.
type Times struct {
	Found []Backwards
	high  time.Time
}

// Add looks at the next entry.
func (w *Times) Add(e Entry) {
	if e.Act == ClockAct {
		for i := range w.Found {
			w.Found[i].Settled = true
		}
		if e.At.Before(w.high) {
			w.Found = append(w.Found, Backwards{e.Seq, e.At, w.high, true})
		}
		w.high = e.At
		return
	}
	if e.At.Before(w.high.Add(-time.Second)) {
		w.Found = append(w.Found, Backwards{Seq: e.Seq, At: e.At, Before: w.high})
	}
	if e.At.After(w.high) {
		w.high = e.At
	}
}

// Break is where a journal stops being whole.
type Break struct {
	Seq int64
	Why string
}

func (b *Break) Error() string { return fmt.Sprintf("entry %d: %s", b.Seq, b.Why) }

// Verifier checks the links of a journal, entry by entry, oldest first.
type Verifier struct {
	Known *Head // an entry that must still be the one it was; nil for none
	last  Entry
}

// Add checks the next entry; the error is a *Break.
func (v *Verifier) Add(e Entry) error {
	sum := e.digest()
	before := v.last.Hash
	if before == nil {
		before = make([]byte, 32)
	}
	switch {
	case e.Seq != v.last.Seq+1:
		return &Break{e.Seq, fmt.Sprintf("it follows entry %d: entries in between are gone", v.last.Seq)}
	case !bytes.Equal(e.Prev, before):
		return &Break{e.Seq, "its link does not match the entry before: one of the two was changed"}
	case !bytes.Equal(e.Hash, sum[:]):
		return &Break{e.Seq, "its content does not match its hash: it was changed"}
	case v.Known != nil && v.Known.Seq == e.Seq && v.Known.Code != e.Head().Code:
		return &Break{e.Seq, fmt.Sprintf("it is %s now and was %s: the journal was rewritten", e.Head(), v.Known)}
	}
	v.last = e
	return nil
}

// End says whether the journal may end here, and names its newest entry.
func (v *Verifier) End() (Head, error) {
	if v.last.Seq == 0 {
		return Head{}, &Break{0, "it is empty: every estate begins with an entry"}
	}
	if v.Known != nil && v.Known.Seq > v.last.Seq {
		return Head{}, &Break{v.last.Seq, fmt.Sprintf("the journal ends here, and the head given is entry %d: its "+
			"end was cut off, or this is an older copy", v.Known.Seq)}
	}
	return v.last.Head(), nil
}
