package authorities

import (
	"context"
	"errors"
	"fmt"

	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/key"
)

// NewKey makes a key for an authority, and the passphrase that is to protect it; or finds the one that is held where in
// says, which has none.
func NewKey(ctx context.Context, e *estate.Estate, handle string, kind key.Kind, in string) (*keystore.Fresh, []byte,
	error) {
	if in != "" {
		fresh, err := e.Keys.At(ctx, in)
		if err == nil && e.Keys.Has(fresh.Public) {
			err = usedAlready(ctx, e, fresh.Public)
		}
		return fresh, nil, err
	}
	secret, err := e.Keys.Choose(ctx, handle)
	if err != nil {
		return nil, nil, err
	}
	done := func() {}
	if kind.Family() == "rsa" { // the others take no time
		done = e.Env.Progress(fmt.Sprintf("making a key of kind %s for %s", kind, handle))
	}
	fresh, err := e.Keys.Make(ctx, kind)
	done()
	if err != nil {
		clear(secret)
		return nil, nil, fmt.Errorf("authority %s: %w", handle, err)
	}
	return fresh, secret, nil
}

// usedAlready refuses a key that is an authority's: it would be renewed with the same key, or vouch for itself.
func usedAlready(ctx context.Context, e *estate.Estate, k key.Public) error {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return err
	}
	if a := h.KeyTaken(k); a != nil {
		return fault.New(fault.Refused, "the key is that of the authority %s", a.Handle)
	}
	return nil
}

// kindAsked is the kind of an authority's key: that of the one which is held elsewhere, or the usual one.
func kindAsked(ctx context.Context, e *estate.Estate, usual key.Kind, ask Ask) (key.Kind, error) {
	if ask.KeyIn == "" {
		return usual, nil
	}
	fresh, err := e.Keys.At(ctx, ask.KeyIn)
	if err != nil {
		return "", err
	}
	if ask.Key != "" && ask.Key != fresh.Public.Kind {
		return "", fault.New(fault.BadInput, "the key in %s is of the kind %s, and %s was asked for", ask.KeyIn,
			fresh.Public.Kind, ask.Key)
	}
	return fresh.Public.Kind, nil
}

// DiscardKey removes a new key after an act that failed. Where it is not certain that
// it failed, the key may be on record, and stays.
func DiscardKey(e *estate.Estate, why error, fresh *keystore.Fresh) error {
	if errors.Is(why, store.ErrUncertain) {
		return nil
	}
	return e.Keys.Remove(fresh)
}

// CheckKey refuses to record an authority whose key file is not on disk: it may have
// been moved away between the making and the recording.
func CheckKey(e *estate.Estate, handle string, k key.Public) error {
	if !e.Keys.Has(k) {
		return fmt.Errorf("authority %s: its key file is gone; nothing was recorded", handle)
	}
	return nil
}
