package key

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"
	"slices"
	"sync"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

var oidEC = asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1}

// curves are the named curves (RFC 5480 section 2.1.1.1), each with the algorithm that fits its strength.
var curves = []struct {
	kind    Kind
	oid     asn1.ObjectIdentifier
	curve   elliptic.Curve
	signing string
}{
	{P256, asn1.ObjectIdentifier{1, 2, 840, 10045, 3, 1, 7}, elliptic.P256(), "ECDSA with SHA-256"},
	{P384, asn1.ObjectIdentifier{1, 3, 132, 0, 34}, elliptic.P384(), "ECDSA with SHA-384"},
	{P521, asn1.ObjectIdentifier{1, 3, 132, 0, 35}, elliptic.P521(), "ECDSA with SHA-512"},
}

var ecdsaScheme = &scheme{
	family:   "ecdsa",
	oid:      oidEC,
	variants: []variant{{P256, 256}, {P384, 384}, {P521, 521}},
	algorithms: []algorithm{
		{asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 1}, "ECDSA with SHA-1", crypto.SHA1, false},
		{asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 1}, "ECDSA with SHA-224", crypto.SHA224, false},
		{asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}, "ECDSA with SHA-256", crypto.SHA256, false},
		{asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 3}, "ECDSA with SHA-384", crypto.SHA384, false},
		{asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 4}, "ECDSA with SHA-512", crypto.SHA512, false},
	},
	signing: func(k Kind) string {
		for _, c := range curves {
			if c.kind == k {
				return c.signing
			}
		}
		return ""
	},
	read: readEC,
	encode: func(b *cryptobyte.Builder, public crypto.PublicKey) bool {
		pub, ours := public.(*ecdsa.PublicKey)
		if ours {
			addEC(b, pub)
		}
		return ours
	},
	plain: func(p Public) bool {
		head, known := heads()[p.Kind]
		return known && len(p.SPKI) == len(head)+len(p.bitBytes) && p.bitBytes[0] == 4 && bytes.HasPrefix(p.SPKI, head)
	},
	generate: func(v variant, random io.Reader) (crypto.Signer, error) {
		for _, c := range curves {
			if c.kind == v.kind {
				return ecdsa.GenerateKey(c.curve, random)
			}
		}
		return nil, fmt.Errorf("key kind %q: its curve is not known", v.kind)
	},
	verify: func(p Public, _ Algorithm, digest, signature []byte) bool {
		pub, ours := p.Key.(*ecdsa.PublicKey)
		if ours && p.often != nil {
			if t := p.often.of(pub); t != nil {
				return t.verify(digest, signature)
			}
		}
		return ours && ecdsa.VerifyASN1(pub, digest, signature)
	},
	words: func(p Public) string {
		if p.Bits == 0 {
			return "ECDSA, unknown curve"
		}
		return fmt.Sprintf("ECDSA P-%d", p.Bits)
	},
}

// heads are what a SubjectPublicKeyInfo begins with, up to the point, by the curve.
var heads = sync.OnceValue(func() map[Kind][]byte {
	out := map[Kind][]byte{}
	for _, c := range curves {
		point := uncompressed(c.curve, c.curve.Params().Gx, c.curve.Params().Gy)
		pub, err := ecdsa.ParseUncompressedPublicKey(c.curve, point)
		if err != nil {
			continue
		}
		if whole, err := encoded(pub); err == nil {
			out[c.kind] = bytes.TrimSuffix(whole, point)
		}
	}
	return out
})

func readEC(p *Public, params cryptobyte.String) {
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
			point = uncompressed(c.curve, x, y)
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

// uncompressed is a point in full (SEC 1 section 2.3.3).
func uncompressed(curve elliptic.Curve, x, y *big.Int) []byte {
	size := (curve.Params().BitSize + 7) / 8
	return slices.Concat([]byte{4}, x.FillBytes(make([]byte, size)), y.FillBytes(make([]byte, size)))
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
