package keystore

import (
	"bytes"
	"context"
	"crypto"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/text/unicode/norm"

	"ironseal/internal/disk"
	"ironseal/pki/bundle"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
	"ironseal/pki/shamir"
)

// Question asks for a passphrase.
type Question struct {
	Handle  string // whose key
	Purpose Purpose
	New     bool // the passphrase is being chosen: ask twice
	Again   bool // the one given before was wrong
	// Shares says which custodians have shares of what opens the key; nil where one person's passphrase does.
	Shares *shamir.Note
}

// Passphrases answers questions. Final says that asking again would give the
// same answer, as with a file.
type Passphrases interface {
	Passphrase(ctx context.Context, q Question) (secret []byte, final bool, err error)
}

// Tries is how often a person may mistype a passphrase.
const Tries = 3

// OpenFile opens a private key that is outside of the key store, encrypted or not: a draft's key, or one that
// someone handed in. label names it in questions.
func OpenFile(ctx context.Context, der []byte, kind bundle.Kind, label string, pass Passphrases) (crypto.Signer,
	error) {
	if kind != bundle.EncryptedKey {
		return key.ReadPrivate(der)
	}
	for attempt := 1; ; attempt++ {
		secret, final, err := pass.Passphrase(ctx, Question{Handle: label, Purpose: "to open it", Again: attempt > 1})
		if err != nil {
			return nil, fmt.Errorf("passphrase for %s: %w", label, err)
		}
		signer, err := pbes.Decrypt(der, secret)
		clear(secret)
		if err == nil || !errors.Is(err, pbes.ErrPassphrase) || final || attempt == Tries {
			return signer, err
		}
	}
}

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

// Weakness says why a new passphrase would be found by whoever has the file that it protects;
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
