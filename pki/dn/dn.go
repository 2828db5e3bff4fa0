// Package dn reads, builds, prints and compares distinguished names.
//
// A distinguished name is a sequence of sets of attributes (RFC 5280 section
// 4.1.2.4). Three things about it cost people evenings, and shape this package:
//
//   - The bytes matter. An issuer field must repeat the issuer's subject byte
//     for byte, so a Name keeps the encoding it was read from and never encodes
//     it again.
//   - The order matters, and people write it backwards: the text form of RFC
//     4514 begins with the last, most specific attribute.
//   - Two different encodings can be the same name: "Tern Bay" as a
//     PrintableString and "tern  bay" as a UTF8String are equal under RFC 5280
//     section 7.1. Equal compares that way; two authorities must differ so.
package dn

import (
	"encoding/asn1"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/text/unicode/norm"

	"ironseal/pki/ber"
)

// Limits that a reader of outside bytes holds to.
const (
	MostAttributes = 256  // in one name
	MostValue      = 8192 // bytes in one value
)

// Attribute is one part of a name, such as CN=harbour.
type Attribute struct {
	Type asn1.ObjectIdentifier
	Tag  casn1.Tag // the string type that was used
	Raw  []byte    // the value's content, as encoded
	Text string    // the value as text; "#" and hex where it is no string (RFC 4514 section 2.4)
}

// Short gives the attribute's short name, or its dotted object identifier.
func (a Attribute) Short() string { return ShortFor(a.Type) }

// Name is a distinguished name. The zero value is the empty name.
type Name struct {
	raw  []byte
	rdns [][]Attribute
}

// Read reads a name from its DER. It takes what real devices send: characters
// that their string type does not allow, and values of any string type.
func Read(der []byte) (Name, error) {
	n := Name{raw: slices.Clone(der)} // the values are parts of this copy
	in := cryptobyte.String(n.raw)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() {
		return Name{}, errors.New("distinguished name: it is not one ASN.1 sequence")
	}
	n.rdns = make([][]Attribute, 0, ber.Count(seq, MostAttributes))
	all := make([]Attribute, 0, cap(n.rdns)) // the parts are parts of it
	for !seq.Empty() {
		var set cryptobyte.String
		if !seq.ReadASN1(&set, casn1.SET) || set.Empty() {
			return Name{}, errors.New("distinguished name: a part is not a set of attributes")
		}
		begin := len(all)
		for !set.Empty() {
			a, err := readAttribute(&set)
			if err != nil {
				return Name{}, err
			}
			if len(all) == MostAttributes {
				return Name{}, fmt.Errorf("distinguished name: more than %d attributes", MostAttributes)
			}
			all = append(all, a)
		}
		n.rdns = append(n.rdns, all[begin:len(all):len(all)])
	}
	return n, nil
}

func readAttribute(set *cryptobyte.String) (Attribute, error) {
	var seq, value cryptobyte.String
	var a Attribute
	if !set.ReadASN1(&seq, casn1.SEQUENCE) || !seq.ReadASN1ObjectIdentifier(&a.Type) ||
		!seq.ReadAnyASN1(&value, &a.Tag) || !seq.Empty() {
		return a, errors.New("distinguished name: an attribute is not a type and a value")
	}
	if len(value) > MostValue {
		return a, fmt.Errorf("distinguished name: a value of %d bytes; the most is %d", len(value), MostValue)
	}
	a.Raw = value
	a.Text = text(a.Tag, a.Raw)
	return a, nil
}

// text decodes a string value by its tag. Bytes that are not of the type are
// kept as they can best be read; what is no string becomes "#" and hex.
func text(tag casn1.Tag, b []byte) string {
	switch tag {
	case casn1.UTF8String, casn1.PrintableString, casn1.IA5String, casn1.Tag(18), casn1.Tag(26):
		if utf8.Valid(b) {
			return string(b)
		}
		return latin1(b)
	case casn1.T61String:
		return latin1(b)
	case casn1.Tag(30): // BMPString
		if len(b)%2 == 0 {
			u := make([]uint16, len(b)/2)
			for i := range u {
				u[i] = uint16(b[2*i])<<8 | uint16(b[2*i+1])
			}
			return string(utf16.Decode(u))
		}
	case casn1.Tag(28): // UniversalString
		if len(b)%4 == 0 {
			var out []rune
			for i := 0; i < len(b); i += 4 {
				out = append(out, rune(b[i])<<24|rune(b[i+1])<<16|rune(b[i+2])<<8|rune(b[i+3]))
			}
			return string(out)
		}
	}
	return fmt.Sprintf("#%02x%s", uint8(tag), hexed(b))
}

// hexed is a length and the content (X.690 section 8.1), in hex.
func hexed(b []byte) string {
	n := len(b)
	switch {
	case n < 0x80:
		return fmt.Sprintf("%02x%x", n, b)
	case n < 0x100:
		return fmt.Sprintf("81%02x%x", n, b)
	}
	return fmt.Sprintf("82%04x%x", n, b) // MostValue is less than 64 KiB
}

func latin1(b []byte) string {
	r := make([]rune, len(b))
	for i, c := range b {
		r[i] = rune(c)
	}
	return string(r)
}

// Pair is a type and a value from which a name is built.
type Pair struct{ Type, Value string }

// New builds a name from pairs in encoding order: the widest first (country,
// organisation), the most specific last (common name). Types are short names or
// dotted object identifiers.
func New(pairs ...Pair) (Name, error) {
	rdns := make([][]Attribute, 0, len(pairs))
	for _, p := range pairs {
		a, err := attribute(p.Type, p.Value)
		if err != nil {
			return Name{}, err
		}
		rdns = append(rdns, []Attribute{a})
	}
	return encode(rdns)
}

func attribute(kind, value string) (Attribute, error) {
	oid, ok := TypeFor(kind)
	if !ok {
		return Attribute{}, fmt.Errorf("%q is not a name attribute: use one of %s, or a dotted object identifier", kind,
			strings.Join(shortNames(), ", "))
	}
	if !utf8.ValidString(value) || strings.ContainsRune(value, 0) {
		return Attribute{}, fmt.Errorf("%s: the value is not clean UTF-8 text", kind)
	}
	if strings.TrimSpace(value) == "" {
		return Attribute{}, fmt.Errorf("%s: the value is empty: leave the attribute out", kind)
	}
	if len(value) > MostValue {
		return Attribute{}, fmt.Errorf("%s: the value is longer than %d bytes", kind, MostValue)
	}
	if err := checkLength(oid, value); err != nil {
		return Attribute{}, err
	}
	tag := stringType(oid, value)
	if tag == casn1.IA5String && !isASCII(value) {
		return Attribute{}, fmt.Errorf("%s=%s: only ASCII characters are allowed", kind, value)
	}
	return Attribute{Type: oid, Tag: tag, Raw: []byte(value), Text: value}, nil
}

// stringType picks the string type that RFC 5280 section 4.1.2.4 and appendix A
// ask for. PrintableString is used wherever it can hold the value, because some
// old devices compare encodings and all of them read it.
func stringType(oid asn1.ObjectIdentifier, value string) casn1.Tag {
	switch ShortFor(oid) {
	case "DC", "emailAddress":
		return casn1.IA5String
	}
	if isPrintable(value) {
		return casn1.PrintableString
	}
	return casn1.UTF8String
}

func isASCII(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r > 0x7e || r < 0x20 }) < 0
}

// isPrintable reports whether a PrintableString can hold a text. Each octet of any other character is above 0x7f.
func isPrintable(s string) bool {
	for i := range len(s) {
		c := s[i]
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' ||
			strings.IndexByte(" '()+,-./:=?", c) >= 0) {
			return false
		}
	}
	return true
}

func encode(rdns [][]Attribute) (Name, error) {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, rdn := range rdns {
			b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) {
				for _, a := range sortedSet(rdn) {
					b.AddBytes(a)
				}
			})
		}
	})
	der, err := b.Bytes()
	if err != nil {
		return Name{}, fmt.Errorf("distinguished name: %w", err)
	}
	return Name{raw: der, rdns: rdns}, nil
}

// sortedSet encodes the attributes of one part in the order DER gives a SET OF.
func sortedSet(rdn []Attribute) [][]byte {
	out := make([][]byte, 0, len(rdn))
	for _, a := range rdn {
		var b cryptobyte.Builder
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(a.Type)
			b.AddASN1(a.Tag, func(b *cryptobyte.Builder) { b.AddBytes(a.Raw) })
		})
		der, err := b.Bytes()
		if err != nil {
			continue // an identifier that cannot be encoded; typeFor lets none through
		}
		at := 0
		for at < len(out) && string(out[at]) < string(der) {
			at++
		}
		out = append(out[:at], append([][]byte{der}, out[at:]...)...)
	}
	return out
}

// DER returns the name's encoding, as it was read or as it was built.
func (n Name) DER() []byte {
	if n.raw == nil {
		return []byte{0x30, 0x00}
	}
	return n.raw
}

// IsEmpty reports whether the name has no attributes.
func (n Name) IsEmpty() bool { return len(n.rdns) == 0 }

// Attributes are all attributes in encoding order.
func (n Name) Attributes() iter.Seq[Attribute] {
	return func(yield func(Attribute) bool) {
		for _, rdn := range n.rdns {
			for _, a := range rdn {
				if !yield(a) {
					return
				}
			}
		}
	}
}

// First returns the last, most specific value of the attribute with this short
// name, or "".
func (n Name) First(short string) string {
	out := ""
	for a := range n.Attributes() {
		if strings.EqualFold(a.Short(), short) {
			out = a.Text
		}
	}
	return out
}

// All returns every value of the attribute with this short name, the widest first.
func (n Name) All(short string) []string {
	var out []string
	for a := range n.Attributes() {
		if strings.EqualFold(a.Short(), short) {
			out = append(out, a.Text)
		}
	}
	return out
}

// CommonName returns the most specific common name, or "".
func (n Name) CommonName() string { return n.First("CN") }

// Keep returns a name of only those parts for which keep answers yes. A part
// with several attributes stays whole or goes whole.
func (n Name) Keep(keep func(Attribute) bool) (Name, error) {
	var rdns [][]Attribute
	for _, rdn := range n.rdns {
		all := true
		for _, a := range rdn {
			all = all && keep(a)
		}
		if all {
			rdns = append(rdns, rdn)
		}
	}
	if len(rdns) == len(n.rdns) {
		return n, nil // nothing went, so the bytes stay as they came
	}
	return encode(rdns)
}

// Join returns the name with the parts of more appended behind its own.
func (n Name) Join(more Name) (Name, error) {
	return encode(append(append([][]Attribute(nil), n.rdns...), more.rdns...))
}

// Within reports whether the name lies in the subtree that base spans: whether
// base's parts are the first parts of the name (RFC 5280 section 7.1).
func (n Name) Within(base Name) bool {
	if len(base.rdns) > len(n.rdns) {
		return false
	}
	for i := range base.rdns {
		if !sameSet(n.rdns[i], base.rdns[i]) {
			return false
		}
	}
	return true
}

// Equal compares two names by RFC 5280 section 7.1: case and inner blanks do
// not count, nor whether a value is a PrintableString or a UTF8String; any other
// string type counts, and the order of parts does.
func (n Name) Equal(o Name) bool {
	return string(n.raw) == string(o.raw) || len(n.rdns) == len(o.rdns) && n.Within(o)
}

func sameSet(a, b []Attribute) bool {
	if len(a) == 1 && len(b) == 1 { // as nearly all are
		return a[0].Type.Equal(b[0].Type) && class(a[0]) == class(b[0]) && folded(a[0]) == folded(b[0])
	}
	return len(a) == len(b) && foldedSet(a) == foldedSet(b)
}

// foldedSet is a text by which equal sets are equal.
func foldedSet(set []Attribute) string {
	parts := make([]string, len(set))
	for i, a := range set {
		parts[i] = a.Type.String() + " " + strconv.Itoa(int(class(a))) + " " + strconv.Quote(folded(a))
	}
	slices.Sort(parts)
	return strings.Join(parts, "+") + ","
}

// class is the string type for comparing: only those that RFC 5280 section 7.1 lets
// be compared with each other are one, and only where they hold what they may.
func class(a Attribute) casn1.Tag {
	if a.Tag == casn1.PrintableString && isPrintable(a.Text) {
		return casn1.UTF8String
	}
	return a.Tag
}

// folded is a value for comparing. What its type does not allow is compared byte by
// byte: other software sees no more in it.
func folded(a Attribute) string {
	if a.Tag == casn1.PrintableString && !isPrintable(a.Text) || a.Tag == casn1.UTF8String && !utf8.Valid(a.Raw) ||
		!isStringTag(a.Tag) {
		return string(a.Raw)
	}
	return prepared(a)
}

// Folded is a text by which equal names are equal, for maps and look-ups. It is
// not for people.
func (n Name) Folded() string {
	var b strings.Builder
	for _, set := range n.rdns {
		b.WriteString(foldedSet(set))
	}
	return b.String()
}

// Prefixes are the Folded texts of the names that this one is within, the empty one first and itself
// last.
func (n Name) Prefixes() []string {
	out := []string{""}
	for _, set := range n.rdns {
		out = append(out, out[len(out)-1]+foldedSet(set))
	}
	return out
}

// prepared folds a value the way RFC 4518 prepares strings for comparison:
// compatibility form, lower case, no outer blanks, inner blanks as one.
func prepared(a Attribute) string {
	if isPlain(a.Text) {
		return a.Text
	}
	return strings.Join(strings.Fields(strings.ToLower(norm.NFKC.String(a.Text))), " ")
}

// isPlain reports whether a text is its own prepared form, as most in names are.
func isPlain(s string) bool {
	blank := true // so that none begins it
	for i := range len(s) {
		c := s[i]
		if c == ' ' && blank || c != ' ' && (c <= ' ' || c >= 0x7f || 'A' <= c && c <= 'Z') {
			return false
		}
		blank = c == ' '
	}
	return s != "" && !blank
}

// Clean returns the name with every value encoded the way RFC 5280 asks, for a
// name that will be certified: strict clients refuse a certificate in which a
// PrintableString holds an underscore, and blanks at the ends make two names of
// one. What cannot be encoded so is left out and told in faults.
func (n Name) Clean() (clean Name, faults []string) {
	if n.isClean() {
		return n, nil
	}
	var rdns [][]Attribute
	for _, rdn := range n.rdns {
		var kept []Attribute
		for _, a := range rdn {
			b, err := attribute(a.Short(), strings.TrimSpace(a.Text))
			if err != nil {
				faults = append(faults, err.Error())
				continue
			}
			kept = append(kept, b)
		}
		if len(kept) > 0 {
			rdns = append(rdns, kept)
		}
	}
	clean, err := encode(rdns)
	if err != nil {
		return Name{}, append(faults, err.Error())
	}
	return clean, faults
}

// isClean reports whether every value is encoded already as RFC 5280 asks.
func (n Name) isClean() bool {
	for _, rdn := range n.rdns {
		for _, a := range rdn {
			b, err := attribute(a.Short(), strings.TrimSpace(a.Text))
			if err != nil || b.Tag != a.Tag && a.Tag != casn1.UTF8String || string(b.Raw) != string(a.Raw) {
				return false
			}
		}
	}
	return true
}
