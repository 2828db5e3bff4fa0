package keystore

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/pem"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"ironseal/internal/disk"
	"ironseal/pki/bundle"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
)

// ForPassphrase and ForCheck are why a key's file is opened when nothing is signed.
const (
	ForPassphrase Purpose = "to change it"
	ForCheck      Purpose = "to check it"
)

// Rewrapped is a key that was encrypted again under another passphrase and is not in its file yet.
type Rewrapped struct {
	Public  key.Public
	Handle  string
	Already bool // its file opens with the new passphrase: an earlier change was cut off
	was, is []byte
}

// SHA256 is the digest of the file as it will be.
func (r *Rewrapped) SHA256() [32]byte { return sha256.Sum256(r.is) }

// Rewrap opens a key and encrypts it under another passphrase, at today's cost. What it wrote is opened
// again before it is returned. Secrets that opened a key before are tried first; the one that opens this
// key is returned with it, to be cleared by the caller.
func (c *Custody) Rewrap(ctx context.Context, public key.Public, handle string, secret []byte,
	before [][]byte) (*Rewrapped, []byte, error) {
	out := &Rewrapped{Public: public, Handle: handle}
	var err error
	if out.was, err = disk.Read(c.path(public), 1<<20); err != nil {
		return nil, nil, fmt.Errorf("key of %s: %w: restore it from a backup", handle, err)
	}
	block, _ := pem.Decode(out.was)
	if block == nil {
		return nil, nil, fmt.Errorf("key of %s: %s is no encrypted key: restore it from a backup", handle,
			c.path(public))
	}
	for _, known := range before {
		if signer, err := pbes.Open(block.Bytes, known); err == nil {
			return c.wrapped(out, &Opened{signer: signer}, secret, bytes.Clone(known))
		}
	}
	for attempt := 1; ; attempt++ {
		old, final, err := c.Pass.Passphrase(ctx, Question{Handle: handle, Purpose: ForPassphrase, Again: attempt > 1})
		if err != nil {
			return nil, nil, fmt.Errorf("passphrase for %s: %w", handle, err)
		}
		signer, err := pbes.Open(block.Bytes, old)
		switch {
		case err == nil:
			return c.wrapped(out, &Opened{signer: signer}, secret, old)
		case !errors.Is(err, pbes.ErrPassphrase):
			return nil, nil, fmt.Errorf("key of %s: %w", handle, err)
		}
		if _, newErr := pbes.Open(block.Bytes, secret); newErr == nil {
			out.Already, out.is = true, out.was
			return out, old, nil
		}
		if clear(old); final || attempt == tries {
			return nil, nil, fmt.Errorf("key of %s: %w: nothing was changed", handle, err)
		}
		select {
		case <-ctx.Done():
			return nil, nil, context.Cause(ctx)
		case <-time.After(300 * time.Millisecond): // slows guessing at a terminal
		}
	}
}

func (c *Custody) wrapped(out *Rewrapped, o *Opened, secret, old []byte) (*Rewrapped, []byte, error) {
	defer o.Close()
	if _, err := checked(o.signer, out.Public, out.Handle); err != nil {
		return nil, nil, err
	}
	der, err := pbes.Seal(o.signer, secret, c.Work, c.Random)
	if err != nil {
		return nil, nil, err
	}
	again, err := pbes.Open(der, secret)
	if err == nil {
		_, err = checked(again, out.Public, out.Handle)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("key of %s: the newly encrypted key does not open: nothing was changed: %w",
			out.Handle, err)
	}
	out.is = bundle.PEM(bundle.SealedKey, der)
	return out, old, nil
}

// Put replaces the key's file, in one step, by what was encrypted again. A file that is not the one that
// was read is left alone.
func (c *Custody) Put(r *Rewrapped) error {
	now, err := disk.Read(c.path(r.Public), 1<<20)
	switch {
	case err != nil:
		return fmt.Errorf("key of %s: %w", r.Handle, err)
	case bytes.Equal(now, r.is):
		return nil
	case !bytes.Equal(now, r.was):
		return fmt.Errorf("key of %s: another program changed its file meanwhile: %w", r.Handle, ErrKeyChanged)
	}
	if err := c.Disk.Replace(c.path(r.Public), r.is, 0o600); err != nil {
		return fmt.Errorf("key of %s: %w", r.Handle, err)
	}
	return nil
}

// ErrKeyChanged says that a key's file is not what it was when it was read.
var ErrKeyChanged = errors.New("nothing was changed")

// FileSHA256 is the digest of a key's file as it is, in hex; "" where there is none. The key is named by
// its fingerprint in hex.
func (c *Custody) FileSHA256(fingerprint string) string {
	data, err := disk.Read(filepath.Join(c.Dir, filepath.Base(fingerprint)+".key"), 1<<20)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("%x", sha256.Sum256(data))
}
