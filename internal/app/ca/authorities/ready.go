package authorities

import (
	"context"
	"fmt"

	"ironseal/internal/estate"
	"ironseal/internal/keystore"
)

// Ready opens the keys that making an authority needs, and has the passphrase of its new key
// chosen, before its sheet is shown. Of what is refused nothing is asked.
func Ready(ctx context.Context, e *estate.Estate, p Planned) error {
	if len(p.Plan.Findings.Refusing()) > 0 {
		return nil
	}
	handle := p.Ask.Handle
	if above := p.in.Issuer; above != nil {
		if err := e.Keys.Ahead(ctx, above.Certificate.Key, above.Authority.Handle,
			keystore.ForCertificate); err != nil {
			return fmt.Errorf("authority %s: %w", handle, err)
		}
	}
	switch {
	case p.sameKey:
		return e.Keys.Ahead(ctx, p.renews.Certificate.Key, p.renews.Name(), keystore.ForOwnRequest)
	case p.linked():
		if err := e.Keys.Ahead(ctx, p.renews.Certificate.Key, p.renews.Name(), keystore.ForCertificate); err != nil {
			return fmt.Errorf("authority %s: %w", handle, err)
		}
	}
	if p.Ask.KeyIn != "" {
		return nil
	}
	return e.Keys.ChooseAhead(ctx, handle)
}

// Ready opens the key that vouches, before the sheet is shown.
func (c Crossing) Ready(ctx context.Context, e *estate.Estate) error {
	if len(c.Plan.Findings.Refusing()) > 0 {
		return nil
	}
	return e.Keys.Ahead(ctx, c.By.Certificate.Key, c.By.Authority.Handle, keystore.ForCertificate)
}
