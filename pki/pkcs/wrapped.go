package pkcs

import (
	"encoding/asn1"
	"errors"
	"fmt"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
)

// contents are the types of what a PKCS#7 container can wrap, in the words of the standards (RFC 5652, RFC 5272).
var contents = []struct {
	oid   asn1.ObjectIdentifier
	words string
}{
	{oidData, "data"}, {oidSigned, "signed data"}, {oidEncrypted, "encrypted data"},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 3}, "data that is encrypted for a recipient (EnvelopedData)"},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 5}, "a digest of data"},
	{oidPKIData, "a certificate management request (CMC)"},
	{asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 12, 3}, "a certificate management answer (CMC)"},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 1, 4}, "a time stamp"},
}

var oidPKIData = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 12, 2}

func wordsOf(oid asn1.ObjectIdentifier) string {
	for _, c := range contents {
		if c.oid.Equal(oid) {
			return c.words
		}
	}
	return "content of type " + oid.String()
}

// Wrapped is what a SignedData signs: in words what it is, and the requests (RFC 2986) among it. Devices wrap a
// request for a renewal so, signed by the certificate that there is.
type Wrapped struct {
	Words    string
	Content  []byte   // nil where none is inside
	Requests [][]byte // DER
}

// ReadWrapped reads what a PKCS#7 container wraps, BER or DER. The signature over it is not looked at.
func ReadWrapped(data []byte) (Wrapped, error) {
	der, err := ber.ToDER(data)
	if err != nil {
		return Wrapped{}, fmt.Errorf("PKCS#7: %w", err)
	}
	in := cryptobyte.String(der)
	var outer, wrapped, body, inner, content cryptobyte.String
	var oid, kind asn1.ObjectIdentifier
	var version int
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !outer.ReadASN1ObjectIdentifier(&oid) {
		return Wrapped{}, errors.New("PKCS#7: it is not a ContentInfo (RFC 5652 section 3)")
	}
	if !oid.Equal(oidSigned) {
		return Wrapped{Words: wordsOf(oid)}, nil
	}
	if !outer.ReadASN1(&wrapped, context0Outer) || !wrapped.ReadASN1(&body, casn1.SEQUENCE) ||
		!body.ReadASN1Integer(&version) || !body.SkipASN1(casn1.SET) || !body.ReadASN1(&inner, casn1.SEQUENCE) ||
		!inner.ReadASN1ObjectIdentifier(&kind) {
		return Wrapped{}, errors.New("PKCS#7: its SignedData cannot be parsed (RFC 5652 section 5.1)")
	}
	out := Wrapped{Words: wordsOf(kind)}
	if inner.Empty() {
		return out, nil
	}
	if !inner.ReadASN1(&content, context0Outer) {
		return out, errors.New("PKCS#7: its content cannot be parsed (RFC 5652 section 5.2)")
	}
	var octets cryptobyte.String
	if rest := content; rest.ReadASN1(&octets, casn1.OCTET_STRING) {
		content = octets // PKCS#7 of before 1998 has the content as it is
	}
	out.Content = content
	if kind.Equal(oidPKIData) {
		out.Requests = managed(content)
	} else if isRequest(content) {
		out.Requests = [][]byte{content}
	}
	return out, nil
}

// isRequest reports whether bytes have the form of a PKCS#10 request.
func isRequest(der cryptobyte.String) bool {
	var outer, info, signature cryptobyte.String
	var version int
	return der.ReadASN1(&outer, casn1.SEQUENCE) && der.Empty() && outer.ReadASN1(&info, casn1.SEQUENCE) &&
		outer.SkipASN1(casn1.SEQUENCE) && outer.ReadASN1(&signature, casn1.BIT_STRING) &&
		info.ReadASN1Integer(&version) && info.SkipASN1(casn1.SEQUENCE) && info.SkipASN1(casn1.SEQUENCE) &&
		(info.Empty() || info.PeekASN1Tag(context0Outer))
}

// managed are the PKCS#10 requests of a PKIData (RFC 5272 section 3.2.1).
func managed(der cryptobyte.String) (out [][]byte) {
	var data, list cryptobyte.String
	if !der.ReadASN1(&data, casn1.SEQUENCE) || !data.SkipASN1(casn1.SEQUENCE) || !data.ReadASN1(&list, casn1.SEQUENCE) {
		return nil
	}
	for !list.Empty() && len(out) < MostObjects {
		var one, request cryptobyte.String
		var tag casn1.Tag
		var part int64
		if !list.ReadAnyASN1(&one, &tag) {
			return out
		}
		if tag == context0Outer && one.ReadASN1Integer(&part) && one.ReadASN1Element(&request, casn1.SEQUENCE) &&
			isRequest(request) {
			out = append(out, request)
		}
	}
	return out
}
