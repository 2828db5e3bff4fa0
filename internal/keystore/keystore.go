// Package keystore says what a holder of authorities' private keys does. It is the only layer that yields a signer
// for a key that is kept.
//
// A key is opened for a stated purpose. Whoever holds it decides how: encrypted files ask for a passphrase (package
// keyfiles). Passphrases come from files or from the terminal; they are never arguments, never logged, and cleared from
// memory after use.
package keystore

import (
	"context"
	"crypto"

	"ironseal/pki/key"
)

// Keystore holds the keys of an estate's authorities.
type Keystore interface {
	// Has reports whether the key is held here.
	Has(public key.Public) bool
	// Open opens the key with this public side for one purpose. handle names its authority in questions.
	Open(ctx context.Context, public key.Public, handle string, purpose Purpose) (Opened, error)
	// Ahead opens a key now, for the next Open of it. So a wrong passphrase is told before a person reads a long
	// sheet.
	Ahead(ctx context.Context, public key.Public, handle string, purpose Purpose) error
	// Forget closes what was opened and not used, and clears passphrases.
	Forget()

	// Make makes a key. Nothing is kept of it until Keep.
	Make(ctx context.Context, kind key.Kind) (*Fresh, error)
	// Choose asks how a new key is to be protected.
	Choose(ctx context.Context, handle string) (passphrase []byte, err error)
	// ChooseAhead is Choose now, for the next Choose of this handle.
	ChooseAhead(ctx context.Context, handle string) error
	// Keep stores a new key. When it returns, the key survives a power cut.
	Keep(f *Fresh, passphrase []byte) error
	// Remove deletes a key that was kept and never recorded.
	Remove(f *Fresh) error
	// Destroy deletes a key permanently.
	Destroy(public key.Public) error

	Rewrapper
}

// Rewrapper gives keys another protection.
type Rewrapper interface {
	// Rewrap opens a key and protects it with another passphrase, in memory. Secrets that opened a key before are
	// tried first; the one that opens this key is returned, to be cleared by the caller.
	Rewrap(ctx context.Context, public key.Public, handle string, secret []byte, before [][]byte) (Rewrapped, []byte,
		error)
	// Put replaces the key by what was protected again, in one step.
	Put(r Rewrapped) error
	// StoredSHA256 is the digest of what is stored of a key, in hex, by its fingerprint in hex; "" where nothing is.
	StoredSHA256(fingerprint string) string
}

// Rewrapped is a key that was protected again and is not stored yet.
type Rewrapped interface {
	Fingerprint() [32]byte // of the public side
	SHA256() [32]byte      // of what will be stored
	Already() bool         // it has the new protection: an earlier change was cut off
}

// Opened is a key that is open. Close ends its use.
type Opened interface {
	crypto.Signer
	Identity() key.Public
	Close()
}

// Purpose is what an authority's key is opened for.
type Purpose string

// The purposes.
const (
	ForCertificate Purpose = "to sign a certificate"
	ForOwnRequest  Purpose = "to sign its own request"
	ForList        Purpose = "to sign a revocation list"
	ForPassphrase  Purpose = "to change it"
	ForCheck       Purpose = "to check it"
)

// Fresh is a key that was made and is not kept yet.
type Fresh struct {
	signer crypto.Signer
	Public key.Public
}

// FreshOf is a key that was made elsewhere and is to be kept here.
func FreshOf(signer crypto.Signer) (*Fresh, error) {
	pub, err := key.Of(signer)
	if err != nil {
		return nil, err
	}
	return &Fresh{signer, pub}, nil
}

// Signer is the new key's signer, for its own request and, for a root, its own certificate.
func (f *Fresh) Signer() crypto.Signer { return f.signer }
