// Package est writes what EST tells machines of the requests that they are to send (RFC 7030 section 4.5, RFC 8951
// section 3.4, RFC 9908), and wraps keys that were made for them (RFC 7030 section 4.4.2).
package est

import (
	"encoding/asn1"
	"maps"
	"slices"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/template"
)

var (
	idExtensionRequest  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 14}
	idInfoTemplate      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 2, 61}
	idExtensionTemplate = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 2, 62}
	idAlternativeName   = asn1.ObjectIdentifier{2, 5, 29, 17}
	idRSA               = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 1}
	idEC                = asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1}
	idEd25519           = asn1.ObjectIdentifier{1, 3, 101, 112}
	curves              = map[key.Kind]asn1.ObjectIdentifier{key.P256: {1, 2, 840, 10045, 3, 1, 7}, key.P384: {1, 3,
		132, 0, 34},
		key.P521: {1, 3, 132, 0, 35}}
)

// KeyOf is the kind of key that a machine makes for a template: the first that it takes.
func KeyOf(t template.Template) key.Kind {
	for _, k := range t.Keys {
		if kind, err := key.ParseKind(strings.TrimSuffix(k, "+")); err == nil {
			return kind
		}
	}
	return key.P256
}

// Attributes are what a request for a template should have (CsrAttrs): in the form of a template (RFC 9908 section
// 3.4),
// and in the older form for machines that do not know it.
func Attributes(t template.Template) ([]byte, error) {
	kind := KeyOf(t)
	extensions := extensionsOf(t, kind)
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		attribute(b, idInfoTemplate, func(b *cryptobyte.Builder) { infoTemplate(b, t, kind, extensions) })
		attribute(b, idExtensionRequest, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				for _, e := range extensions {
					extension(b, e)
				}
			})
		})
		switch curve, isEC := curves[kind]; {
		case isEC:
			attribute(b, idEC, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(curve) })
		case kind.Family() == "rsa":
			b.AddASN1ObjectIdentifier(idRSA)
		default:
			b.AddASN1ObjectIdentifier(idEd25519)
		}
	})
	return b.Bytes()
}

func attribute(b *cryptobyte.Builder, id asn1.ObjectIdentifier, value cryptobyte.BuilderContinuation) {
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(id)
		b.AddASN1(casn1.SET, value)
	})
}

// extensionsOf are those that the template gives, whatever is asked for.
func extensionsOf(t template.Template, kind key.Kind) (out ext.Set) {
	if u := t.KeyUsage(kind); u != 0 {
		out = append(out, u.Extension())
	}
	if ids := t.ExtendedUsage(); len(ids) > 0 {
		out = append(out, ext.ExtendedExtension(ids, t.Critical))
	}
	return out
}

func extension(b *cryptobyte.Builder, e ext.Extension) {
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(e.ID)
		if e.Critical {
			b.AddASN1Boolean(true)
		}
		b.AddASN1OctetString(e.Value)
	})
}

// infoTemplate writes a CertificationRequestInfoTemplate: what has no value is for the machine to fill in.
func infoTemplate(b *cryptobyte.Builder, t template.Template, kind key.Kind, extensions ext.Set) {
	outer := func(n uint8) casn1.Tag { return casn1.Tag(n).ContextSpecific().Constructed() }
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(0)
		subjectTemplate(b, t)
		b.AddASN1(outer(0), func(b *cryptobyte.Builder) { // the key
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				switch curve, isEC := curves[kind]; {
				case isEC:
					b.AddASN1ObjectIdentifier(idEC)
					b.AddASN1ObjectIdentifier(curve)
				case kind.Family() == "rsa":
					b.AddASN1ObjectIdentifier(idRSA)
					b.AddASN1NULL()
				default:
					b.AddASN1ObjectIdentifier(idEd25519)
				}
			})
		})
		b.AddASN1(outer(1), func(b *cryptobyte.Builder) {
			attribute(b, idExtensionTemplate, func(b *cryptobyte.Builder) {
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
					if len(t.Names.Kinds) > 0 {
						b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
							b.
								AddASN1ObjectIdentifier(idAlternativeName)
						})
					}
					for _, e := range extensions {
						extension(b, e)
					}
				})
			})
		})
	})
}

// subjectTemplate writes the fields of the subject: those that are fixed with their value.
func subjectTemplate(b *cryptobyte.Builder, t template.Template) {
	field := func(b *cryptobyte.Builder, short, value string) {
		id, known := dn.TypeFor(short)
		if !known {
			return
		}
		b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(id)
				if value != "" {
					b.AddASN1(casn1.UTF8String, func(b *cryptobyte.Builder) { b.AddBytes([]byte(value)) })
				}
			})
		})
	}
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, short := range slices.Sorted(maps.Keys(t.Subject.Fixed)) {
			field(b, short, t.Subject.Fixed[short])
		}
		for _, short := range t.Subject.Take {
			if _, fixed := t.Subject.Fixed[short]; !fixed {
				field(b, short, "")
			}
		}
	})
}
