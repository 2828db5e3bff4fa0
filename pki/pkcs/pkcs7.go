// Package pkcs reads and writes the containers that certificates and keys travel in:
// the certificates-only form of PKCS#7 (RFC 2315, RFC 5652) and PKCS#12 (RFC 7292,
// RFC 9579).
//
// What others write comes in many forms, and all are read: lengths left open, strings
// in pieces, ciphers of thirty years. What is written has one form a profile. The work
// that a file demands before its password is known to be right is bounded.
package pkcs

import (
	"encoding/asn1"
	"errors"
	"fmt"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
)

// MostObjects bounds how many certificates and keys are read of one container.
const MostObjects = 10_000

var (
	oidData       = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}
	oidSigned     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}
	oidEncrypted  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 6}
	context0      = casn1.Tag(0).ContextSpecific()
	context0Outer = context0.Constructed()
)

// WriteSignedData writes certificates as a certificates-only SignedData (RFC
// 5652 section 5, as RFC 5751 section 3.3 uses it). They keep their order: the
// standard calls them a set, and devices take the first for the leaf.
func WriteSignedData(certificates [][]byte) ([]byte, error) {
	if len(certificates) == 0 {
		return nil, errors.New("PKCS#7: there is no certificate to write")
	}
	return unsigned(certificates, nil)
}

// WriteLists writes revocation lists as a SignedData without signers (RFC 8894 section 4.7).
func WriteLists(lists [][]byte) ([]byte, error) { return unsigned(nil, lists) }

func unsigned(certificates, lists [][]byte) ([]byte, error) {
	add := func(b *cryptobyte.Builder, tag casn1.Tag, all [][]byte) {
		if len(all) > 0 {
			b.AddASN1(tag, func(b *cryptobyte.Builder) {
				for _, c := range all {
					b.AddBytes(c)
				}
			})
		}
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(oidSigned)
		b.AddASN1(context0Outer, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1Int64(1)
				b.AddASN1(casn1.SET, func(*cryptobyte.Builder) {})
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(oidData) })
				add(b, context0Outer, certificates)
				add(b, casn1.Tag(1).ContextSpecific().Constructed(), lists)
				b.AddASN1(casn1.SET, func(*cryptobyte.Builder) {})
			})
		})
	})
	return b.Bytes()
}

// ReadSignedData reads the certificates of a SignedData, BER or DER. What it
// signs, if anything, is not looked at.
func ReadSignedData(data []byte) ([][]byte, error) {
	der, err := ber.ToDER(data)
	if err != nil {
		return nil, fmt.Errorf("PKCS#7: %w", err)
	}
	in := cryptobyte.String(der)
	var outer, wrapped, body, field cryptobyte.String
	var oid asn1.ObjectIdentifier
	var version int
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !outer.ReadASN1ObjectIdentifier(&oid) {
		return nil, errors.New("PKCS#7: it is not a ContentInfo (RFC 5652 section 3)")
	}
	if !oid.Equal(oidSigned) {
		return nil, fmt.Errorf("PKCS#7: its content is of type %s; only SignedData holds certificates", oid)
	}
	if !outer.ReadASN1(&wrapped, context0Outer) || !wrapped.ReadASN1(&body, casn1.SEQUENCE) ||
		!body.ReadASN1Integer(&version) ||
		!body.SkipASN1(casn1.SET) || !body.SkipASN1(casn1.SEQUENCE) {
		return nil, errors.New("PKCS#7: its SignedData cannot be parsed (RFC 5652 section 5.1)")
	}
	if !body.PeekASN1Tag(context0Outer) {
		return nil, errors.New("PKCS#7: there are no certificates in it")
	}
	if !body.ReadASN1(&field, context0Outer) {
		return nil, errors.New("PKCS#7: its certificates cannot be parsed")
	}
	var out [][]byte
	for !field.Empty() {
		var one cryptobyte.String
		var tag casn1.Tag
		if !field.ReadAnyASN1Element(&one, &tag) || len(out) == MostObjects {
			return nil, fmt.Errorf("PKCS#7: more than %d certificates, or one that cannot be parsed", MostObjects)
		}
		if tag == casn1.SEQUENCE { // other choices are attribute certificates
			out = append(out, append([]byte(nil), one...))
		}
	}
	if len(out) == 0 {
		return nil, errors.New("PKCS#7: there are no certificates in it")
	}
	return out, nil
}
