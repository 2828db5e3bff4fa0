package key

import (
	"crypto"
	"crypto/ed25519"
	"encoding/asn1"
	"io"
	"slices"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

var oidEd25519 = asn1.ObjectIdentifier{1, 3, 101, 112}

// ed25519Scheme signs the message itself (RFC 8032); the key and the signature have one identifier (RFC 8410).
var ed25519Scheme = &scheme{
	family:     "ed25519",
	oid:        oidEd25519,
	variants:   []variant{{Ed25519, 256}},
	algorithms: []algorithm{{oidEd25519, "Ed25519", 0, false}},
	signing:    func(Kind) string { return "Ed25519" },
	read: func(p *Public, _ cryptobyte.String) {
		p.Kind, p.Bits = Ed25519, 256
		if len(p.bitBytes) != ed25519.PublicKeySize {
			p.Fault = "an Ed25519 key has 32 bytes"
			return
		}
		if p.Fault = edwardsFault(p.bitBytes); p.Fault == "" {
			p.Key = ed25519.PublicKey(slices.Clone(p.bitBytes))
		}
	},
	encode: func(b *cryptobyte.Builder, public crypto.PublicKey) bool {
		pub, ours := public.(ed25519.PublicKey)
		if ours {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(oidEd25519) })
			b.AddASN1BitString(pub)
		}
		return ours
	},
	generate: func(_ variant, random io.Reader) (crypto.Signer, error) {
		_, private, err := ed25519.GenerateKey(random)
		return private, err
	},
	verify: func(p Public, _ Algorithm, message, signature []byte) bool {
		pub, ours := p.Key.(ed25519.PublicKey)
		return ours && ed25519.Verify(pub, message, signature)
	},
	words: func(Public) string { return "Ed25519" },
}
