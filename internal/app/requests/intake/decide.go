package intake

import (
	"context"
	"errors"
	"fmt"
	"os"

	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
)

// Decided is the outcome of a request that was declined or withdrawn.
type Decided struct {
	Record    store.Request
	Head      journal.Head
	Destroyed string // the key file of our own draft that was destroyed, or ""
	Kept      string // why the key file of our own draft was left alone, or ""
}

// Decide declines or withdraws a waiting request. When a draft of ours is
// withdrawn, its key is destroyed, unless it is to be kept. What was withdrawn and
// whose key is still there, because the act was cut off, is finished.
func Decide(ctx context.Context, e *estate.Estate, name string, state lifecycle.RequestState, reason string,
	keepKey bool) (Decided, error) {
	var out Decided
	rec, r, err := e.Request(ctx, name)
	if err != nil {
		return out, err
	}
	file := ""
	if state == lifecycle.Withdrawn {
		if file, _, err = e.Records.DraftKey(ctx, r.Key.Fingerprint()); err != nil {
			return out, err
		}
	}
	if rec.State != lifecycle.Withdrawn || state != lifecycle.Withdrawn || file == "" {
		if out.Head, err = decided(ctx, e, rec, r, state, reason, file, keepKey); err != nil {
			return out, err
		}
	}
	if file != "" && !keepKey {
		if err := destroyDraft(ctx, e, &out, rec, r, file); err != nil {
			return out, err
		}
	}
	out.Record, err = e.Records.Request(ctx, rec.Number)
	return out, err
}

// decided records the decision. A key that is to be destroyed stays on record until
// it is, so that an act that is cut off can be finished.
func decided(ctx context.Context, e *estate.Estate, rec store.Request, r *request.Request,
	state lifecycle.RequestState, reason, file string,
	keepKey bool) (journal.Head, error) {

	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		if err := tx.SetState(rec.Number, state, reason); err != nil {
			return nil, err
		}
		about := fmt.Sprintf("R%d", rec.Number)
		switch {
		case state == lifecycle.Declined:
			return []event.Record{event.On(about, event.Declined{Because: reason})}, nil
		case file == "":
			return []event.Record{event.On(about, event.Withdrawn{Because: reason})}, nil
		case keepKey:
			return []event.Record{event.On(about, event.Withdrawn{Because: reason, KeyKept: file,
				Key: fmt.Sprintf("%x", r.Key.Fingerprint())})}, tx.DropDraft(r.Key.Fingerprint())
		}
		return []event.Record{event.On(about, event.Withdrawn{Because: reason, ToBeRemoved: file})}, nil
	})
}

// destroyDraft destroys the key of a withdrawn draft: the file is opened first, and
// goes only if it holds that very key. Whatever else lies there is another's.
func destroyDraft(ctx context.Context, e *estate.Estate, out *Decided, rec store.Request, r *request.Request,
	file string) error {
	if _, err := os.Lstat(file); errors.Is(err, os.ErrNotExist) {
		out.Kept = file + " is not there any more: if it was moved, delete it where it is"
	} else if err := holdsKey(ctx, e, file, r); err != nil {
		out.Kept = err.Error()
		return halfWithdrawn(rec.Number, "its key was not destroyed", err)
	} else if err := e.Env.Disk.Remove(file); err != nil {
		return halfWithdrawn(rec.Number, "its key is still there", err)
	} else {
		out.Destroyed = file
	}
	var err error
	out.Head, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		return []event.Record{event.On(fmt.Sprintf("R%d", rec.Number), event.DraftKeyDestroyed{File: file,
				Destroyed: out.Destroyed != "", Key: fmt.Sprintf("%x", r.Key.Fingerprint())})}, tx.DropDraft(r.Key.
				Fingerprint())
	})
	return err
}

func holdsKey(ctx context.Context, e *estate.Estate, file string, r *request.Request) error {
	signer, err := delivery.OpenKeyFile(ctx, file, r.Title(), e.Env.Pass)
	if err != nil {
		return err
	}
	pub, err := key.Of(signer)
	if err != nil {
		return err
	}
	if !key.Same(pub, r.Key) {
		return fmt.Errorf("%s holds another key than the request's, and stays", file)
	}
	return nil
}

// halfWithdrawn says that a request was withdrawn, and that its key was not destroyed.
func halfWithdrawn(number int64, what string, err error) error {
	return fault.New(fault.KindOf(err), "R%d is withdrawn, and %s: %w", number, what, err).
		On(fault.Request.Named("R%d", number)).Then(advice.To("finish it", advice.WithdrawRequest,
		"request", fmt.Sprintf("R%d", number), "because", advice.Asked))
}
