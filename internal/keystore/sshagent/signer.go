package sshagent

import (
	"context"
	"crypto"
	"crypto/rsa"
	"fmt"
	"io"
	"math/big"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/crypto/ssh"

	"ironseal/internal/keystore"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/key"
	"ironseal/pki/operator"
)

// MostSigned is how much an agent signs at once, in bytes: OpenSSH's takes messages of 256 KiB, with the key in them.
const MostSigned = 250 << 10

// signer signs with an authority's key that an agent holds. The agent takes the octets themselves, and hashes them: it
// is a crypto.MessageSigner, and cannot sign a digest.
type signer struct {
	ctx    context.Context
	agent  *Agent
	blob   []byte
	public key.Public
	handle string
	closed atomic.Bool
}

var (
	_ keystore.Opened      = (*signer)(nil)
	_ crypto.MessageSigner = (*signer)(nil)
)

// Identity is the public side of the key.
func (s *signer) Identity() key.Public { return s.public }

// Public implements crypto.Signer.
func (s *signer) Public() crypto.PublicKey { return s.public.Key }

// Within implements keystore.Prompt.
func (s *signer) Within(wait time.Duration) crypto.Signer {
	quick := *s.agent
	quick.Wait = wait
	return &signer{ctx: s.ctx, agent: &quick, blob: s.blob, public: s.public, handle: s.handle}
}

// Close ends the use of the key.
func (s *signer) Close() { s.closed.Store(true) }

// Sign implements crypto.Signer.
func (s *signer) Sign(io.Reader, []byte, crypto.SignerOpts) ([]byte, error) {
	return nil, fault.New(fault.Internal, "an SSH agent signs messages, and no digests")
}

// SignMessage implements crypto.MessageSigner. What the agent answers is not believed: whoever asked verifies it.
func (s *signer) SignMessage(_ io.Reader, message []byte, opts crypto.SignerOpts) ([]byte, error) {
	if s.closed.Load() {
		return nil, fault.New(fault.Internal, "the key is closed")
	}
	if len(message) > MostSigned {
		return nil, fault.New(fault.Refused,
			"key of %s: an SSH agent signs at most %d KiB at once, and this has %d", s.handle,
			MostSigned>>10, len(message)>>10).Then(advice.Say("let lists have parts (part-size in the settings)"))
	}
	if _, rsa := s.public.Key.(*rsa.PublicKey); rsa && opts.HashFunc() != crypto.SHA256 && opts.
		HashFunc() != crypto.SHA512 {
		return nil, fault.New(fault.Refused, "key of %s: an SSH agent signs RSA with SHA-256 or SHA-512", s.handle)
	}
	out, err := s.agent.Sign(s.ctx, s.blob, message, opts.HashFunc() == crypto.SHA256)
	if err != nil {
		return nil, fmt.Errorf("key of %s: %w", s.handle, err)
	}
	return converted(s.public, out, opts.HashFunc())
}

// formats are the names of signatures in SSH (RFC 4253, RFC 5656, RFC 8332, RFC 8709) that X.509 knows too.
func formatOf(p key.Public, hash crypto.Hash) string {
	switch p.Kind.Family() {
	case "rsa":
		if hash == crypto.SHA512 {
			return ssh.KeyAlgoRSASHA512
		}
		return ssh.KeyAlgoRSASHA256
	case "ecdsa":
		return map[crypto.Hash]string{crypto.SHA256: ssh.KeyAlgoECDSA256, crypto.SHA384: ssh.KeyAlgoECDSA384,
			crypto.SHA512: ssh.KeyAlgoECDSA521}[hash]
	}
	return ssh.KeyAlgoED25519
}

// converted brings a signature of SSH into the form of X.509.
func converted(p key.Public, s *ssh.Signature, hash crypto.Hash) ([]byte, error) {
	if want := formatOf(p, hash); s.Format != want || len(s.Blob) > operator.Most {
		return nil, fault.New(fault.Refused, "the agent signed as %q, and not as %q", s.Format, want)
	}
	switch p.Kind.Family() {
	case "rsa":
		size := (p.Key.(*rsa.PublicKey).N.BitLen() + 7) / 8
		if len(s.Blob) > size {
			return nil, fault.New(fault.Refused, "the agent's signature is too long")
		}
		return append(make([]byte, size-len(s.Blob)), s.Blob...), nil // leading zeros may be left out
	case "ecdsa":
		var two struct{ R, S *big.Int }
		if err := ssh.Unmarshal(s.Blob, &two); err != nil || two.R.Sign() <= 0 || two.S.Sign() <= 0 {
			return nil, fault.New(fault.Refused, "the agent's signature cannot be read")
		}
		var b cryptobyte.Builder
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1BigInt(two.R)
			b.AddASN1BigInt(two.S)
		})
		return b.Bytes()
	}
	return s.Blob, nil
}

// publicOf is the key of an agent as certificates have it; false for one that they cannot have, such as one that is
// bound to a website's or an SSH server's name by a token.
func publicOf(blob []byte) (key.Public, bool) {
	if len(blob) > operator.Most {
		return key.Public{}, false
	}
	k, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return key.Public{}, false
	}
	switch k.Type() {
	case ssh.KeyAlgoRSA, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoED25519:
	default:
		return key.Public{}, false
	}
	c, ok := k.(ssh.CryptoPublicKey)
	if !ok {
		return key.Public{}, false
	}
	p, err := key.Of(publicOnly{c.CryptoPublicKey()})
	return p, err == nil
}

// publicOnly lends a public key to what asks for a signer.
type publicOnly struct{ key crypto.PublicKey }

func (p publicOnly) Public() crypto.PublicKey { return p.key }
func (publicOnly) Sign(io.Reader, []byte, crypto.SignerOpts) ([]byte, error) {
	return nil, fault.New(fault.Internal, "this is a public key")
}
