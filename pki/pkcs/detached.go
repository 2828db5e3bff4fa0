package pkcs

import (
	"bytes"
	"crypto"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/key"
)

var (
	oidContentType   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 3}
	oidMessageDigest = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 4}
	oidSigningTime   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 5}
	oidSHA256        = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}
)

// Detached is a signature that is beside what it signs (RFC 5652 section 5, with signed
// attributes and one signer).
type Detached struct {
	Certificates [][]byte // the signer's among them, in no order that counts
	When         time.Time

	issuer, serial []byte // whose certificate is the signer's: its name and serial, as elements
	attributes     []byte // what is signed, with the tag of a set
	digest         []byte
	algorithm      key.Algorithm
	signature      []byte
}

// SignDetached signs content beside it. chain has the signer's certificate first, then those
// above it. The digest is SHA-256.
func SignDetached(content []byte, signer crypto.Signer, chain [][]byte, when time.Time, random io.Reader) ([]byte,
	error) {
	if len(chain) == 0 {
		return nil, errors.New("signature: the signer's certificate is missing")
	}
	issuer, serial, err := issuerAndSerial(chain[0])
	if err != nil {
		return nil, err
	}
	attributes, err := signedAttributes(sha256.Sum256(content), when)
	if err != nil {
		return nil, err
	}
	algorithm, signature, err := key.SignMessage(attributes, signer, random)
	if err != nil {
		return nil, err
	}
	sha := func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(oidSHA256) })
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(oidSigned)
		b.AddASN1(context0Outer, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1Int64(1)
				b.AddASN1(casn1.SET, sha)
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(oidData) })
				b.AddASN1(context0Outer, func(b *cryptobyte.Builder) {
					for _, c := range chain {
						b.AddBytes(c)
					}
				})
				b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) {
					b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
						b.AddASN1Int64(1)
						b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
							b.AddBytes(issuer)
							b.AddBytes(serial)
						})
						sha(b)
						inner := cryptobyte.String(attributes)
						inner.ReadASN1(&inner, casn1.SET)
						b.AddASN1(context0Outer, func(b *cryptobyte.Builder) { b.AddBytes(inner) })
						b.AddBytes(algorithm)
						b.AddASN1OctetString(signature)
					})
				})
			})
		})
	})
	return b.Bytes()
}

// signedAttributes are what is signed in place of the content: its type, its digest and the
// time, in the order that DER gives a set (RFC 5652 section 5.4).
func signedAttributes(digest [32]byte, when time.Time) ([]byte, error) {
	attribute := func(oid asn1.ObjectIdentifier, value func(b *cryptobyte.Builder)) []byte {
		var b cryptobyte.Builder
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(oid)
			b.AddASN1(casn1.SET, value)
		})
		return b.BytesOrPanic()
	}
	list := [][]byte{
		attribute(oidContentType, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(oidData) }),
		attribute(oidSigningTime, func(b *cryptobyte.Builder) { b.AddASN1UTCTime(when.UTC()) }),
		attribute(oidMessageDigest, func(b *cryptobyte.Builder) { b.AddASN1OctetString(digest[:]) }),
	}
	slices.SortFunc(list, bytes.Compare)
	var b cryptobyte.Builder
	b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) {
		for _, a := range list {
			b.AddBytes(a)
		}
	})
	return b.Bytes()
}

// issuerAndSerial are the two elements of a certificate by which its signer is named.
func issuerAndSerial(der []byte) (issuer, serial []byte, err error) {
	in := cryptobyte.String(der)
	var whole, tbs, number, name cryptobyte.String
	if !in.ReadASN1(&whole, casn1.SEQUENCE) || !whole.ReadASN1(&tbs, casn1.SEQUENCE) ||
		!tbs.SkipOptionalASN1(context0Outer) || !tbs.ReadASN1Element(&number, casn1.INTEGER) ||
		!tbs.SkipASN1(casn1.SEQUENCE) || !tbs.ReadASN1Element(&name, casn1.SEQUENCE) {
		return nil, nil, errors.New("signature: a certificate in it cannot be parsed")
	}
	return name, number, nil
}

// ReadDetached reads a signature that is beside what it signs: one signer, signed
// attributes, SHA-256. The certificates are not judged.
func ReadDetached(data []byte) (Detached, error) {
	var d Detached
	certificates, err := ReadSignedData(data)
	if err != nil {
		return d, err
	}
	d.Certificates = certificates
	der, err := ber.ToDER(data)
	if err != nil {
		return d, fmt.Errorf("signature: %w", err)
	}
	in := cryptobyte.String(der)
	var outer, wrapped, body, content, signers, info cryptobyte.String
	var oid asn1.ObjectIdentifier
	var version int
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !outer.ReadASN1ObjectIdentifier(&oid) ||
		!outer.ReadASN1(&wrapped, context0Outer) || !wrapped.ReadASN1(&body, casn1.SEQUENCE) ||
		!body.ReadASN1Integer(&version) || !body.SkipASN1(casn1.SET) || !body.ReadASN1(&content, casn1.SEQUENCE) ||
		!body.SkipASN1(context0Outer) || !body.SkipOptionalASN1(casn1.Tag(1).ContextSpecific().Constructed()) ||
		!body.ReadASN1(&signers, casn1.SET) || !content.ReadASN1ObjectIdentifier(&oid) {
		return d, errors.New("signature: its SignedData cannot be parsed (RFC 5652 section 5.1)")
	}
	if !content.Empty() {
		return d, errors.New("signature: it contains the content; it must be detached")
	}
	if !signers.ReadASN1(&info, casn1.SEQUENCE) || !signers.Empty() {
		return d, errors.New("signature: it has no signer, or several")
	}
	return d, d.readSigner(info)
}

func (d *Detached) readSigner(info cryptobyte.String) error {
	var version int
	var who, issuer, serial, hash, attributes, algorithm, signature cryptobyte.String
	var oid asn1.ObjectIdentifier
	if !info.ReadASN1Integer(&version) || !info.ReadASN1(&who, casn1.SEQUENCE) ||
		!who.ReadASN1Element(&issuer, casn1.SEQUENCE) || !who.ReadASN1Element(&serial, casn1.INTEGER) ||
		!info.ReadASN1(&hash, casn1.SEQUENCE) || !hash.ReadASN1ObjectIdentifier(&oid) ||
		!info.ReadASN1(&attributes, context0Outer) || !info.ReadASN1Element(&algorithm, casn1.SEQUENCE) ||
		!info.ReadASN1(&signature, casn1.OCTET_STRING) {
		return errors.New("signature: its signer cannot be parsed (RFC 5652 section 5.3)")
	}
	if !oid.Equal(oidSHA256) {
		return fmt.Errorf("signature: its digest is %s, and SHA-256 is wanted", oid)
	}
	var err error
	if d.algorithm, err = key.ReadAlgorithm(algorithm); err != nil {
		return err
	}
	d.issuer, d.serial, d.signature = issuer, serial, signature
	var b cryptobyte.Builder
	b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) { b.AddBytes(attributes) })
	if d.attributes, err = b.Bytes(); err != nil {
		return err
	}
	return d.readAttributes(attributes)
}

func (d *Detached) readAttributes(in cryptobyte.String) error {
	bad := errors.New("signature: its attributes cannot be parsed (RFC 5652 section 11)")
	seen := map[string]bool{}
	for !in.Empty() {
		var one, values cryptobyte.String
		var oid, kind asn1.ObjectIdentifier
		if !in.ReadASN1(&one, casn1.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&oid) ||
			!one.ReadASN1(&values, casn1.SET) || seen[oid.String()] {
			return bad
		}
		seen[oid.String()] = true
		switch {
		case oid.Equal(oidContentType):
			if !values.ReadASN1ObjectIdentifier(&kind) || !kind.Equal(oidData) || !values.Empty() {
				return bad
			}
		case oid.Equal(oidMessageDigest):
			var digest cryptobyte.String
			if !values.ReadASN1(&digest, casn1.OCTET_STRING) || !values.Empty() {
				return bad
			}
			d.digest = digest
		case oid.Equal(oidSigningTime):
			if !values.ReadASN1UTCTime(&d.When) && !values.ReadASN1GeneralizedTime(&d.When) {
				return bad
			}
		}
	}
	if len(d.digest) == 0 || !seen[oidContentType.String()] {
		return errors.New("signature: its attributes lack the digest or the type (RFC 5652 section 5.3)")
	}
	return nil
}

// Signer is the position of the signer's certificate; -1 when it is not there.
func (d Detached) Signer() int {
	return slices.IndexFunc(d.Certificates, func(der []byte) bool {
		issuer, serial, err := issuerAndSerial(der)
		return err == nil && bytes.Equal(issuer, d.issuer) && bytes.Equal(serial, d.serial)
	})
}

// Verify says whether the key signed the content.
func (d Detached) Verify(content []byte, by key.Public) error {
	sum := sha256.Sum256(content)
	if subtle.ConstantTimeCompare(sum[:], d.digest) != 1 {
		return errors.New("signature: it is of another content")
	}
	if d.algorithm.Weak() || !d.algorithm.Known() {
		return fmt.Errorf("signature: its algorithm, %s, proves nothing", d.algorithm.Name)
	}
	if err := by.Verify(d.algorithm, d.attributes, d.signature); err != nil {
		return fmt.Errorf("signature: %w", err)
	}
	return nil
}
