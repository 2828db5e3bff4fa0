package ext

import (
	"encoding/asn1"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/dn"
)

// AnyPolicy is the policy that means all (RFC 5280 section 4.2.1.4).
var AnyPolicy = asn1.ObjectIdentifier{2, 5, 29, 32, 0}

var (
	noCheckID     = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 48, 1, 5}
	AccessOCSP    = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 48, 1}
	AccessIssuers = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 48, 2}
	uriTag        = casn1.Tag(6).ContextSpecific()
)

// Policies encodes certificate policies, given as dotted identifiers.
func Policies(list []string) (Extension, error) {
	var b cryptobyte.Builder
	var fault error
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, p := range list {
			id, ok := dn.ParseOID(p)
			if !ok {
				fault = fmt.Errorf("policy %q: not a dotted identifier", p)
				return
			}
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(id) })
		}
	})
	if fault != nil {
		return Extension{}, fault
	}
	return Extension{ID: PoliciesID, Value: b.BytesOrPanic()}, nil
}

// ReadPolicies decodes the identifiers of certificate policies.
func ReadPolicies(value []byte) ([]asn1.ObjectIdentifier, error) {
	in := cryptobyte.String(value)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() {
		return nil, errors.New("certificate policies: not one ASN.1 sequence")
	}
	var out []asn1.ObjectIdentifier
	for !seq.Empty() {
		var one cryptobyte.String
		var id asn1.ObjectIdentifier
		if !seq.ReadASN1(&one, casn1.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&id) || len(out) == Most {
			return out, errors.New("certificate policies: a policy cannot be parsed")
		}
		out = append(out, id)
	}
	return out, nil
}

// ListAddresses encodes where the revocation list is (section 4.2.1.13): one
// point with all addresses of the same list.
func ListAddresses(urls []string) Extension {
	var b cryptobyte.Builder
	full := casn1.Tag(0).ContextSpecific().Constructed()
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1(full, func(b *cryptobyte.Builder) {
				b.AddASN1(full, func(b *cryptobyte.Builder) {
					for _, u := range urls {
						b.AddASN1(uriTag, func(b *cryptobyte.Builder) { b.AddBytes([]byte(u)) })
					}
				})
			})
		})
	})
	return Extension{ID: CRLPoints, Value: b.BytesOrPanic()}
}

// Access encodes where the issuer's certificate and its OCSP responder are
// (section 4.2.2.1).
func Access(issuers, ocsp []string) Extension {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, list := range []struct {
			method asn1.ObjectIdentifier
			urls   []string
		}{{AccessOCSP, ocsp}, {AccessIssuers, issuers}} {
			for _, u := range list.urls {
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1ObjectIdentifier(list.method)
					b.AddASN1(uriTag, func(b *cryptobyte.Builder) { b.AddBytes([]byte(u)) })
				})
			}
		}
	})
	return Extension{ID: InfoAccess, Value: b.BytesOrPanic()}
}

// NoCheck marks an OCSP responder's certificate (RFC 6960 section 4.2.2.2.1).
func NoCheck() Extension { return Extension{ID: noCheckID, Value: []byte{5, 0}} }

// NoRevocation says that no revocation information will exist for the certificate
// (RFC 9608 section 3); it stands in certificates that live too shortly for that.
func NoRevocation() Extension { return Extension{ID: NoRevocationID, Value: []byte{5, 0}} }

// Freshest encodes where the delta of a list is (RFC 5280 section 5.2.6).
func Freshest(urls []string) Extension {
	return Extension{ID: FreshestID, Value: ListAddresses(urls).Value}
}

// IsNoCheck reports whether an extension is the mark of OCSP responders.
func (e Extension) IsNoCheck() bool { return e.ID.Equal(noCheckID) }

// addresses finds every URI in an extension's value, wherever it stands.
func addresses(value []byte, depth int) []string {
	var out []string
	in := cryptobyte.String(value)
	for !in.Empty() && depth < 8 {
		var body cryptobyte.String
		var tag casn1.Tag
		if !in.ReadAnyASN1(&body, &tag) {
			return out
		}
		if tag == uriTag {
			out = append(out, string(body))
		} else if tag&0x20 != 0 {
			out = append(out, addresses(body, depth+1)...)
		}
	}
	return out
}

// policyWords describes certificate policies in one line.
func policyWords(value []byte) string {
	ids, err := ReadPolicies(value)
	if err != nil {
		return ""
	}
	var out []string
	for _, id := range ids {
		out = append(out, id.String())
		if id.Equal(AnyPolicy) {
			out[len(out)-1] = "any policy"
		}
	}
	return strings.Join(out, ", ")
}
