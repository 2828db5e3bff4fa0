// Package keyfiles keeps private keys in files that a passphrase opens.
//
// A file is named by the fingerprint of the key's public side, one a key, and never overwritten. A key that was opened
// serves until the estate is closed: deriving the key of a passphrase costs as much as the settings ask for, and one
// command may sign many times.
package keyfiles

import (
	"context"
	"crypto"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/keystore"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/fault"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
)

// Files is a directory of key files. It is a keystore.Keystore.
type Files struct {
	Dir    string
	Disk   disk.Disk
	Random io.Reader
	Work   pbes.Work
	Pass   keystore.Passphrases
	Shelf  Shelf // where sealed files may be besides; nil for nowhere
	Shelve bool  // new files go there

	mu     sync.Mutex
	open   map[[32]byte]crypto.Signer // keys that were opened, by fingerprint
	chosen map[string][]byte          // passphrases of new keys that were chosen ahead, by handle
}

var _ keystore.Keystore = (*Files)(nil)

// path is the file of a key in the directory.
func (c *Files) path(p key.Public) string { return filepath.Join(c.Dir, c.name(p)) }

// mostKey bounds the octets of a key file.
const mostKey = 1 << 20

// Make makes a key. It returns as soon as the context ends, and then nothing is
// kept of the key.
func (c *Files) Make(ctx context.Context, kind key.Kind) (*keystore.Fresh, error) {
	type result struct {
		signer crypto.Signer
		err    error
	}
	done := make(chan result, 1)
	go func() {
		s, err := key.Generate(kind, c.Random)
		done <- result{s, err}
	}()
	select {
	case <-ctx.Done():
		return nil, fmt.Errorf("making a key of kind %s: stopped; nothing was kept: %w", kind, context.Cause(ctx))
	case r := <-done:
		if r.err != nil {
			return nil, fmt.Errorf("making a key of kind %s: %w", kind, r.err)
		}
		fresh, err := keystore.FreshOf(r.signer)
		if err != nil {
			return nil, fmt.Errorf("making a key of kind %s: %w", kind, err)
		}
		return fresh, nil
	}
}

// At implements keystore.Keystore: all keys of files are made here.
func (c *Files) At(_ context.Context, place string) (*keystore.Fresh, error) {
	return nil, fault.New(fault.BadInput, "%q is no place of a key: it looks like agent:SHA256:...", place)
}

// Keep encrypts a new key and writes it to its file. It returns when the file is
// safely on disk.
func (c *Files) Keep(f *keystore.Fresh, passphrase []byte) error {
	der, err := pbes.Encrypt(f.Signer(), passphrase, c.Work, c.Random)
	if err != nil {
		return err
	}
	if err := c.add(c.name(f.Public), bundle.PEM(bundle.EncryptedKey, der)); err != nil {
		return fmt.Errorf("keeping a key: %w", err)
	}
	return nil
}

// ToAgent implements keystore.Keystore.
func (c *Files) ToAgent(context.Context, key.Public, string, bool) error {
	return fault.New(fault.Unavailable, "files know no SSH agent")
}

// SetAside moves a key's file in the directory into a folder, and the note of who has its shares after it.
func (c *Files) SetAside(public key.Public, folder string) (string, error) {
	if _, err := disk.Read(c.path(public), mostKey); err != nil {
		return "", nil // it does not exist
	}
	if err := disk.OwnDir(folder); err != nil {
		return "", err
	}
	to := filepath.Join(folder, c.name(public))
	if err := disk.Rename(c.path(public), to); err != nil {
		return "", err
	}
	names, err := c.notes(fmt.Sprintf("%x", public.Fingerprint()), false)
	if err != nil {
		return "", err
	}
	for _, n := range names {
		if err := disk.Rename(filepath.Join(c.Dir, n), filepath.Join(folder, n)); err != nil {
			return "", err
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.open, public.Fingerprint())
	return to, nil
}

// Private opens a key, and gives the private key itself, for another keystore to hold. It stays within this layer.
func (c *Files) Private(ctx context.Context, public key.Public, handle string) (crypto.Signer, error) {
	o, err := c.Open(ctx, public, handle, keystore.ForMove)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	return c.signer(public), nil
}

// Has reports whether the key's file is there.
func (c *Files) Has(public key.Public) bool {
	_, _, err := c.load(c.name(public))
	return err == nil
}

// Remove deletes the file of a key that was kept and never recorded.
func (c *Files) Remove(f *keystore.Fresh) error { return c.drop(c.name(f.Public)) }

// Destroy removes a key permanently.
func (c *Files) Destroy(public key.Public) error {
	c.mu.Lock()
	delete(c.open, public.Fingerprint())
	c.mu.Unlock()
	if c.Shelf != nil {
		if err := c.OffShelf(public); err != nil {
			return err
		}
		if _, err := disk.Read(c.path(public), mostKey); err != nil {
			return nil // it was on the shelf alone
		}
	}
	return c.Disk.Remove(c.path(public))
}

// opened is one use of a key. The private key itself is in Files alone, so that Forget ends every use.
type opened struct {
	files    *Files
	identity key.Public
	closed   atomic.Bool
}

// Identity is the public side of the key.
func (o *opened) Identity() key.Public { return o.identity }

// Public implements crypto.Signer.
func (o *opened) Public() crypto.PublicKey { return o.identity.Key }

// Sign implements crypto.Signer.
func (o *opened) Sign(random io.Reader, digest []byte, opts crypto.SignerOpts) ([]byte, error) {
	signer := o.files.signer(o.identity)
	if signer == nil || o.closed.Load() {
		return nil, fault.New(fault.Internal, "the key is closed")
	}
	return signer.Sign(random, digest, opts)
}

// Close ends the use of the key.
func (o *opened) Close() { o.closed.Store(true) }

// signer is the private key that was opened; nil where it was not.
func (c *Files) signer(public key.Public) crypto.Signer {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.open[public.Fingerprint()]
}

// Open opens the key with this public side for one purpose. A key that was opened before needs no passphrase.
func (c *Files) Open(ctx context.Context, public key.Public, handle string, purpose keystore.Purpose) (keystore.Opened,
	error) {
	if c.signer(public) != nil {
		return &opened{files: c, identity: public}, nil
	}
	block, data, _, err := c.read(public, handle)
	if err != nil {
		return nil, err
	}
	shares, err := c.sharesOf(public, data)
	if err != nil {
		return nil, fmt.Errorf("key of %s: %w", handle, err)
	}
	for attempt := 1; ; attempt++ {
		secret, final, err := c.Pass.Passphrase(ctx, keystore.Question{Handle: handle, Purpose: purpose,
			Again: attempt > 1, Shares: shares})
		if err != nil && shares != nil {
			return nil, fmt.Errorf("key of %w", err) // it names the key, and who is missing
		}
		if err != nil {
			return nil, fmt.Errorf("passphrase for %s: %w", handle, err)
		}
		signer, err := pbes.Decrypt(block.Bytes, secret)
		clear(secret)
		switch {
		case err == nil:
			return c.keepOpen(signer, public, handle)
		case !errors.Is(err, pbes.ErrPassphrase):
			return nil, fmt.Errorf("key of %s: %w", handle, err)
		case final || attempt == keystore.Tries:
			return nil, fmt.Errorf("key of %s: %w: nothing was signed", handle, err)
		}
		if err := pause(ctx); err != nil {
			return nil, err
		}
	}
}

// pause slows guessing at a terminal.
func pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(300 * time.Millisecond):
		return nil
	}
}

// read reads a key's file, and says whether it is on the shelf.
func (c *Files) read(public key.Public, handle string) (*pem.Block, []byte, bool, error) {
	fail := func(err error) (*pem.Block, []byte, bool, error) {
		return nil, nil, false, fault.New(fault.Unavailable, "key of %s: %w", handle, err).
			On(fault.Key.Named("%s", handle)).Then(advice.To("restore it from a backup", advice.RestoreEstate))
	}
	data, shelved, err := c.load(c.name(public))
	if err != nil {
		return fail(err)
	}
	block, _ := pem.Decode(data)
	if block == nil {
		return fail(fmt.Errorf("%s is no encrypted key", c.name(public)))
	}
	return block, data, shelved, nil
}

// checked refuses a file that holds another key than its name says.
func checked(signer crypto.Signer, public key.Public, handle string) error {
	pub, err := key.Of(signer)
	if err != nil {
		return fmt.Errorf("key of %s: %w", handle, err)
	}
	if !key.Same(pub, public) {
		return fault.New(fault.Internal, "key of %s: the file holds another key than its name says", handle).
			On(fault.Key.Named("%s", handle))
	}
	return nil
}
