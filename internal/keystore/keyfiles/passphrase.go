package keyfiles

import (
	"bytes"
	"context"
	"crypto"
	"crypto/sha256"
	"errors"
	"fmt"
	"path/filepath"

	"ironseal/internal/disk"
	"ironseal/internal/keystore"
	"ironseal/pki/bundle"
	"ironseal/pki/fault"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
)

// rewrapped is a key that was encrypted again under another passphrase and is not in its file yet.
type rewrapped struct {
	public  key.Public
	handle  string
	already bool // its file opens with the new passphrase: an earlier change was cut off
	shelved bool // its file is on the shelf
	was, is []byte
}

// Fingerprint is that of the public side.
func (r *rewrapped) Fingerprint() [32]byte { return r.public.Fingerprint() }

// Already reports whether the file opens with the new passphrase.
func (r *rewrapped) Already() bool { return r.already }

// SHA256 is the digest of the file as it will be.
func (r *rewrapped) SHA256() [32]byte { return sha256.Sum256(r.is) }

// Rewrap opens a key and encrypts it under another passphrase, at today's cost. What it wrote is opened
// again before it is returned. Secrets that opened a key before are tried first; the one that opens this
// key is returned with it, to be cleared by the caller.
func (c *Files) Rewrap(ctx context.Context, public key.Public, handle string, secret []byte,
	before [][]byte) (keystore.Rewrapped, []byte, error) {
	out := &rewrapped{public: public, handle: handle}
	block, data, shelved, err := c.read(public, handle)
	if err != nil {
		return nil, nil, err
	}
	out.was, out.shelved = data, shelved
	for _, known := range before {
		if signer, err := pbes.Decrypt(block.Bytes, known); err == nil {
			return c.wrapped(out, signer, secret, bytes.Clone(known))
		}
	}
	shares, err := c.sharesOf(public, data)
	if err != nil {
		return nil, nil, fmt.Errorf("key of %s: %w", handle, err)
	}
	for attempt := 1; ; attempt++ {
		old, final, err := c.Pass.Passphrase(ctx, keystore.Question{Handle: handle, Purpose: keystore.ForPassphrase,
			Again: attempt > 1, Shares: shares})
		if err != nil {
			return nil, nil, fmt.Errorf("passphrase for %s: %w", handle, err)
		}
		signer, err := pbes.Decrypt(block.Bytes, old)
		switch {
		case err == nil:
			return c.wrapped(out, signer, secret, old)
		case !errors.Is(err, pbes.ErrPassphrase):
			return nil, nil, fmt.Errorf("key of %s: %w", handle, err)
		}
		if _, newErr := pbes.Decrypt(block.Bytes, secret); newErr == nil {
			out.already, out.is = true, out.was
			return out, old, nil
		}
		if clear(old); final || attempt == keystore.Tries {
			return nil, nil, fmt.Errorf("key of %s: %w: nothing was changed", handle, err)
		}
		if err := pause(ctx); err != nil {
			return nil, nil, err
		}
	}
}

func (c *Files) wrapped(out *rewrapped, signer crypto.Signer, secret, old []byte) (keystore.Rewrapped, []byte, error) {
	if err := checked(signer, out.public, out.handle); err != nil {
		return nil, nil, err
	}
	der, err := pbes.Encrypt(signer, secret, c.Work, c.Random)
	if err != nil {
		return nil, nil, err
	}
	again, err := pbes.Decrypt(der, secret)
	if err == nil {
		err = checked(again, out.public, out.handle)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("key of %s: the newly encrypted key does not open: nothing was changed: %w",
			out.handle, err)
	}
	out.is = bundle.PEM(bundle.EncryptedKey, der)
	return out, old, nil
}

// Put replaces the key's file, in one step, by what was encrypted again. A file that is not the one that
// was read is left alone.
func (c *Files) Put(r keystore.Rewrapped, in keystore.Change) error {
	w, ours := r.(*rewrapped)
	if !ours {
		return fault.New(fault.Internal, "the key was encrypted by another key store")
	}
	if w.shelved {
		return c.putShelved(w, in)
	}
	now, err := disk.Read(c.path(w.public), mostKey)
	switch {
	case err != nil:
		return fmt.Errorf("key of %s: %w", w.handle, err)
	case bytes.Equal(now, w.is):
		return nil
	case !bytes.Equal(now, w.was):
		return fault.New(fault.Changed, "key of %s: another program changed its file meanwhile: nothing was changed",
			w.handle).On(fault.Key.Named("%s", w.handle))
	}
	if err := c.Disk.Replace(c.path(w.public), w.is, 0o600); err != nil {
		return fmt.Errorf("key of %s: %w", w.handle, err)
	}
	return c.dropNotes(w)
}

// putShelved replaces a key's file on the shelf, in the change that records it.
func (c *Files) putShelved(w *rewrapped, in keystore.Change) error {
	print := fmt.Sprintf("%x", w.Fingerprint())
	if !bytes.Equal(w.was, w.is) {
		if err := in.PutSealed(c.name(w.public), w.was, w.is); err != nil {
			return fmt.Errorf("key of %s: %w", w.handle, err)
		}
	}
	names, err := c.notes(print, true)
	if err != nil {
		return err
	}
	keep := note(print, fmt.Sprintf("%x", w.SHA256()))
	for _, n := range names {
		if n == keep {
			continue
		}
		data, err := c.Shelf.Sealed(context.Background(), n)
		if err == nil {
			err = in.PutSealed(n, data, nil)
		}
		if err != nil && !errors.Is(err, fault.NotFound) {
			return err
		}
	}
	return nil
}

// StoredSHA256 is the digest of a key's file as it is, in hex; "" if none exists. The key is named by
// its fingerprint in hex.
func (c *Files) StoredSHA256(fingerprint string) string {
	data, _, err := c.load(filepath.Base(fingerprint) + ".key")
	if err != nil {
		return ""
	}
	return fmt.Sprintf("%x", sha256.Sum256(data))
}
