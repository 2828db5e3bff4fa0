package operator

import (
	"crypto/ed25519"
	"crypto/sha256"
	"io"

	"golang.org/x/crypto/ssh"

	"ironseal/pki/paper"
)

// codeBytes is what a recovery code holds: 160 random bits.
const codeBytes = 20

// Code is a recovery code: the key of last resort, on paper in a safe. It gives an administrator who lost a key another
// one.
type Code struct {
	signer ssh.Signer
	secret []byte
}

// NewCode makes one.
func NewCode(random io.Reader) (*Code, error) {
	secret := make([]byte, codeBytes)
	if _, err := io.ReadFull(random, secret); err != nil {
		return nil, err
	}
	return codeOf(secret)
}

// ReadCode reads one that was typed.
func ReadCode(lines []string) (*Code, error) {
	secret, err := paper.Read(lines)
	if err != nil {
		return nil, err
	}
	return codeOf(secret)
}

func codeOf(secret []byte) (*Code, error) {
	seed := sha256.Sum256(append([]byte("recovery code v1"), secret...))
	s, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(seed[:]))
	if err != nil {
		return nil, err
	}
	return &Code{s, secret}, nil
}

// Lines are the lines of the code on paper. Nothing else keeps them.
func (c *Code) Lines() []string { return paper.Lines(c.secret) }

// Key is the public side.
func (c *Code) Key() Key { return Key{c.signer.PublicKey()} }

// Sign signs as an SSH key does.
func (c *Code) Sign(data []byte) ([]byte, error) {
	s, err := c.signer.Sign(nil, data) // Ed25519 needs no randomness
	if err != nil {
		return nil, err
	}
	return ssh.Marshal(s), nil
}
