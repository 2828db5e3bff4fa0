package dn

import (
	"encoding/asn1"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// attributeTypes are the types with short names: RFC 4514 section 3, RFC 5280
// section 4.1.2.4 and appendix A (with its upper bounds), RFC 2985.
var attributeTypes = []struct {
	short string
	oid   asn1.ObjectIdentifier
	most  int // upper bound in characters; 0 where none is given
}{
	{"CN", asn1.ObjectIdentifier{2, 5, 4, 3}, 64},
	{"SN", asn1.ObjectIdentifier{2, 5, 4, 4}, 40},
	{"serialNumber", asn1.ObjectIdentifier{2, 5, 4, 5}, 64},
	{"C", asn1.ObjectIdentifier{2, 5, 4, 6}, 2},
	{"L", asn1.ObjectIdentifier{2, 5, 4, 7}, 128},
	{"ST", asn1.ObjectIdentifier{2, 5, 4, 8}, 128},
	{"street", asn1.ObjectIdentifier{2, 5, 4, 9}, 0},
	{"O", asn1.ObjectIdentifier{2, 5, 4, 10}, 64},
	{"OU", asn1.ObjectIdentifier{2, 5, 4, 11}, 64},
	{"title", asn1.ObjectIdentifier{2, 5, 4, 12}, 64},
	{"postalCode", asn1.ObjectIdentifier{2, 5, 4, 17}, 0},
	{"GN", asn1.ObjectIdentifier{2, 5, 4, 42}, 0},
	{"dnQualifier", asn1.ObjectIdentifier{2, 5, 4, 46}, 0},
	{"UID", asn1.ObjectIdentifier{0, 9, 2342, 19200300, 100, 1, 1}, 0},
	{"DC", asn1.ObjectIdentifier{0, 9, 2342, 19200300, 100, 1, 25}, 63},
	{"emailAddress", asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 1}, 255},
}

// ShortFor gives the short name of an attribute type, or its dotted form.
func ShortFor(oid asn1.ObjectIdentifier) string {
	for _, t := range attributeTypes {
		if t.oid.Equal(oid) {
			return t.short
		}
	}
	return oid.String()
}

func shortNames() []string {
	out := make([]string, len(attributeTypes))
	for i, t := range attributeTypes {
		out[i] = t.short
	}
	return out
}

// KnownType reports whether a short name or dotted identifier names a type.
func KnownType(short string) bool {
	_, ok := TypeFor(short)
	return ok
}

// TypeFor is the attribute type that a short name or a dotted identifier names.
func TypeFor(short string) (asn1.ObjectIdentifier, bool) {
	for _, t := range attributeTypes {
		if strings.EqualFold(t.short, short) {
			return t.oid, true
		}
	}
	return ParseOID(strings.TrimPrefix(strings.ToUpper(short), "OID."))
}

// ParseOID reads a dotted object identifier of two to thirty arcs.
func ParseOID(s string) (asn1.ObjectIdentifier, bool) {
	arcs := strings.Split(s, ".")
	if len(arcs) < 2 || len(arcs) > 30 {
		return nil, false
	}
	out := make(asn1.ObjectIdentifier, len(arcs))
	for i, a := range arcs {
		n, err := strconv.ParseUint(a, 10, 31)
		if err != nil || i == 0 && n > 2 || i == 1 && out[0] < 2 && n > 39 || len(a) > 1 && a[0] == '0' {
			return nil, false
		}
		out[i] = int(n)
	}
	return out, true
}

func checkLength(oid asn1.ObjectIdentifier, value string) error {
	for _, t := range attributeTypes {
		if !t.oid.Equal(oid) {
			continue
		}
		n := utf8.RuneCountInString(value)
		if t.short == "C" && !IsCountry(value) {
			return fmt.Errorf("C=%s: a country is two capital letters (ISO 3166), such as NO", value)
		}
		if t.most > 0 && n > t.most {
			return fmt.Errorf("%s: %d characters; the most is %d (RFC 5280 appendix A)", t.short, n, t.most)
		}
	}
	return nil
}

// IsCountry reports whether s has the shape of an ISO 3166 two-letter code.
func IsCountry(s string) bool {
	return len(s) == 2 && s[0] >= 'A' && s[0] <= 'Z' && s[1] >= 'A' && s[1] <= 'Z'
}
