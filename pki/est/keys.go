package est

import (
	"crypto"
	"crypto/rsa"
	"encoding/asn1"
	"errors"
	"io"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/key"
	"ironseal/pki/pkcs"
)

var (
	idKeyPackage = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 2, 1, 2, 78, 5} // RFC 5958 section 2
	idSignedData = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}
)

// By is who made a key: it signs the package that the key travels in.
type By struct {
	Signer       crypto.Signer
	Certificates [][]byte // the signer's first
}

// SealKey wraps a private key for the machine that it was made for: in a package that is signed by whoever made it, and
// sealed to an RSA key of the machine (RFC 7030 section 4.4.2).
func SealKey(made crypto.Signer, to key.Public, by By, now time.Time, random io.Reader) ([]byte, error) {
	public, ok := to.Key.(*rsa.PublicKey)
	if !ok {
		return nil, errors.New("a key is sealed to an RSA key of the machine, and it has none")
	}
	plain, err := key.Plain(made)
	if err != nil {
		return nil, err
	}
	defer clear(plain)
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddBytes(plain) })
	keys, err := b.Bytes()
	if err != nil {
		return nil, err
	}
	defer clear(keys)
	signed, err := pkcs.Draft{Type: idKeyPackage, Content: keys, Certificates: by.Certificates, When: now}.
		Sign(by.Signer, random)
	if err != nil {
		return nil, err
	}
	defer clear(signed)
	in := cryptobyte.String(signed) // what is sealed has its type beside it, and not around it
	var outer, wrapped, inner cryptobyte.String
	var id asn1.ObjectIdentifier
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !outer.ReadASN1ObjectIdentifier(&id) ||
		!outer.ReadASN1(&wrapped, casn1.Tag(0).ContextSpecific().Constructed()) ||
		!wrapped.ReadASN1Element(&inner, casn1.SEQUENCE) {
		return nil, errors.New("the signed package does not read back")
	}
	return pkcs.SealToKey(idSignedData, inner, to.Identifier(), public, pkcs.AES256, random)
}
