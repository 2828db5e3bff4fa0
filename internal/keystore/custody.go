// Package keystore keeps private keys. It is the only package that yields a
// signer for a key that is kept.
//
// Keys lie sealed in files named by the fingerprint of their public side, one a
// key, never overwritten. A key is opened as late and as briefly as possible,
// for one stated purpose, and closed again. Passphrases come from files or from
// the terminal device; they are never arguments, never logged, and cleared from
// memory after use.
package keystore

import (
	"bytes"
	"context"
	"crypto"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/text/unicode/norm"

	"ironseal/internal/disk"
	"ironseal/pki/bundle"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
)

// Purpose is what an authority's key is opened for.
type Purpose string

const (
	ForCertificate Purpose = "to sign a certificate"
	ForOwnRequest  Purpose = "to sign its own request"
	ForList        Purpose = "to sign a revocation list"
)

// Question asks for a passphrase.
type Question struct {
	Handle  string // whose key
	Purpose Purpose
	New     bool // the passphrase is being chosen: ask twice
	Again   bool // the one given before was wrong
}

// Passphrases answers questions. Final says that asking again would give the
// same answer, as with a file.
type Passphrases interface {
	Passphrase(ctx context.Context, q Question) (secret []byte, final bool, err error)
}

// Custody is the directory of sealed keys.
type Custody struct {
	Dir    string
	Disk   disk.Disk
	Random io.Reader
	Work   pbes.Work
	Pass   Passphrases

	ahead ahead
}

// tries is how often a person may mistype a passphrase.
const tries = 3

// Fresh is a key that was made and is not kept yet.
type Fresh struct {
	signer crypto.Signer
	Public key.Public
}

// Signer gives the new key's signer, for its own request and, for a root, its
// own certificate.
func (f *Fresh) Signer() crypto.Signer { return f.signer }

// Make makes a key. It returns as soon as the context ends, and then nothing is
// kept of the key.
func (c *Custody) Make(ctx context.Context, kind key.Kind) (*Fresh, error) {
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
		pub, err := key.Of(r.signer)
		if err != nil {
			return nil, fmt.Errorf("making a key of kind %s: %w", kind, err)
		}
		return &Fresh{r.signer, pub}, nil
	}
}

// Adopted is a key that was made elsewhere and is to be kept here.
func Adopted(signer crypto.Signer) (*Fresh, error) {
	pub, err := key.Of(signer)
	if err != nil {
		return nil, err
	}
	return &Fresh{signer, pub}, nil
}

// path is the file of a key.
func (c *Custody) path(p key.Public) string {
	sum := p.Fingerprint()
	return filepath.Join(c.Dir, fmt.Sprintf("%x.key", sum))
}

// Choose asks for the passphrase of a new key.
func (c *Custody) Choose(ctx context.Context, handle string) ([]byte, error) {
	if secret := c.answered(handle); secret != nil {
		return secret, nil
	}
	secret, _, err := c.Pass.Passphrase(ctx, Question{Handle: handle, New: true})
	if err != nil {
		return nil, fmt.Errorf("passphrase for %s: %w", handle, err)
	}
	if len(secret) == 0 {
		return nil, fmt.Errorf("passphrase for %s: it is empty, and protects nothing: choose one", handle)
	}
	return secret, nil
}

// Keep seals a new key and writes it to its file. It returns when the file is
// safely on disk.
func (c *Custody) Keep(f *Fresh, passphrase []byte) error {
	der, err := pbes.Seal(f.signer, passphrase, c.Work, c.Random)
	if err != nil {
		return err
	}
	if err := c.Disk.New(c.path(f.Public), bundle.PEM(bundle.SealedKey, der), 0o600); err != nil {
		return fmt.Errorf("keeping a key: %w", err)
	}
	return nil
}

// Opened is a key that is open.
type Opened struct {
	signer   crypto.Signer
	identity key.Public
}

// Identity is the public side of the key.
func (o *Opened) Identity() key.Public { return o.identity }

// Public and Sign make an opened key a crypto.Signer.
func (o *Opened) Public() crypto.PublicKey { return o.identity.Key }

// Sign signs a digest.
func (o *Opened) Sign(random io.Reader, digest []byte, opts crypto.SignerOpts) ([]byte, error) {
	if o.signer == nil {
		return nil, errors.New("the key is closed")
	}
	return o.signer.Sign(random, digest, opts)
}

// Close ends the use of the key.
func (o *Opened) Close() { o.signer = nil }

// Open opens the key with this public side for one purpose.
func (c *Custody) Open(ctx context.Context, public key.Public, handle string, purpose Purpose) (*Opened, error) {
	if o := c.waiting(public); o != nil {
		return o, nil
	}
	data, err := disk.Read(c.path(public), 1<<20)
	if err != nil {
		return nil, fmt.Errorf("key of %s: %w: restore it from a backup", handle, err)
	}
	block, _ := pem.Decode(data)
	if block == nil {
		return nil, fmt.Errorf("key of %s: %s is no sealed key: restore it from a backup", handle, c.path(public))
	}
	for attempt := 1; ; attempt++ {
		secret, final, err := c.Pass.Passphrase(ctx, Question{Handle: handle, Purpose: purpose, Again: attempt > 1})
		if err != nil {
			return nil, fmt.Errorf("passphrase for %s: %w", handle, err)
		}
		signer, err := pbes.Open(block.Bytes, secret)
		clear(secret)
		switch {
		case err == nil:
			return checked(signer, public, handle)
		case !errors.Is(err, pbes.ErrPassphrase):
			return nil, fmt.Errorf("key of %s: %w", handle, err)
		case final || attempt == tries:
			return nil, fmt.Errorf("key of %s: %w: nothing was signed", handle, err)
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(300 * time.Millisecond): // slows guessing at a terminal
		}
	}
}

func checked(signer crypto.Signer, public key.Public, handle string) (*Opened, error) {
	pub, err := key.Of(signer)
	if err != nil {
		return nil, fmt.Errorf("key of %s: %w", handle, err)
	}
	if !key.Same(pub, public) {
		return nil, fmt.Errorf("key of %s: the file holds another key than its name says", handle)
	}
	return &Opened{signer, pub}, nil
}

// OpenFile opens a private key that lies outside the estate, open or sealed: a
// draft's key, or one that somebody handed in. label names it in questions.
func OpenFile(ctx context.Context, der []byte, kind bundle.Kind, label string, pass Passphrases) (crypto.Signer,
	error) {
	if kind != bundle.SealedKey {
		return key.ReadPrivate(der)
	}
	for attempt := 1; ; attempt++ {
		secret, final, err := pass.Passphrase(ctx, Question{Handle: label, Purpose: "to open it", Again: attempt > 1})
		if err != nil {
			return nil, fmt.Errorf("passphrase for %s: %w", label, err)
		}
		signer, err := pbes.Open(der, secret)
		clear(secret)
		if err == nil || !errors.Is(err, pbes.ErrPassphrase) || final || attempt == tries {
			return signer, err
		}
	}
}

// Has reports whether the key's file is there.
func (c *Custody) Has(public key.Public) bool {
	_, err := disk.Read(c.path(public), 1<<20)
	return err == nil
}

// Remove deletes the file of a key that was kept and never recorded.
func (c *Custody) Remove(f *Fresh) error { return c.Disk.Remove(c.path(f.Public)) }

// Destroy removes a key for good.
func (c *Custody) Destroy(public key.Public) error { return c.Disk.Remove(c.path(public)) }

// ReadPassphraseFile reads a passphrase from a file: one trailing newline is
// dropped, and the text is brought to the form NFC, so that the same words typed
// on another keyboard are the same passphrase. An empty one is refused.
func ReadPassphraseFile(path string) ([]byte, error) {
	data, err := disk.Read(path, 64<<10)
	if err != nil {
		return nil, fmt.Errorf("passphrase file: %w", err)
	}
	secret := Canonical(data)
	clear(data)
	if len(secret) == 0 {
		return nil, fmt.Errorf("passphrase file %s: it is empty, and an empty passphrase protects nothing: write "+
			"one into it", path)
	}
	return secret, nil
}

// Weakness says why a new passphrase would be found by whoever has the file that it seals;
// "" when nothing speaks against it. It is reported, and refuses nothing.
func Weakness(secret []byte) string {
	const short = 12
	different := map[rune]bool{}
	n := 0
	for _, r := range string(secret) {
		different[r] = true
		n++
	}
	switch {
	case n < short:
		return fmt.Sprintf("it has %d characters; whoever gets the file can try billions: four words or more are "+
			"better", n)
	case len(different) < 6:
		return fmt.Sprintf("it has only %d different characters", len(different))
	}
	for _, word := range []string{"password", "passphrase", "changeit", "changeme", "12345", "qwerty", "secret",
		"ironseal"} {
		if strings.Contains(strings.ToLower(string(secret)), word) {
			return fmt.Sprintf("%q is in it, which is tried first", word)
		}
	}
	return ""
}

// Canonical drops one trailing newline and normalises to NFC. What it returns
// never shares memory with b, so that either may be cleared.
func Canonical(b []byte) []byte {
	b = bytes.TrimSuffix(b, []byte("\n"))
	b = bytes.TrimSuffix(b, []byte("\r"))
	return norm.NFC.Append(nil, b...)
}
