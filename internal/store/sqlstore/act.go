package sqlstore

import (
	"context"
	"fmt"
	"time"

	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
	"ironseal/internal/store/sqlstore/factors"
	"ironseal/pki/journal"
)

// Tx is one transaction.
type Tx struct {
	*sqldb.Change
	actor     string
	keys      *factors.Moduli   // what is known of RSA keys; nil until it is needed
	more      []event.Record    // what came out on the way
	learnt    map[[32]byte]bool // RSA keys that this change brought
	addresses map[string]bool   // addresses that this change has recorded
	times     *times            // of entries that were committed
	loaded    *hierarchyCache   // of the store; nil for one of its own
	touched   bool              // it may have written what the hierarchy is loaded from
	vouch     func([]journal.Entry) (journal.Entry, error)
	moves     bool // it notes that the records are moved, or takes that back
}

// Reads are the records as the change sees them, for whatever has to be asked again inside it. They
// are not to be kept beyond it.
func (t *Tx) Reads() store.Store {
	s := storeOf(t.Change.View())
	if t.loaded != nil {
		s.loaded = t.loaded
	}
	return s
}

// Act runs one change: fn writes records and returns the entries that tell of
// it, which are linked into the journal last. Nothing is kept unless all is, and
// unless the records that come out of it load. now is asked once the change has
// its turn; a clock behind the latest entry refuses every change.
// before is called when all is written and nothing is committed yet, and may be nil;
// it exists so that tests can stop there. An error of the kind ErrUncertain leaves
// open whether the change is on record.
func (s *Store) Act(ctx context.Context, now func() time.Time, actor string, before func() error,
	fn func(store.Tx) ([]journal.Entry, error)) (journal.Head, error) {
	o := &one{ctx: ctx, now: now, actor: actor, before: before, fn: fn, done: make(chan struct{})}
	s.turn.take(o, s.together)
	return o.outcome()
}

func (t *Tx) change(fn func(store.Tx) ([]journal.Entry, error)) (journal.Head, error) {
	entries, err := fn(t)
	if err != nil {
		return journal.Head{}, err
	}
	if err := t.keys.Flush(t.Change); err != nil {
		return journal.Head{}, err
	}
	if t.touched {
		if _, err := Load(t.Ctx, t.Querier()); err != nil {
			return journal.Head{}, fmt.Errorf("nothing was changed, since the records would not load any more: %w", err)
		}
	}
	end, err := t.times.end(t.Change)
	if err == nil && end.moved != "" && !t.moves {
		err = &store.MovedError{To: end.moved}
	}
	if err == nil {
		err = t.timely(entries, end.latest)
	}
	if err != nil {
		return journal.Head{}, err
	}
	last := end.newest
	for _, r := range t.more {
		en, err := r.Entry("")
		if err != nil {
			return journal.Head{}, err
		}
		entries = append(entries, en)
	}
	for i := range entries {
		entries[i].At, entries[i].Actor = t.At, t.actor
	}
	if last, err = t.linkAll(entries, last); err != nil {
		return journal.Head{}, err
	}
	if t.vouch != nil && len(entries) > 0 {
		e, err := t.vouch(entries)
		if err != nil {
			return journal.Head{}, err
		}
		e.At, e.Actor = t.At, t.actor
		if last, err = t.link(e, last); err != nil {
			return journal.Head{}, err
		}
	}
	return last.Head(), nil
}

// ActAs lets the change be recorded in the name of someone who vouches for it.
func (t *Tx) ActAs(actor string, vouch func([]journal.Entry) (journal.Entry, error)) {
	t.actor, t.vouch = actor, vouch
}

// timely refuses a change by a clock that is behind the records, but for the entry
// that says that the records are ahead.
func (t *Tx) timely(entries []journal.Entry, latest time.Time) error {
	if len(entries) == 1 && entries[0].Act == journal.ClockAct {
		_, err := t.Exec("INSERT INTO meta (key, value) SELECT 'clock', CAST(coalesce(max(seq),0)+1 AS TEXT) FROM " +
			"journal " +
			"WHERE true ON CONFLICT (key) DO UPDATE SET value = excluded.value")
		return err
	}
	if t.At.Before(latest.Add(-time.Second)) {
		return &store.BehindError{Now: t.At, Latest: latest}
	}
	return nil
}

// Context is the context of the act.
func (t *Tx) Context() context.Context { return t.Ctx }
