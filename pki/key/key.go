// Package key knows keys: their kinds and strengths, how they are made and
// named, how they sign and verify, and how a private key is sealed under a
// passphrase.
//
// A public key is read from its SubjectPublicKeyInfo (RFC 5280 section 4.1.2.7)
// by this package's own reader, because devices send keys that the standard
// library refuses to look at (compressed points, odd exponents, very small
// moduli), and the administrator must be told what is wrong with them rather
// than that something is. Read is therefore lenient and Weakness is strict.
package key

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
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
func Kinds() []Kind { return []Kind{RSA2048, RSA3072, RSA4096, P256, P384, P521, Ed25519} }

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

var curves = []struct {
	kind  Kind
	oid   asn1.ObjectIdentifier
	curve elliptic.Curve
}{
	{P256, asn1.ObjectIdentifier{1, 2, 840, 10045, 3, 1, 7}, elliptic.P256()},
	{P384, asn1.ObjectIdentifier{1, 3, 132, 0, 34}, elliptic.P384()},
	{P521, asn1.ObjectIdentifier{1, 3, 132, 0, 35}, elliptic.P521()},
}

var (
	oidRSA     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 1}
	oidEC      = asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1}
	oidEd25519 = asn1.ObjectIdentifier{1, 3, 101, 112}
)

// Generate makes a key of the given kind. RSA kinds take seconds; the call
// cannot be interrupted, so whoever must stop early runs it aside and drops it.
func Generate(k Kind, random io.Reader) (crypto.Signer, error) {
	switch k {
	case RSA2048, RSA3072, RSA4096:
		bits := map[Kind]int{RSA2048: 2048, RSA3072: 3072, RSA4096: 4096}[k]
		return rsa.GenerateKey(random, bits)
	case Ed25519:
		_, private, err := ed25519.GenerateKey(random)
		return private, err
	}
	for _, c := range curves {
		if c.kind == k {
			return ecdsa.GenerateKey(c.curve, random)
		}
	}
	return nil, fmt.Errorf("key kind %q: Iron Seal makes no such key", k)
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
	switch {
	case oid.Equal(oidRSA):
		p.readRSA()
	case oid.Equal(oidEC):
		p.readEC(alg)
	case oid.Equal(oidEd25519):
		p.Kind, p.Bits = Ed25519, 256
		if len(p.bitBytes) != ed25519.PublicKeySize {
			p.Fault = "an Ed25519 key has 32 bytes"
			break
		}
		if p.Fault = edwardsFault(p.bitBytes); p.Fault == "" {
			p.Key = ed25519.PublicKey(slices.Clone(p.bitBytes))
		}
	default:
		p.Fault = "its algorithm " + oid.String() + " is not known here"
	}
	if p.Key == nil {
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

func (p *Public) readRSA() {
	in := cryptobyte.String(p.bitBytes)
	var seq cryptobyte.String
	n, e := new(big.Int), new(big.Int)
	p.Kind = "rsa"
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !seq.ReadASN1Integer(n) || !seq.ReadASN1Integer(e) || n.Sign() <= 0 {
		p.Fault = "it is not a modulus and an exponent (RFC 8017 appendix A.1.1)"
		return
	}
	p.Bits, p.Exponent = n.BitLen(), e
	p.Kind = Kind(fmt.Sprintf("rsa-%d", p.Bits))
	switch {
	case p.Bits > mostBits:
		p.Fault = fmt.Sprintf("its modulus has %d bits; the most that is handled is %d", p.Bits, mostBits)
	case n.Bit(0) == 0:
		p.Fault = "its modulus is even, so anyone can factor it"
	case e.Cmp(big.NewInt(3)) < 0 || e.Bit(0) == 0:
		p.Fault = fmt.Sprintf("its exponent is %s; an exponent is odd and at least 3", clip(e))
	case e.BitLen() > 31:
		p.Fault = "its exponent has more than 31 bits, which most software cannot use"
	default:
		p.Key = &rsa.PublicKey{N: n, E: int(e.Int64())}
	}
}

func clip(n *big.Int) string {
	if n.BitLen() > 64 {
		return "a number of " + fmt.Sprint(n.BitLen()) + " bits"
	}
	return n.String()
}

func (p *Public) readEC(params cryptobyte.String) {
	var oid asn1.ObjectIdentifier
	p.Kind = "ecdsa"
	if !params.ReadASN1ObjectIdentifier(&oid) {
		p.Fault = "its curve is spelled out and not named (RFC 5480 section 2.1.1)"
		return
	}
	for _, c := range curves {
		if !c.oid.Equal(oid) {
			continue
		}
		p.Kind, p.Bits = c.kind, c.curve.Params().BitSize
		point := p.bitBytes
		if len(point) > 0 && (point[0] == 2 || point[0] == 3) {
			x, y := elliptic.UnmarshalCompressed(c.curve, point)
			if x == nil {
				p.Fault = "its point is not on the curve"
				return
			}
			size := (p.Bits + 7) / 8
			point = append([]byte{4}, append(x.FillBytes(make([]byte, size)), y.FillBytes(make([]byte, size))...)...)
		}
		pub, err := ecdsa.ParseUncompressedPublicKey(c.curve, point)
		if err != nil {
			p.Fault = "its point is not on the curve"
			return
		}
		p.Key = pub
		return
	}
	p.Fault = "its curve " + oid.String() + " is not known here"
}

// Words describes the key for people: "RSA 2048".
func (p Public) Words() string {
	switch p.Kind.Family() {
	case "rsa":
		return fmt.Sprintf("RSA %d", p.Bits)
	case "ecdsa":
		if p.Bits == 0 {
			return "ECDSA, unknown curve"
		}
		return fmt.Sprintf("ECDSA P-%d", p.Bits)
	case "ed25519":
		return "Ed25519"
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

// encoded writes a public key as a SubjectPublicKeyInfo (RFC 3279 section 2.3.1, RFC
// 5480 section 2, RFC 8410 section 4).
func encoded(public crypto.PublicKey) ([]byte, error) {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		switch pub := public.(type) {
		case *rsa.PublicKey:
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(oidRSA)
				b.AddASN1NULL()
			})
			b.AddASN1(casn1.BIT_STRING, func(b *cryptobyte.Builder) {
				b.AddUint8(0)
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1BigInt(pub.N)
					b.AddASN1Int64(int64(pub.E))
				})
			})
		case *ecdsa.PublicKey:
			addEC(b, pub)
		case ed25519.PublicKey:
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(oidEd25519) })
			b.AddASN1BitString(pub)
		default:
			b.SetError(fmt.Errorf("public key of type %T: not a kind that Iron Seal handles", pub))
		}
	})
	return b.Bytes()
}

func addEC(b *cryptobyte.Builder, pub *ecdsa.PublicKey) {
	point, err := pub.Bytes()
	if err != nil {
		b.SetError(fmt.Errorf("elliptic key: %w", err))
		return
	}
	for _, c := range curves {
		if c.curve == pub.Curve {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(oidEC)
				b.AddASN1ObjectIdentifier(c.oid)
			})
			b.AddASN1BitString(point)
			return
		}
	}
	b.SetError(errors.New("elliptic key: its curve is not one that Iron Seal handles"))
}

// Same reports whether two keys are one, as values: the encodings they came in do
// not count. Both are public.
func Same(a, b Public) bool { return bytes.Equal(a.value, b.value) }
