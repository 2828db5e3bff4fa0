package specimen

import (
	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ext"
)

// The program reads these and never writes them; tests make certificates and lists that have them.

// Mappings encodes policy mappings, critical as RFC 5280 section 4.2.1.5 advises.
func Mappings(list []ext.Mapping) ext.Extension {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, m := range list {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(m.Issuer)
				b.AddASN1ObjectIdentifier(m.Subject)
			})
		}
	})
	return ext.Extension{ID: ext.PolicyMappings, Critical: true, Value: b.BytesOrPanic()}
}

// Limits encodes policy constraints, critical as RFC 5280 section 4.2.1.11 asks.
func Limits(l ext.Limits) ext.Extension {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for i, n := range []int{l.Explicit, l.Mapping} {
			if n >= 0 {
				b.AddASN1Int64WithTag(int64(n), casn1.Tag(i).ContextSpecific())
			}
		}
	})
	return ext.Extension{ID: ext.PolicyLimits, Critical: true, Value: b.BytesOrPanic()}
}

// InhibitAnyPolicy encodes after how many further certificates the policy that
// means all no longer counts (RFC 5280 section 4.2.1.14).
func InhibitAnyPolicy(after int) ext.Extension {
	var b cryptobyte.Builder
	b.AddASN1Int64(int64(after))
	return ext.Extension{ID: ext.InhibitAny, Critical: true, Value: b.BytesOrPanic()}
}
