package estate

import (
	"context"

	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/journal"
)

// Identity is who acts, and how that is known.
type Identity struct {
	Name  string
	Known string // such as ByLogin; the journal tells it where it is anything else
}

// ByLogin says that someone is who the operating system says.
const ByLogin = "login"

// As is the estate as another person acts on it: every act is given an estate, and with
// it who acts, so that one process can serve several.
func (e *Estate) As(who Identity) *Estate {
	theirs := *e
	theirs.Env.Actor = who
	theirs.Env = theirs.Env.Filled()
	return &theirs
}

// InTx is the estate as a change sees it, for what has to be asked again inside an act, when no one
// else can write.
func (e *Estate) InTx(tx store.Tx) *Estate {
	snapshot := *e
	snapshot.Records = tx.Reads()
	return &snapshot
}

// Act runs one change of the records, in the name of the one who acts. The events that fn returns become entries
// of the journal, in the same transaction.
func (e *Estate) Act(ctx context.Context, fn func(store.Tx) ([]event.Record, error)) (journal.Head, error) {
	w := e.Env
	w.Approvals = e.approvals()
	return actOn(ctx, e.Records, w, fn, e.written)
}

// ActOn is Act for records that are not those of an open estate, such as those of a backup.
func ActOn(ctx context.Context, s store.Store, w Env, fn func(store.Tx) ([]event.Record, error)) (journal.Head,
	error) {
	return actOn(ctx, s, w, fn, func(context.Context, store.Tx, []event.Record) ([]event.Record,
		error) {
		return nil, nil
	})
}

// actOn is ActOn with what else is recorded with certain records, which no one has to agree to once they agreed to
// those.
func actOn(ctx context.Context, s store.Store, w Env, fn func(store.Tx) ([]event.Record, error),
	also func(context.Context, store.Tx, []event.Record) ([]event.Record, error)) (journal.Head, error) {
	w = w.Filled()
	// A change that has begun is finished even when the person presses Ctrl-C.
	head, err := s.Act(context.WithoutCancel(ctx), w.Now, w.Actor.Name, func() error { return w.Step(StepRecording) },
		func(tx store.Tx) ([]journal.Entry, error) {
			who, err := speaker(ctx, tx, w)
			if err != nil {
				return nil, err
			}
			records, err := fn(tx)
			if err != nil {
				return nil, err
			}
			more, err := who.may(ctx, tx, w, records)
			if err != nil {
				return nil, err
			}
			files, err := also(ctx, tx, records)
			if err != nil {
				return nil, err
			}
			return entries(append(append(records, files...), more...), w.Actor)
		})
	if err == nil && w.Approved != nil {
		w.Approved.done = true
	}
	return head, err
}

// entries are records as the journal keeps them.
func entries(records []event.Record, who Identity) (out []journal.Entry, err error) {
	knownBy := who.Known
	if knownBy == ByLogin {
		knownBy = ""
	}
	for _, r := range records {
		en, err := r.Entry(knownBy)
		if err != nil {
			return nil, err
		}
		out = append(out, en)
	}
	return out, nil
}
