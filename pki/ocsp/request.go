// Package ocsp asks and answers for the status of certificates (RFC 6960), both ways,
// as bytes. It does not transport them.
//
// A request names certificates by hashes of their issuer and by their serials. A response
// is signed by the issuer itself, or by a key to which the issuer gave a certificate for
// nothing else; Read tells what a response says, and Judge whether a client may believe it.
// The profile for large environments (RFC 5019) is followed in what is asked: one
// certificate, SHA-1 identifiers unless told otherwise, no more than is needed.
package ocsp

import (
	"bytes"
	"crypto"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/asn1"
	"errors"
	"fmt"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/key"
)

// Bounds of what is read.
const (
	MostSize    = 1 << 20 // octets of a request or a response
	MostAsked   = 256     // certificates in one request
	MostNonce   = 128     // octets (RFC 9654 section 2.1)
	LeastNonce  = 1
	FreshNonce  = 32 // octets that a client should send (RFC 9654 section 2.1)
	mostSigners = 16 // certificates in one response
)

var (
	oidSHA1     = asn1.ObjectIdentifier{1, 3, 14, 3, 2, 26}
	oidSHA256   = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}
	oidBasic    = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 48, 1, 1}
	oidNonce    = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 48, 1, 2}
	oidCutoff   = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 48, 1, 6}
	tag0        = casn1.Tag(0).ContextSpecific()
	tag1        = casn1.Tag(1).ContextSpecific()
	tag2        = casn1.Tag(2).ContextSpecific()
	explicit0   = tag0.Constructed()
	explicit1   = tag1.Constructed()
	explicit2   = tag2.Constructed()
	errQuestion = errors.New("OCSP request: it is not the ASN.1 structure of one (RFC 6960 section 4.1.1)")
)

// ID names a certificate in a request or a response.
type ID struct {
	Hash   crypto.Hash // crypto.SHA1 or crypto.SHA256; 0 where it is another
	Name   []byte      // hash of the issuer's name
	Key    []byte      // hash of the issuer's key
	Serial cert.Serial
	raw    []byte // as it stood
}

// IDOf names a certificate of an issuer.
func IDOf(hash crypto.Hash, issuer *cert.Certificate, serial cert.Serial) (ID, error) {
	bits, err := keyBits(issuer.Key)
	if err != nil {
		return ID{}, err
	}
	id := ID{Hash: hash, Serial: serial, Name: sum(hash, issuer.Subject.DER()), Key: sum(hash, bits)}
	if id.Name == nil {
		return id, errors.New("OCSP: identifiers are made with SHA-1 or SHA-256")
	}
	return id, nil
}

func sum(hash crypto.Hash, data []byte) []byte {
	switch hash {
	case crypto.SHA1:
		s := sha1.Sum(data)
		return s[:]
	case crypto.SHA256:
		s := sha256.Sum256(data)
		return s[:]
	}
	return nil
}

// keyBits is the content of a key's BIT STRING, which identifiers are hashes of.
func keyBits(p key.Public) ([]byte, error) {
	in := cryptobyte.String(p.SPKI)
	var seq, alg, bits cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !seq.ReadASN1(&alg, casn1.SEQUENCE) ||
		!seq.ReadASN1(&bits, casn1.BIT_STRING) || len(bits) < 1 {
		return nil, errors.New("OCSP: the issuer's key cannot be parsed")
	}
	return bits[1:], nil
}

// Of reports whether an identifier names a certificate of this issuer.
func (id ID) Of(issuer *cert.Certificate) bool {
	own, err := IDOf(id.Hash, issuer, id.Serial)
	return err == nil && bytes.Equal(own.Name, id.Name) && bytes.Equal(own.Key, id.Key)
}

// Same reports whether two identifiers are the same.
func (id ID) Same(o ID) bool {
	return id.Hash == o.Hash && id.Hash != 0 && bytes.Equal(id.Name, o.Name) && bytes.Equal(id.Key, o.Key) &&
		id.Serial.Hex() == o.Serial.Hex()
}

func (id ID) add(b *cryptobyte.Builder) {
	if id.raw != nil { // answered as it was asked, octet for octet
		b.AddBytes(id.raw)
		return
	}
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			oid := oidSHA1
			if id.Hash == crypto.SHA256 {
				oid = oidSHA256
			}
			b.AddASN1ObjectIdentifier(oid)
			b.AddASN1NULL()
		})
		b.AddASN1OctetString(id.Name)
		b.AddASN1OctetString(id.Key)
		b.AddASN1BigInt(id.Serial.Big())
	})
}

func (id ID) der() ([]byte, error) {
	var b cryptobyte.Builder
	id.add(&b)
	return b.Bytes()
}

func readID(in *cryptobyte.String) (ID, bool) {
	var whole, body, alg, name, issuerKey, serial cryptobyte.String
	var oid asn1.ObjectIdentifier
	if !in.ReadASN1Element(&whole, casn1.SEQUENCE) {
		return ID{}, false
	}
	rest := whole
	if !rest.ReadASN1(&body, casn1.SEQUENCE) || !body.ReadASN1(&alg, casn1.SEQUENCE) ||
		!alg.ReadASN1ObjectIdentifier(&oid) || !body.ReadASN1(&name, casn1.OCTET_STRING) ||
		!body.ReadASN1(&issuerKey, casn1.OCTET_STRING) || len(name) > 64 || len(issuerKey) > 64 {
		return ID{}, false
	}
	var n bigInt
	if !body.ReadASN1Element(&serial, casn1.INTEGER) || len(serial) > 66 || !serial.ReadASN1Integer(&n.Int) ||
		!body.Empty() {
		return ID{}, false
	}
	id := ID{Name: name, Key: issuerKey, Serial: cert.SerialOf(&n.Int), raw: whole}
	switch {
	case oid.Equal(oidSHA1) && len(name) == 20 && len(issuerKey) == 20:
		id.Hash = crypto.SHA1
	case oid.Equal(oidSHA256) && len(name) == 32 && len(issuerKey) == 32:
		id.Hash = crypto.SHA256
	}
	return id, true
}

// Request is an OCSP request (RFC 6960 section 4.1.1).
type Request struct {
	Asked []ID
	Nonce []byte // nil if none exists
}

// DER encodes the request, unsigned, as nearly all are.
func (r Request) DER() ([]byte, error) {
	if len(r.Asked) == 0 || len(r.Asked) > MostAsked {
		return nil, fmt.Errorf("OCSP request: it asks for %d certificates; from 1 to %d can be asked for", len(r.Asked),
			MostAsked)
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				for _, id := range r.Asked {
					b.AddASN1(casn1.SEQUENCE, id.add)
				}
			})
			if r.Nonce != nil {
				b.AddASN1(explicit2, func(b *cryptobyte.Builder) { ext.Set{nonce(r.Nonce)}.Add(b) })
			}
		})
	})
	return b.Bytes()
}

func nonce(n []byte) ext.Extension {
	var b cryptobyte.Builder
	b.AddASN1OctetString(n)
	return ext.Extension{ID: oidNonce, Value: b.BytesOrPanic()}
}

// ReadRequest reads a request. The bytes may be hostile. A signature on it is not looked
// at: anybody may ask.
func ReadRequest(der []byte) (Request, error) {
	var r Request
	in := cryptobyte.String(der)
	var outer, tbs, list, field cryptobyte.String
	var there bool
	if len(der) > MostSize || !in.ReadASN1(&outer, casn1.SEQUENCE) || !in.Empty() ||
		!outer.ReadASN1(&tbs, casn1.SEQUENCE) || !readVersion(&tbs) ||
		!tbs.ReadOptionalASN1(&field, &there, explicit1) || !tbs.ReadASN1(&list, casn1.SEQUENCE) {
		return r, errQuestion
	}
	for !list.Empty() {
		var one cryptobyte.String
		if !list.ReadASN1(&one, casn1.SEQUENCE) {
			return r, errQuestion
		}
		id, ok := readID(&one)
		if !ok {
			return r, errQuestion
		}
		if err := readSingleExtensions(&one); err != nil {
			return r, err
		}
		if len(r.Asked) == MostAsked {
			return r, fmt.Errorf("OCSP request: more than %d certificates are asked for", MostAsked)
		}
		r.Asked = append(r.Asked, id)
	}
	if len(r.Asked) == 0 {
		return r, errQuestion
	}
	if tbs.Empty() {
		return r, nil
	}
	if !tbs.ReadASN1(&field, explicit2) || !tbs.Empty() {
		return r, errQuestion
	}
	var err error
	r.Nonce, _, err = readExtensions(field)
	return r, err
}

// readVersion passes over a version, which is the first.
func readVersion(in *cryptobyte.String) bool {
	var field cryptobyte.String
	var there bool
	version := 0
	return in.ReadOptionalASN1(&field, &there, explicit0) &&
		(!there || field.ReadASN1Integer(&version) && version == 0 && field.Empty())
}

func readSingleExtensions(one *cryptobyte.String) error {
	var field cryptobyte.String
	if one.Empty() {
		return nil
	}
	if !one.ReadASN1(&field, explicit0) || !one.Empty() {
		return errQuestion
	}
	_, _, err := readExtensions(field)
	return err
}

// readExtensions reads the extensions of a request or a response: the nonce is taken out,
// and what is critical and not known is refused.
func readExtensions(field []byte) (nonce []byte, set ext.Set, err error) {
	set, err = ext.ReadSet(field)
	if err != nil {
		return nil, nil, fmt.Errorf("OCSP: %w", err)
	}
	if len(set.Repeated()) > 0 {
		return nil, nil, errors.New("OCSP: an extension stands twice")
	}
	for _, x := range set {
		switch {
		case x.ID.Equal(oidNonce):
			in := cryptobyte.String(x.Value)
			var n cryptobyte.String
			if !in.ReadASN1(&n, casn1.OCTET_STRING) || !in.Empty() { // before RFC 8954 any octets would do
				n = x.Value
			}
			if len(n) < LeastNonce || len(n) > MostNonce {
				return nil, nil, fmt.Errorf("OCSP: a nonce of %d octets; from %d to %d are allowed (RFC 9654 "+
					"section 2.1)",
					len(n), LeastNonce, MostNonce)
			}
			nonce = n
		case x.Critical:
			return nil, nil, fmt.Errorf("OCSP: the critical extension %s is not understood", x.ID)
		}
	}
	return nonce, set, nil
}
