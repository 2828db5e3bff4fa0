package sshagent

import (
	"context"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hpke"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"fmt"
	"math/big"
	"slices"

	"golang.org/x/crypto/ssh"

	"ironseal/internal/disk"
	"ironseal/internal/keystore"
	"ironseal/pki/fault"
	"ironseal/pki/operator"
)

// A custodian's share can be sealed to the SSH key that they have already. An agent only signs, so the file of the
// private key opens it, and a key that a token holds cannot. What is sealed has the form of RFC 9180 (HPKE, base mode,
// HKDF-SHA256, AES-256-GCM) with the curve of the key; an Ed25519 key is used as the X25519 key of the same secret
// (RFC 7748 section 4.1). An RSA key seals by OAEP with SHA-256 (RFC 8017 section 7.1): a share is short.

// SealTo seals a short text to an SSH public key. info is authenticated, and not hidden.
func SealTo(k operator.Key, info, plain []byte) ([]byte, error) {
	if r, ok := k.Public().(*rsa.PublicKey); ok {
		return rsa.EncryptOAEP(sha256.New(), rand.Reader, r, plain, info)
	}
	public, err := exchanged(k)
	if err != nil {
		return nil, err
	}
	to, err := hpke.NewDHKEMPublicKey(public)
	if err != nil {
		return nil, err
	}
	return hpke.Seal(to, hpke.HKDFSHA256(), hpke.AES256GCM(), info, plain)
}

// exchanged is an SSH public key as one for key agreement.
func exchanged(k operator.Key) (*ecdh.PublicKey, error) {
	switch p := k.Public().(type) {
	case *ecdsa.PublicKey:
		return p.ECDH()
	case ed25519.PublicKey:
		return ecdh.X25519().NewPublicKey(montgomery(p))
	}
	return nil, fault.New(fault.Refused, "a key of the kind %s only signs: nothing can be sealed to it", k.Kind())
}

// montgomery is the u-coordinate of an Ed25519 public key: (1+y)/(1-y) (RFC 7748 section 4.1). A public key is no
// secret, so this need not take constant time. The key y = 1 gives 0, which no exchange accepts.
func montgomery(p ed25519.PublicKey) []byte {
	field := new(big.Int).Sub(new(big.Int).Lsh(big.NewInt(1), 255), big.NewInt(19))
	octets := slices.Clone(p)
	octets[31] &= 0x7f // the sign of x
	slices.Reverse(octets)
	y := new(big.Int).SetBytes(octets)
	one := big.NewInt(1)
	u := new(big.Int).Sub(one, y)
	u.ModInverse(u.Mod(u, field), field)
	if u == nil {
		u = new(big.Int)
	}
	u.Mul(u, new(big.Int).Add(one, y)).Mod(u, field)
	out := u.FillBytes(make([]byte, 32))
	slices.Reverse(out)
	return out
}

// PrivateFile is the file of an SSH private key.
type PrivateFile struct {
	path string
	data []byte
	key  operator.Key
}

// ReadPrivateFile reads the file of an SSH private key; it may be sealed.
func ReadPrivateFile(path string) (*PrivateFile, error) {
	data, err := disk.Read(path, operator.Most)
	if err != nil {
		return nil, err
	}
	var public ssh.PublicKey
	s, err := ssh.ParsePrivateKey(data)
	if missing, sealed := errors.AsType[*ssh.PassphraseMissingError](err); sealed {
		public = missing.PublicKey
	} else if err == nil {
		public = s.PublicKey()
	}
	if public == nil {
		clear(data)
		return nil, fault.New(fault.BadInput, "%s is no SSH private key that tells whose it is", path)
	}
	k, err := operator.KeyOf(public.Marshal())
	return &PrivateFile{path, data, k}, err
}

// Fingerprint is that of the public key.
func (f *PrivateFile) Fingerprint() string { return f.key.Fingerprint() }

// Close clears what was read.
func (f *PrivateFile) Close() { clear(f.data) }

// Open opens what was sealed to the key. who is asked for the passphrase of the file, where it has one.
func (f *PrivateFile) Open(ctx context.Context, who string, pass keystore.Passphrases, info, sealed []byte) ([]byte,
	error) {
	private, err := ssh.ParseRawPrivateKey(f.data)
	for tried := 1; err != nil; tried++ {
		if _, missing := errors.AsType[*ssh.PassphraseMissingError](err); !missing && tried == 1 {
			return nil, fmt.Errorf("%s: %w", f.path, err)
		}
		secret, final, asked := pass.Passphrase(ctx, keystore.Question{Handle: who, Purpose: "to open the SSH key",
			Again: tried > 1})
		if asked != nil {
			return nil, asked
		}
		private, err = ssh.ParseRawPrivateKeyWithPassphrase(f.data, secret)
		clear(secret)
		if err != nil && (final || tried == keystore.Tries) {
			return nil, fault.New(fault.Refused, "%s: the passphrase does not open it", f.path)
		}
	}
	plain, err := opened(private, info, sealed)
	if err != nil {
		return nil, fault.New(fault.Refused, "the SSH key %s does not open it, or it was changed", f.Fingerprint())
	}
	return plain, nil
}

func opened(private any, info, sealed []byte) ([]byte, error) {
	var exchange *ecdh.PrivateKey
	var err error
	switch k := private.(type) {
	case *rsa.PrivateKey:
		return rsa.DecryptOAEP(sha256.New(), nil, k, sealed, info)
	case *ecdsa.PrivateKey:
		exchange, err = k.ECDH()
	case *ed25519.PrivateKey:
		sum := sha512.Sum512(k.Seed()) // the scalar of the key (RFC 8032 section 5.1.5); X25519 clamps it
		exchange, err = ecdh.X25519().NewPrivateKey(sum[:32])
		clear(sum[:])
	default:
		return nil, errors.ErrUnsupported
	}
	if err != nil {
		return nil, err
	}
	by, err := hpke.NewDHKEMPrivateKey(exchange)
	if err != nil {
		return nil, err
	}
	return hpke.Open(by, hpke.HKDFSHA256(), hpke.AES256GCM(), info, sealed)
}
