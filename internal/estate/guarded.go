package estate

import (
	"context"

	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/pki/key"
)

// guarded opens keys only for those who may record what is done with them: an act that is refused when it is recorded
// asks for no passphrase, and signs nothing before.
type guarded struct {
	keystore.Keystore
	e *Estate
}

// actsOf is the least act for each purpose of a key.
var actsOf = map[keystore.Purpose]event.Event{keystore.ForCertificate: event.Signed{},
	keystore.ForList: event.ListsSigned{}, keystore.ForOwnRequest: event.Applied{},
	keystore.ForPassphrase: event.PassphraseChanged{}, keystore.ForMove: event.KeyHeld{}}

func (g guarded) allowed(ctx context.Context, purpose keystore.Purpose) error {
	if act := actsOf[purpose]; act != nil {
		return g.e.Allowed(ctx, act.Act())
	}
	return nil
}

// Open implements keystore.Keystore.
func (g guarded) Open(ctx context.Context, public key.Public, handle string, purpose keystore.Purpose) (keystore.Opened,
	error) {
	if err := g.allowed(ctx, purpose); err != nil {
		return nil, err
	}
	return g.Keystore.Open(ctx, public, handle, purpose)
}

// Ahead implements keystore.Keystore.
func (g guarded) Ahead(ctx context.Context, public key.Public, handle string, purpose keystore.Purpose) error {
	if err := g.allowed(ctx, purpose); err != nil {
		return err
	}
	return g.Keystore.Ahead(ctx, public, handle, purpose)
}
