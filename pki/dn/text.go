package dn

import (
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

// String prints the name by RFC 4514: the most specific part first.
func (n Name) String() string {
	var b strings.Builder
	for i := len(n.rdns) - 1; i >= 0; i-- {
		for j, a := range n.rdns[i] {
			if j > 0 {
				b.WriteByte('+')
			}
			b.WriteString(a.Short())
			b.WriteByte('=')
			b.WriteString(escape(a))
		}
		if i > 0 {
			b.WriteByte(',')
		}
	}
	return b.String()
}

// special is what must be escaped wherever it stands.
const special = `",+;<>\`

// escape follows RFC 4514 section 2.4. A NUL must be escaped; the other control
// characters are left to whoever shows the text, and lose nothing here.
func escape(a Attribute) string {
	if strings.HasPrefix(a.Text, "#") && text(a.Tag, a.Raw) == a.Text && !isStringTag(a.Tag) {
		return a.Text
	}
	if a.Text == strings.Trim(a.Text, " #") && !strings.ContainsAny(a.Text, "\x00"+special) {
		return a.Text
	}
	var b strings.Builder
	runes := []rune(a.Text)
	for i, r := range runes {
		edge := r == ' ' && (i == 0 || i == len(runes)-1) || r == '#' && i == 0
		switch {
		case r == 0:
			b.WriteString(`\00`)
			continue
		case edge || strings.ContainsRune(special, r):
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

func isStringTag(t casn1.Tag) bool {
	switch t {
	case casn1.UTF8String, casn1.PrintableString, casn1.IA5String, casn1.T61String, 18, 26, 28, 30:
		return true
	}
	return false
}

// Parse reads a name in the text form of RFC 4514: the most specific part
// first. Blanks around separators do not count.
func Parse(s string) (Name, error) {
	if len(s) > 64*1024 {
		return Name{}, errors.New("distinguished name: the text is longer than 64 KiB")
	}
	var rdns [][]Attribute
	rest := strings.TrimLeft(s, " ")
	for rest != "" {
		var rdn []Attribute
		for {
			a, sep, tail, err := parseAttribute(rest)
			if err != nil {
				return Name{}, fmt.Errorf("distinguished name %q: %w", s, err)
			}
			rdn, rest = append(rdn, a), tail
			if sep != '+' {
				if sep != 0 && strings.TrimSpace(rest) == "" {
					return Name{}, fmt.Errorf("distinguished name %q: it ends with a separator", s)
				}
				break
			}
		}
		rdns = append([][]Attribute{rdn}, rdns...)
		if len(rdns) > MostAttributes {
			return Name{}, fmt.Errorf("distinguished name: more than %d attributes", MostAttributes)
		}
	}
	if len(rdns) == 0 {
		return Name{}, nil
	}
	return encode(rdns)
}

// ParseTyped reads a name as a person types it on a command line: RFC 4514, or
// the same parts with the country first, which is how many people say it.
// A country can never be the most specific part, so the two cannot be confused.
func ParseTyped(s string) (Name, error) {
	n, err := Parse(s)
	if err != nil {
		return n, err
	}
	for _, rdn := range n.rdns {
		for _, a := range rdn {
			if !wellFormed(a.Tag, a.Raw) {
				return n, fmt.Errorf("%s=%s: these bytes are not a string of the type that they name", a.Short(),
					a.Text)
			}
		}
	}
	if len(n.rdns) < 2 {
		return n, nil
	}
	last := n.rdns[len(n.rdns)-1]
	if len(last) != 1 || last[0].Short() != "C" {
		return n, nil
	}
	turned := make([][]Attribute, 0, len(n.rdns))
	for i := len(n.rdns) - 1; i >= 0; i-- {
		turned = append(turned, n.rdns[i])
	}
	return encode(turned)
}

// parseAttribute reads one TYPE=VALUE and tells the separator that ended it.
func parseAttribute(s string) (a Attribute, sep byte, rest string, err error) {
	kind, after, ok := strings.Cut(s, "=")
	kind = strings.TrimSpace(kind)
	if !ok || kind == "" {
		return a, 0, "", fmt.Errorf("%q is not TYPE=VALUE, such as CN=harbour", clip(s))
	}
	value, sep, rest, err := parseValue(strings.TrimLeft(after, " "))
	if err != nil {
		return a, 0, "", err
	}
	if strings.HasPrefix(strings.TrimLeft(after, " "), "#") {
		a, err = hexAttribute(kind, value)
	} else {
		a, err = attribute(kind, value)
	}
	return a, sep, rest, err
}

// parseValue reads a value up to an unescaped separator, resolving escapes.
func parseValue(s string) (value string, sep byte, rest string, err error) {
	var b strings.Builder
	quoted := strings.HasPrefix(s, `"`)
	if quoted {
		s = s[1:]
	}
	kept := 0 // the length up to which blanks were escaped and must stay
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '\\':
			if i+1 >= len(s) {
				return "", 0, "", errors.New("it ends in the middle of an escape")
			}
			if i+2 < len(s) {
				if h, e := hex.DecodeString(s[i+1 : i+3]); e == nil {
					b.WriteByte(h[0])
					kept, i = b.Len(), i+2
					continue
				}
			}
			b.WriteByte(s[i+1])
			kept, i = b.Len(), i+1
		case quoted && c == '"':
			tail := strings.TrimLeft(s[i+1:], " ")
			if tail == "" {
				return b.String(), 0, "", nil
			}
			if !strings.ContainsRune(",;+", rune(tail[0])) {
				return "", 0, "", fmt.Errorf("unexpected text after a quoted value: %q", clip(tail))
			}
			return b.String(), tail[0], tail[1:], nil
		case !quoted && (c == ',' || c == ';' || c == '+'):
			return trimRight(b.String(), kept), c, s[i+1:], nil
		default:
			b.WriteByte(c)
		}
	}
	if quoted {
		return "", 0, "", errors.New("a quoted value has no closing quote")
	}
	return trimRight(b.String(), kept), 0, "", nil
}

func trimRight(s string, kept int) string { return s[:kept] + strings.TrimRight(s[kept:], " ") }

func clip(s string) string {
	if len(s) > 40 {
		return s[:40] + "…"
	}
	return s
}

// hexAttribute reads a value given as "#" and the hex of its DER.
func hexAttribute(kind, value string) (Attribute, error) {
	oid, ok := TypeFor(kind)
	if !ok {
		return Attribute{}, fmt.Errorf("%q is not a name attribute", kind)
	}
	der, err := hex.DecodeString(strings.TrimPrefix(value, "#"))
	in := cryptobyte.String(der)
	var content cryptobyte.String
	a := Attribute{Type: oid}
	if err != nil || !in.ReadAnyASN1(&content, &a.Tag) || !in.Empty() || len(content) > MostValue {
		return a, fmt.Errorf("%s=%s: the hex is not one ASN.1 value", kind, clip(value))
	}
	a.Raw = append([]byte(nil), content...)
	a.Text = text(a.Tag, a.Raw)
	return a, nil
}

// wellFormed reports whether bytes are a string of their type (X.690 section 8.23); others are left alone.
func wellFormed(tag casn1.Tag, b []byte) bool {
	switch tag {
	case casn1.UTF8String:
		return utf8.Valid(b)
	case casn1.PrintableString, casn1.IA5String:
		return !slices.ContainsFunc(b, func(c byte) bool { return c >= 0x80 })
	case casn1.Tag(30): // BMPString
		return len(b)%2 == 0
	case casn1.Tag(28): // UniversalString
		for i := 0; i+4 <= len(b); i += 4 {
			if !utf8.ValidRune(rune(b[i])<<24 | rune(b[i+1])<<16 | rune(b[i+2])<<8 | rune(b[i+3])) {
				return false
			}
		}
		return len(b)%4 == 0
	}
	return true
}
