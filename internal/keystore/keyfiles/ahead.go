package keyfiles

import (
	"context"
	"crypto"
	"fmt"

	"ironseal/internal/keystore"
	"ironseal/pki/key"
)

// What a person was asked before a review sheet was shown stays in this process alone: keys that are open, and
// passphrases that were chosen. Forget ends it.

// keepOpen keeps a key open for the next Open of it.
func (c *Files) keepOpen(signer crypto.Signer, public key.Public, handle string) (keystore.Opened, error) {
	if err := checked(signer, public, handle); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.open == nil {
		c.open = map[[32]byte]crypto.Signer{}
	}
	c.open[public.Fingerprint()] = signer
	return &opened{files: c, identity: public}, nil
}

// Ahead opens a key now. So a wrong passphrase, or one that no one can give, is reported before a person reads a long
// sheet.
func (c *Files) Ahead(ctx context.Context, public key.Public, handle string, purpose keystore.Purpose) error {
	_, err := c.Open(ctx, public, handle, purpose)
	return err
}

// Choose asks for the passphrase of a new key.
func (c *Files) Choose(ctx context.Context, handle string) ([]byte, error) {
	c.mu.Lock()
	secret := c.chosen[handle]
	delete(c.chosen, handle)
	c.mu.Unlock()
	if secret != nil {
		return secret, nil
	}
	secret, _, err := c.Pass.Passphrase(ctx, keystore.Question{Handle: handle, New: true})
	if err != nil {
		return nil, fmt.Errorf("passphrase for %s: %w", handle, err)
	}
	if len(secret) == 0 {
		return nil, fmt.Errorf("passphrase for %s: it is empty, and protects nothing: choose one", handle)
	}
	return secret, nil
}

// ChooseAhead asks for the passphrase of a new key now, for the next Choose of this handle.
func (c *Files) ChooseAhead(ctx context.Context, handle string) error {
	secret, err := c.Choose(ctx, handle)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.chosen == nil {
		c.chosen = map[string][]byte{}
	}
	c.chosen[handle] = secret
	return nil
}

// Forget closes the keys that were opened, and clears the passphrases.
func (c *Files) Forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, secret := range c.chosen {
		clear(secret)
	}
	clear(c.open)
	clear(c.chosen)
}
