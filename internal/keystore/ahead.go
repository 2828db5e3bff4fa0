package keystore

import (
	"context"
	"sync"

	"ironseal/pki/key"
)

// ahead is what was asked of a person before a review sheet was shown: keys that are open, and
// passphrases that were chosen. Each serves once, in this process alone.
type ahead struct {
	mu     sync.Mutex
	opened map[[32]byte]*Opened
	chosen map[string][]byte
}

// Ahead opens a key now, and keeps it open for the next Open of it. So a wrong passphrase, or one
// that nobody can give, is told before a person reads a long sheet.
func (c *Custody) Ahead(ctx context.Context, public key.Public, handle string, purpose Purpose) error {
	c.ahead.mu.Lock()
	waits := c.ahead.opened[public.Fingerprint()] != nil
	c.ahead.mu.Unlock()
	if waits {
		return nil
	}
	o, err := c.Open(ctx, public, handle, purpose)
	if err != nil {
		return err
	}
	c.ahead.mu.Lock()
	defer c.ahead.mu.Unlock()
	if c.ahead.opened == nil {
		c.ahead.opened = map[[32]byte]*Opened{}
	}
	c.ahead.opened[public.Fingerprint()] = o
	return nil
}

// ChooseAhead asks for the passphrase of a new key now, for the next Choose of this handle.
func (c *Custody) ChooseAhead(ctx context.Context, handle string) error {
	secret, err := c.Choose(ctx, handle)
	if err != nil {
		return err
	}
	c.ahead.mu.Lock()
	defer c.ahead.mu.Unlock()
	if c.ahead.chosen == nil {
		c.ahead.chosen = map[string][]byte{}
	}
	clear(c.ahead.chosen[handle])
	c.ahead.chosen[handle] = secret
	return nil
}

// Forget closes the keys that were opened ahead and were not used, and clears the passphrases.
func (c *Custody) Forget() {
	c.ahead.mu.Lock()
	defer c.ahead.mu.Unlock()
	for _, o := range c.ahead.opened {
		o.Close()
	}
	for _, secret := range c.ahead.chosen {
		clear(secret)
	}
	clear(c.ahead.opened)
	clear(c.ahead.chosen)
}

// waiting takes the key that was opened ahead, nil for none.
func (c *Custody) waiting(public key.Public) *Opened {
	c.ahead.mu.Lock()
	defer c.ahead.mu.Unlock()
	o := c.ahead.opened[public.Fingerprint()]
	delete(c.ahead.opened, public.Fingerprint())
	return o
}

// answered takes the passphrase that was chosen ahead, nil for none.
func (c *Custody) answered(handle string) []byte {
	c.ahead.mu.Lock()
	defer c.ahead.mu.Unlock()
	secret := c.ahead.chosen[handle]
	delete(c.ahead.chosen, handle)
	return secret
}
