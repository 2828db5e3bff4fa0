// Package key knows keys: their kinds and strengths, how they are made and
// named, how they sign and verify, and how a private key is encrypted under a
// passphrase.
//
// A public key is read from its SubjectPublicKeyInfo (RFC 5280 section 4.1.2.7)
// by this package's own reader, because devices send keys that the standard
// library refuses to look at (compressed points, odd exponents, very small
// moduli), and the administrator must learn what is wrong with them rather
// than that something is. Read is therefore lenient and Weakness is strict.
package key

import (
	"bytes"
	"crypto"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

// Kind names an algorithm with its size, such as "rsa-4096" or "ecdsa-p256".
type Kind string

// The kinds that Iron Seal makes.
const (
	RSA2048 Kind = "rsa-2048"
	RSA3072 Kind = "rsa-3072"
	RSA4096 Kind = "rsa-4096"
	P256    Kind = "ecdsa-p256"
	P384    Kind = "ecdsa-p384"
	P521    Kind = "ecdsa-p521"
	Ed25519 Kind = "ed25519"
)

// Kinds lists the kinds that Generate makes.
func Kinds() (out []Kind) {
	for _, s := range schemes {
		for _, v := range s.variants {
			out = append(out, v.kind)
		}
	}
	return out
}

// Generate makes a key of the given kind. RSA kinds take seconds; the call
// cannot be interrupted, so whoever must stop early runs it aside and drops it.
func Generate(k Kind, random io.Reader) (crypto.Signer, error) {
	for _, s := range schemes {
		for _, v := range s.variants {
			if v.kind == k {
				return s.generate(v, random)
			}
		}
	}
	return nil, fmt.Errorf("key kind %q: Iron Seal makes no such key", k)
}

// ParseKind reads a kind as a person types it.
func ParseKind(s string) (Kind, error) {
	k := Kind(strings.ToLower(strings.TrimSpace(s)))
	if slices.Contains(Kinds(), k) {
		return k, nil
	}
	var all []string
	for _, k := range Kinds() {
		all = append(all, string(k))
	}
	return "", fmt.Errorf("%q is not a key kind: use one of %s", s, strings.Join(all, ", "))
}

// Family is the algorithm of a kind: "rsa", "ecdsa" or "ed25519".
func (k Kind) Family() string {
	family, _, _ := strings.Cut(string(k), "-")
	return family
}

// Public is a public key as it was found.
type Public struct {
	// also kinds that Generate does not make, such as "rsa-1024"; "" when the algorithm is unknown
	Kind     Kind
	Bits     int              // modulus or field size; 0 when unknown
	Key      crypto.PublicKey // nil when the key cannot be used to verify
	SPKI     []byte           // the whole SubjectPublicKeyInfo, as it came
	Fault    string           // why it cannot be used, or ""
	Exponent *big.Int         // of an RSA key
	Trailing bool             // something follows the values, which strict readers refuse
	bitBytes []byte           // the content of the BIT STRING, over which identifiers are made
	value    []byte           // the SubjectPublicKeyInfo of the same key in the one form that is written here
	often    *often           // where it verifies many signatures, see Often
}

// Most bytes of a SubjectPublicKeyInfo and bits of a modulus that are read.
const (
	mostSPKI = 16 << 10
	mostBits = 16384
)

// Read reads a SubjectPublicKeyInfo. An error means that it is none; a key that
// is one and cannot be used carries a Fault.
func Read(spki []byte) (Public, error) {
	p := Public{SPKI: append([]byte(nil), spki...)}
	in := cryptobyte.String(spki)
	var seq, alg cryptobyte.String
	var oid asn1.ObjectIdentifier
	if len(spki) > mostSPKI {
		return p, fmt.Errorf("public key: %d bytes; the most that is read is %d", len(spki), mostSPKI)
	}
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() || !seq.ReadASN1(&alg, casn1.SEQUENCE) ||
		!alg.ReadASN1ObjectIdentifier(&oid) || !seq.ReadASN1BitStringAsBytes(&p.bitBytes) {
		return p, errors.New("public key: it is not a SubjectPublicKeyInfo (RFC 5280 section 4.1)")
	}
	p.value, p.Trailing = p.SPKI, !seq.Empty()
	if rest := alg; !rest.Empty() { // one parameter at most
		var one cryptobyte.String
		var tag casn1.Tag
		p.Trailing = p.Trailing || !rest.ReadAnyASN1(&one, &tag) || !rest.Empty()
	}
	if scheme := schemeOf(oid); scheme != nil {
		scheme.read(&p, alg)
	} else {
		p.Fault = "its algorithm " + oid.String() + " is not known here"
	}
	if p.Key == nil {
		return p, nil
	}
	if s := p.Kind.scheme(); s.plain != nil && s.plain(p) {
		return p, nil
	}
	var err error
	if p.value, err = encoded(p.Key); err != nil {
		return p, fmt.Errorf("public key: %w", err)
	}
	if !bytes.Equal(p.value, p.SPKI) { // identifiers are those of the key as it is certified
		whole := cryptobyte.String(p.value)
		if !whole.ReadASN1(&seq, casn1.SEQUENCE) || !seq.SkipASN1(casn1.SEQUENCE) ||
			!seq.ReadASN1BitStringAsBytes(&p.bitBytes) {
			return p, errors.New("public key: it does not read back")
		}
	}
	return p, nil
}

// Canonical is the key in the one encoding that is written here: named curves,
// points in full, nothing behind the values. The same key always gives the same
// bytes, whatever it came in.
func (p Public) Canonical() []byte { return p.value }

// Words describes the key for people: "RSA 2048".
func (p Public) Words() string {
	if s := p.Kind.scheme(); s != nil {
		return s.words(p)
	}
	return "unknown algorithm"
}

// Fingerprint is the SHA-256 of the canonical SubjectPublicKeyInfo: the name of
// the key, whatever encoding it came in.
func (p Public) Fingerprint() [32]byte { return sha256.Sum256(p.value) }

// Identifier is the key identifier that Iron Seal puts into certificates: the
// leftmost 160 bits of the SHA-256 of the key (RFC 7093 section 2, method 1).
func (p Public) Identifier() []byte {
	sum := sha256.Sum256(p.bitBytes)
	return sum[:20]
}

// OlderIdentifier is the SHA-1 identifier of RFC 5280 section 4.2.1.2 method 1,
// by which other software names keys. It is for looking up only.
func (p Public) OlderIdentifier() []byte {
	sum := sha1.Sum(p.bitBytes)
	return sum[:]
}

// Of returns the public side of a signer. A signer that knows it tells it by a
// method Identity.
func Of(signer crypto.Signer) (Public, error) {
	if known, ok := signer.(interface{ Identity() Public }); ok {
		return known.Identity(), nil
	}
	der, err := encoded(signer.Public())
	if err != nil {
		return Public{}, err
	}
	return Read(der)
}

// Same reports whether two keys are one, as values: the encodings they came in do
// not count. Both are public.
func Same(a, b Public) bool { return bytes.Equal(a.value, b.value) }

// encoded writes a public key as a SubjectPublicKeyInfo (RFC 3279 section 2.3.1, RFC
// 5480 section 2, RFC 8410 section 4).
func encoded(public crypto.PublicKey) ([]byte, error) {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, s := range schemes {
			if s.encode(b, public) {
				return
			}
		}
		b.SetError(fmt.Errorf("public key of type %T: not a kind that Iron Seal handles", public))
	})
	return b.Bytes()
}
