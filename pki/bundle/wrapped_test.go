package bundle

import (
	"encoding/asn1"
	"strings"
	"testing"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/specimen"
)

// wrapped is a SignedData around content of a type, as devices send it.
func wrapped(kind asn1.ObjectIdentifier, content []byte) []byte {
	outer := casn1.Tag(0).ContextSpecific().Constructed()
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2})
		b.AddASN1(outer, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1Int64(1)
				b.AddASN1(casn1.SET, func(*cryptobyte.Builder) {})
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1ObjectIdentifier(kind)
					b.AddASN1(outer, func(b *cryptobyte.Builder) { b.AddASN1OctetString(content) })
				})
				b.AddASN1(casn1.SET, func(*cryptobyte.Builder) {})
			})
		})
	})
	return b.BytesOrPanic()
}

// managed is a PKIData with one request (RFC 5272 section 3.2.1).
func managed(request []byte) []byte {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.SEQUENCE, func(*cryptobyte.Builder) {})
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.Tag(0).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
				b.AddASN1Int64(1)
				b.AddBytes(request)
			})
		})
		b.AddASN1(casn1.SEQUENCE, func(*cryptobyte.Builder) {})
		b.AddASN1(casn1.SEQUENCE, func(*cryptobyte.Builder) {})
	})
	return b.BytesOrPanic()
}

// A PKCS#7 container around a request gives the request; one around something else says what that is.
func TestWhatAContainerWraps(t *testing.T) {
	r := specimen.Request(t, nil, "CN=gate-2.ternbay.example", []string{"gate-2.ternbay.example"}).Raw
	data, cmc := asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}, asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 12, 2}
	for name, c := range map[string]struct {
		in      []byte
		request bool
		say     string
	}{
		"a request as data":      {wrapped(data, r), true, "around 1 request"},
		"a request as text":      {PEM(SignedData, wrapped(data, r)), true, "around 1 request"},
		"a managed request":      {wrapped(cmc, managed(r)), true, "around 1 request"},
		"a message":              {wrapped(data, []byte("all aboard")), false, "it wraps data"},
		"management without one": {wrapped(cmc, []byte{0x30, 0}), false, "a certificate management request"},
		"a time stamp": {wrapped(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 1, 4}, r[:20]), false,
			"a time stamp"},
		"what nobody knows":       {wrapped(asn1.ObjectIdentifier{2, 999, 1}, []byte{5, 0}), false, "type 2.999.1"},
		"half of a request, data": {wrapped(data, r[:len(r)/2]), false, "it wraps data"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := Read(c.in)
			text := strings.Join(got.Remarks, " ")
			for _, p := range got.Problems {
				text += p.Error()
			}
			if err != nil {
				text += err.Error()
			}
			if (len(got.Of(Request)) == 1 && string(got.Of(Request)[0].DER) == string(r)) != c.request ||
				!strings.Contains(text, c.say) {
				t.Errorf("%d requests, and it says %q", len(got.Of(Request)), text)
			}
		})
	}
}
