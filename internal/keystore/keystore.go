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
	"time"

	"ironseal/pki/key"
	"ironseal/pki/shamir"
)

// Keystore holds the keys of an estate's authorities.
type Keystore interface {
	// Has reports whether the key is held here.
	Has(public key.Public) bool
	// Open opens the key with this public side for one purpose. handle names its authority in questions.
	Open(ctx context.Context, public key.Public, handle string, purpose Purpose) (Opened, error)
	// Ahead opens a key now, for the next Open of it. So a wrong passphrase is reported before a person reads a long
	// sheet.
	Ahead(ctx context.Context, public key.Public, handle string, purpose Purpose) error
	// Forget closes what was opened and not used, and clears passphrases.
	Forget()

	// Make makes a key. Nothing is kept of it until Keep.
	Make(ctx context.Context, kind key.Kind) (*Fresh, error)
	// At finds a key that is held elsewhere, for a new authority: place names it, such as "agent:SHA256:...". Keep
	// notes
	// where it is.
	At(ctx context.Context, place string) (*Fresh, error)
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

	// Shares tells which custodians hold a key together; nil where a passphrase opens it, or it is not here.
	Shares(public key.Public) (*shamir.Note, error)
	// ToAgent puts the key into an SSH agent, unless it is there, and notes that it is once the agent has signed with
	// it.
	// confirm lets the agent ask before each use. What was kept of the key stays until SetAside.
	ToAgent(ctx context.Context, public key.Public, handle string, confirm bool) error
	// SetAside moves what is kept of a key into a folder, which is made. It returns the file; "" if none existed.
	SetAside(public key.Public, folder string) (string, error)

	// ToShelf copies what is kept of a key here to the records. What is here stays until SetAside.
	ToShelf(public key.Public, handle string) error
	// FromShelf copies what the records keep of a key here. What is there stays until OffShelf.
	FromShelf(public key.Public, handle string) error
	// OffShelf takes what the records keep of a key out of them.
	OffShelf(public key.Public) error

	Rewrapper
}

// Rewrapper gives keys another protection.
type Rewrapper interface {
	// Rewrap opens a key and protects it with another passphrase, in memory. Secrets that opened a key before are
	// tried first; the one that opens this key is returned, to be cleared by the caller.
	Rewrap(ctx context.Context, public key.Public, handle string, secret []byte, before [][]byte) (Rewrapped, []byte,
		error)
	// NoteShares notes who has the shares of what will open a key that was protected again, before Put.
	NoteShares(r Rewrapped, n shamir.Note) error
	// Put replaces the key by what was protected again, in one step; one that is in the records as a part of the change
	// that tells of it.
	Put(r Rewrapped, in Change) error
	// StoredSHA256 is the digest of what is stored of a key, in hex, by its fingerprint in hex; "" where nothing is.
	StoredSHA256(fingerprint string) string
}

// Change is a change of the records, in which sealed files may be.
type Change interface {
	// PutSealed replaces a sealed file, which must be as it was: nil for one that is not there before, or after.
	PutSealed(name string, was, is []byte) error
}

// Rewrapped is a key that was protected again and is not stored yet.
type Rewrapped interface {
	Fingerprint() [32]byte // of the public side
	SHA256() [32]byte      // of what will be stored
	Already() bool         // it has the new protection: an earlier change was cut off
}

// Prompt is a signer that may have to wait for someone, and whose wait can be shortened.
type Prompt interface {
	Within(wait time.Duration) crypto.Signer
}

// Within is a signer that waits no longer than this for whoever holds its key.
func Within(s crypto.Signer, wait time.Duration) crypto.Signer {
	if p, ok := s.(Prompt); ok {
		return p.Within(wait)
	}
	return s
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
	ForMove        Purpose = "to let an SSH agent hold it"
)

// Fresh is a key that was made, or is held elsewhere, and is not kept yet.
type Fresh struct {
	signer crypto.Signer
	Public key.Public
	Place  string // where it is held; "" for one that was made here
}

// FreshIn is a key that is held elsewhere.
func FreshIn(place string, signer crypto.Signer, public key.Public) *Fresh {
	return &Fresh{signer, public, place}
}

// FreshOf is a key that was made elsewhere and is to be kept here.
func FreshOf(signer crypto.Signer) (*Fresh, error) {
	pub, err := key.Of(signer)
	if err != nil {
		return nil, err
	}
	return &Fresh{signer: signer, Public: pub}, nil
}

// Signer is the new key's signer, for its own request and, for a root, its own certificate.
func (f *Fresh) Signer() crypto.Signer { return f.signer }
