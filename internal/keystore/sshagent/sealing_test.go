package sshagent

import (
	"bytes"
	"context"
	"crypto/ecdh"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha512"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/crypto/ssh"

	"ironseal/internal/keystore"
	"ironseal/pki/operator"
)

// privateFile writes a private key as SSH keeps it.
func privateFile(t *testing.T, k any, passphrase string) string {
	t.Helper()
	var block *pem.Block
	var err error
	if passphrase == "" {
		block, err = ssh.MarshalPrivateKey(k, "")
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(k, "", []byte(passphrase))
	}
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// What is sealed to an SSH key is opened by the file of its private key, and by no other.
func TestSharesAreSealedToSSHKeys(t *testing.T) {
	info, plain := []byte("whose it is"), []byte("a share")
	others := made(t)
	for name, k := range made(t) {
		for _, passphrase := range []string{"", "tern and gull"} {
			t.Run(name+" "+passphrase, func(t *testing.T) {
				s, err := ssh.NewPublicKey(k.Public())
				if err != nil {
					t.Fatal(err)
				}
				to, err := operator.KeyOf(s.Marshal())
				if err != nil {
					t.Fatal(err)
				}
				sealed, err := SealTo(to, info, plain)
				if err != nil {
					t.Fatal(err)
				}
				f, err := ReadPrivateFile(privateFile(t, k, passphrase))
				if err != nil || f.Fingerprint() != to.Fingerprint() {
					t.Fatalf("%v, %v", f, err)
				}
				defer f.Close()
				if got, err := f.Open(ctx, "ana", always{}, info, sealed); err != nil || !bytes.Equal(got, plain) {
					t.Errorf("%q, %v", got, err)
				}
				if passphrase != "" {
					if _, err := f.Open(ctx, "ana", mistyping{}, info, sealed); err == nil {
						t.Error("a wrong passphrase opens it")
					}
				}
				if _, err := f.Open(ctx, "ana", always{}, []byte("whose it was"), sealed); err == nil {
					t.Error("what is said of it can be changed")
				}
				for i := range sealed {
					changed := bytes.Clone(sealed)
					changed[i] ^= 1
					if got, err := f.Open(ctx, "ana", always{}, info, changed); err == nil && i%16 == 0 {
						t.Errorf("octet %d can be changed: %q", i, got)
					}
					if passphrase != "" {
						break // each try costs what a guess does
					}
				}
				other, err := ReadPrivateFile(privateFile(t, others[name], ""))
				if err != nil {
					t.Fatal(err)
				}
				if _, err := other.Open(ctx, "ana", always{}, info, sealed); err == nil {
					t.Error("another key opens it")
				}
			})
		}
	}
}

type mistyping struct{}

func (mistyping) Passphrase(context.Context, keystore.Question) ([]byte, bool, error) {
	return []byte("tern and skua"), false, nil
}

// An Ed25519 public key is brought to the X25519 key of the same secret; the exchange's own code knows it otherwise.
func TestEd25519KeysExchange(t *testing.T) {
	for range 500 {
		public, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		sum := sha512.Sum512(private.Seed())
		x, err := ecdh.X25519().NewPrivateKey(sum[:32])
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(montgomery(public), x.PublicKey().Bytes()) {
			t.Fatalf("%x", public)
		}
	}
}

// Keys to which nothing can be sealed are refused: those that tokens hold, and points that give every exchange one
// secret.
func TestNothingIsSealedToAKeyThatCannotOpen(t *testing.T) {
	token := ssh.Marshal(struct {
		Type        string
		Key         []byte
		Application string
	}{ssh.KeyAlgoSKED25519, make([]byte, 32), "ssh:"})
	one := append([]byte{1}, make([]byte, 31)...)
	minus := append(append([]byte{0xec}, bytes.Repeat([]byte{0xff}, 30)...), 0x7f)
	for name, blob := range map[string][]byte{"a token's": token,
		"the neutral point": ssh.Marshal(struct {
			Type string
			Key  []byte
		}{ssh.KeyAlgoED25519, one}),
		"the point of order two": ssh.Marshal(struct {
			Type string
			Key  []byte
		}{ssh.KeyAlgoED25519, minus})} {
		t.Run(name, func(t *testing.T) {
			k, err := operator.KeyOf(blob)
			if err != nil {
				t.Fatal(err)
			}
			if sealed, err := SealTo(k, nil, []byte("a share")); err == nil {
				t.Errorf("it sealed %x", sealed)
			}
		})
	}
	if _, err := ReadPrivateFile(filepath.Join(t.TempDir(), "none")); !errors.Is(err, os.ErrNotExist) {
		t.Error(err)
	}
}
