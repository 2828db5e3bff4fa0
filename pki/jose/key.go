package jose

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/big"

	"ironseal/pki/key"
)

// Key is a public key that came as a JSON Web Key.
type Key struct {
	Public crypto.PublicKey
	canon  string // the members that name it, in order (RFC 7638 section 3.2)
}

// curves are those of RFC 7518 section 6.2.1.1, with the algorithm that signs with each.
var curves = map[string]struct {
	curve     elliptic.Curve
	algorithm string
}{
	"P-256": {elliptic.P256(), "ES256"}, "P-384": {elliptic.P384(), "ES384"}, "P-521": {elliptic.P521(), "ES512"},
}

// ReadKey reads a public key. Its numbers have one spelling each, so that one key has one thumbprint. What has a
// private
// part is refused: it should not have left its machine. The errors wrap ErrKey or ErrMalformed.
func ReadKey(data []byte) (Key, error) {
	k, err := Known(data)
	if err != nil {
		return k, err
	}
	return k, k.judge()
}

// Known reads a public key that was accepted before: it is not judged again.
func Known(data []byte) (Key, error) {
	members, err := Object(data)
	if err != nil {
		return Key{}, err
	}
	for _, private := range []string{"d", "p", "q", "dp", "dq", "qi", "oth", "k"} {
		if _, there := members[private]; there {
			return Key{}, fmt.Errorf("%w: it holds a secret", ErrKey)
		}
	}
	kind, err := text(members, "kty")
	if err != nil {
		return Key{}, err
	}
	var k Key
	switch kind {
	case "RSA":
		k, err = readRSA(members)
	case "EC":
		k, err = readEC(members)
	case "OKP":
		k, err = readEd25519(members)
	default:
		return Key{}, fmt.Errorf("%w: its type is %q", ErrKey, kind)
	}
	return k, err
}

// judge refuses keys that anybody can find the private part of.
func (k Key) judge() error {
	spki, err := k.SPKI()
	if err != nil {
		return fmt.Errorf("%w: %w", ErrKey, err)
	}
	p, err := key.Read(spki)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrKey, err)
	}
	if bad := p.Weakness().Refusing(); len(bad) > 0 {
		return fmt.Errorf("%w: %s", ErrKey, bad[0].Message)
	}
	return nil
}

func number(members map[string]json.RawMessage, name string) ([]byte, string, error) {
	s, err := text(members, name)
	if err != nil {
		return nil, "", err
	}
	b, err := Base64(s)
	return b, s, err
}

func readRSA(members map[string]json.RawMessage) (Key, error) {
	n, nText, err := number(members, "n")
	if err != nil {
		return Key{}, err
	}
	e, eText, err := number(members, "e")
	if err != nil {
		return Key{}, err
	}
	if len(n) == 0 || n[0] == 0 || len(e) == 0 || e[0] == 0 || len(e) > 4 || len(n) > 1024 {
		return Key{}, fmt.Errorf("%w: its numbers have leading zeros, or a size that is not used", ErrKey)
	}
	exponent := new(big.Int).SetBytes(e).Int64()
	if exponent < 3 || exponent%2 == 0 || exponent > 1<<31-1 {
		return Key{}, fmt.Errorf("%w: its exponent is %d", ErrKey, exponent)
	}
	return Key{&rsa.PublicKey{N: new(big.Int).SetBytes(n), E: int(exponent)},
		fmt.Sprintf(`{"e":"%s","kty":"RSA","n":"%s"}`, eText, nText)}, nil
}

func readEC(members map[string]json.RawMessage) (Key, error) {
	name, err := text(members, "crv")
	if err != nil {
		return Key{}, err
	}
	c, known := curves[name]
	if !known {
		return Key{}, fmt.Errorf("%w: its curve is %q", ErrKey, name)
	}
	x, xText, err := number(members, "x")
	if err != nil {
		return Key{}, err
	}
	y, yText, err := number(members, "y")
	if err != nil {
		return Key{}, err
	}
	size := (c.curve.Params().BitSize + 7) / 8
	if len(x) != size || len(y) != size {
		return Key{}, fmt.Errorf("%w: its coordinates do not have %d octets", ErrKey, size)
	}
	public, err := ecdsa.ParseUncompressedPublicKey(c.curve, append(append([]byte{4}, x...), y...))
	if err != nil {
		return Key{}, fmt.Errorf("%w: it is no point of its curve", ErrKey)
	}
	return Key{public, fmt.Sprintf(`{"crv":"%s","kty":"EC","x":"%s","y":"%s"}`, name, xText, yText)}, nil
}

func readEd25519(members map[string]json.RawMessage) (Key, error) {
	name, err := text(members, "crv")
	if err != nil {
		return Key{}, err
	}
	x, xText, err := number(members, "x")
	if err != nil {
		return Key{}, err
	}
	if name != "Ed25519" || len(x) != ed25519.PublicKeySize {
		return Key{}, fmt.Errorf("%w: its curve is %q", ErrKey, name)
	}
	return Key{ed25519.PublicKey(x), fmt.Sprintf(`{"crv":"Ed25519","kty":"OKP","x":"%s"}`, xText)}, nil
}

func (k Key) algorithm() string {
	switch public := k.Public.(type) {
	case *rsa.PublicKey:
		return "RS256"
	case *ecdsa.PublicKey:
		return curves[public.Curve.Params().Name].algorithm
	}
	return "EdDSA"
}

// JSON is the key with the members that name it and no others.
func (k Key) JSON() string { return k.canon }

// Thumbprint names the key (RFC 7638), in base64url.
func (k Key) Thumbprint() string {
	sum := sha256.Sum256([]byte(k.canon))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// Same reports whether two keys are one.
func (k Key) Same(o Key) bool { return k.canon == o.canon }

// SPKI is the key as a SubjectPublicKeyInfo.
func (k Key) SPKI() ([]byte, error) { return x509.MarshalPKIXPublicKey(k.Public) }
