package key

import (
	"crypto"
	"encoding/asn1"
	"io"
	"sync"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

// scheme is one public-key signature scheme. All that differs between schemes is in its row of the table.
type scheme struct {
	family string                // begins the names of its kinds
	oid    asn1.ObjectIdentifier // of its SubjectPublicKeyInfo

	variants   []variant   // the keys that are made
	algorithms []algorithm // the signatures that are checked

	// signing gives the name of the algorithm with which a key signs, also a key of a kind that is not made.
	signing func(k Kind) string
	// read reads the key of a SubjectPublicKeyInfo into p, or says in p.Fault why it cannot be used.
	read func(p *Public, params cryptobyte.String)
	// encode writes the two fields of a SubjectPublicKeyInfo; false for a key of another scheme.
	encode func(b *cryptobyte.Builder, public crypto.PublicKey) bool
	// plain reports whether a key that was read came in the encoding that encode writes, without encoding it; nil if
	// the scheme cannot do that.
	plain func(p Public) bool
	// generate makes a key.
	generate func(v variant, random io.Reader) (crypto.Signer, error)
	// verify checks a signature. signed is the digest, or the message for an algorithm without a hash.
	verify func(p Public, a Algorithm, signed, signature []byte) bool
	// words names a key for people.
	words func(p Public) string
}

// variant is a kind of key that is made.
type variant struct {
	kind Kind
	bits int // modulus or field size
}

// algorithm is a signature algorithm. Without a hash it signs the message itself (Ed25519, RFC 8032; ML-DSA would).
type algorithm struct {
	oid  asn1.ObjectIdentifier
	name string
	hash crypto.Hash
	null bool // its parameters are NULL (RFC 4055 section 5), and not absent
}

// identifiers are the AlgorithmIdentifiers by the names of the algorithms.
var identifiers = sync.OnceValue(func() map[string][]byte {
	out := map[string][]byte{}
	for _, s := range schemes {
		for _, a := range s.algorithms {
			var b cryptobyte.Builder
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(a.oid)
				if a.null {
					b.AddASN1NULL()
				}
			})
			out[a.name] = b.BytesOrPanic() // of the tables above
		}
	}
	return out
})

// schemes are all that are known.
var schemes []*scheme

func init() { schemes = []*scheme{rsaScheme, ecdsaScheme, ed25519Scheme} }

func schemeOf(oid asn1.ObjectIdentifier) *scheme {
	for _, s := range schemes {
		if s.oid.Equal(oid) {
			return s
		}
	}
	return nil
}

// scheme is the scheme of a kind; nil for an unknown one.
func (k Kind) scheme() *scheme {
	for _, s := range schemes {
		if s.family == k.Family() {
			return s
		}
	}
	return nil
}

// signing is the algorithm with which keys of a kind sign.
func (k Kind) signing() (algorithm, bool) {
	s := k.scheme()
	if s == nil {
		return algorithm{}, false
	}
	name := s.signing(k)
	for _, a := range s.algorithms {
		if a.name == name {
			return a, true
		}
	}
	return algorithm{}, false
}
