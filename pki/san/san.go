// Package san handles subject alternative names: the only names that clients
// look at (RFC 9525 section 6.3).
//
// A name has a kind. People leave the kind out when they type, so ParseTyped
// recognises it by shape: "192.0.2.7" is an address and must be certified as
// one, because a client that connects by address never looks at DNS names. A
// name read from outside keeps its bytes; a name typed is checked and brought
// to its canonical form (lower case, no trailing dot, RFC 5890 A-labels).
//
// Match answers for a client: does this set of names cover what the user typed?
// Constraint answers for RFC 5280 section 4.2.1.10: may this authority certify
// this name at all?
package san

import (
	"encoding/asn1"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/net/idna"

	"ironseal/pki/dn"
)

// Kind is the kind of a name: the choice taken in GeneralName (RFC 5280 section
// 4.2.1.6). Its text is also the prefix by which people type it.
type Kind string

const (
	DNS       Kind = "dns"
	IP        Kind = "ip"
	Email     Kind = "email"
	URI       Kind = "uri"
	UPN       Kind = "upn" // otherName of type 1.3.6.1.4.1.311.20.2.3
	Directory Kind = "directory"
	OID       Kind = "oid"   // registeredID
	Other     Kind = "other" // any other otherName, x400Address or ediPartyName
)

// Most is how many names one list may hold when it is read.
const Most = 20_000

var tags = map[Kind]casn1.Tag{
	Email: casn1.Tag(1).ContextSpecific(), DNS: casn1.Tag(2).ContextSpecific(),
	URI: casn1.Tag(6).ContextSpecific(), IP: casn1.Tag(7).ContextSpecific(),
}

var (
	otherTag     = casn1.Tag(0).ContextSpecific().Constructed()
	directoryTag = casn1.Tag(4).ContextSpecific().Constructed()
	oidTag       = casn1.Tag(8).ContextSpecific()
)

// Name is one alternative name.
type Name struct {
	Kind  Kind
	Value string // canonical text; for kinds without a text form, hex
	der   []byte // the GeneralName as received; nil for a name that was typed
}

// String gives the name as a person types it: kind, colon, value.
func (n Name) String() string { return string(n.Kind) + ":" + n.Value }

// Same reports whether two names are one: of one kind, and alike in canonical form.
func (n Name) Same(o Name) bool { return n.Kind == o.Kind && canonical(n) == canonical(o) }

// Key is a text by which equal names are equal, for maps and look-ups.
func (n Name) Key() string { return string(n.Kind) + ":" + canonical(n) }

func canonical(n Name) string {
	switch n.Kind {
	case DNS:
		return strings.TrimSuffix(strings.ToLower(n.Value), ".")
	case Email:
		if at := strings.LastIndexByte(n.Value, '@'); at >= 0 {
			return n.Value[:at] + strings.ToLower(n.Value[at:])
		}
	}
	return n.Value
}

// ParseTyped reads a name as a person types it, with a kind and a colon or
// without. A typed name must be valid; the error says what is wrong with it.
func ParseTyped(s string) (Name, error) {
	s = strings.TrimSpace(s)
	for _, k := range []Kind{DNS, IP, Email, URI, UPN} {
		if len(s) > len(k) && strings.EqualFold(s[:len(k)], string(k)) && s[len(k)] == ':' {
			return checked(k, strings.TrimSpace(s[len(k)+1:]))
		}
	}
	return checked(shapeOf(s), s)
}

func shapeOf(s string) Kind {
	if _, err := netip.ParseAddr(strings.Trim(s, "[]")); err == nil {
		return IP
	}
	switch {
	case strings.Contains(s, "://"):
		return URI
	case strings.Contains(s, "@"):
		return Email
	}
	return DNS
}

func checked(k Kind, value string) (Name, error) {
	n := Name{Kind: k, Value: value}
	switch k {
	case IP:
		a, err := netip.ParseAddr(strings.Trim(value, "[]"))
		if err != nil || a.Zone() != "" {
			return n, fmt.Errorf("%q is not an address: write for example ip:192.0.2.7 or ip:2001:db8::7", value)
		}
		n.Value = a.Unmap().String()
		return n, nil
	case DNS:
		ascii, err := idna.New(idna.MapForLookup(), idna.Transitional(false), idna.StrictDomainName(false)).ToASCII(strings.TrimSuffix(value, "."))
		if err == nil && ascii != "" {
			n.Value = strings.ToLower(ascii)
		}
	}
	if fault := n.Fault(); fault != "" {
		return n, fmt.Errorf("%q is not a name: %s", value, fault)
	}
	return n, nil
}

// Fault says why no client can match the name, or "".
func (n Name) Fault() string {
	switch n.Kind {
	case DNS:
		return hostFault(strings.TrimSuffix(n.Value, "."), true)
	case IP:
		if _, err := netip.ParseAddr(n.Value); err != nil {
			return "an address has 4 or 16 bytes"
		}
	case Email, UPN:
		at := strings.LastIndexByte(n.Value, '@')
		if at <= 0 {
			return "a mail address is NAME@HOST"
		}
		if strings.ContainsAny(n.Value[:at], " \t\r\n\x00<>()[]\\,;:\"") || !ascii(n.Value[:at]) {
			return "the part before the @ has characters that cannot stand there"
		}
		return hostFault(n.Value[at+1:], false)
	case URI:
		u, err := url.Parse(n.Value)
		if err != nil || u.Scheme == "" || !ascii(n.Value) {
			return "an address of this kind is SCHEME:REST, in ASCII"
		}
	}
	return ""
}

func ascii(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r < 0x21 || r > 0x7e }) < 0
}

// hostFault checks a host name by RFC 1034 section 3.5 and RFC 1123 section 2.1.
// An underscore is let through: devices use it, and most clients match it.
func hostFault(host string, wildcard bool) string {
	if host == "" {
		return "it is empty"
	}
	if len(host) > 253 {
		return fmt.Sprintf("it is %d characters long; the most is 253", len(host))
	}
	for i, label := range strings.Split(host, ".") {
		switch {
		case label == "":
			return "a dot too many: a part is empty"
		case label == "*" && wildcard && i == 0 && strings.Contains(host, "."):
			continue
		case strings.Contains(label, "*"):
			return "a * stands for one whole part, and only for the first"
		case len(label) > 63:
			return "a part is longer than 63 characters"
		case label[0] == '-' || label[len(label)-1] == '-':
			return "a part begins or ends with a hyphen"
		}
		for _, r := range label {
			if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_') {
				return "only letters, digits, hyphens and dots can stand in a host name"
			}
		}
	}
	return ""
}

// IsWildcard reports a DNS name whose first part is "*".
func (n Name) IsWildcard() bool { return n.Kind == DNS && strings.HasPrefix(n.Value, "*.") }

// IsShort reports a DNS name without a domain.
func (n Name) IsShort() bool {
	return n.Kind == DNS && !strings.Contains(strings.TrimSuffix(n.Value, "."), ".")
}

// IsAddress reports a DNS name that is really an address.
func (n Name) IsAddress() bool {
	_, err := netip.ParseAddr(n.Value)
	return n.Kind == DNS && err == nil
}

// Readable gives an internationalised name in the letters its users type, or ""
// when it has none.
func (n Name) Readable() string {
	if n.Kind != DNS || !strings.Contains(n.Value, "xn--") {
		return ""
	}
	u, err := idna.ToUnicode(n.Value)
	if err != nil || u == n.Value {
		return ""
	}
	return u
}

// Read reads the value of a subject alternative name extension.
func Read(der []byte) ([]Name, error) {
	in := cryptobyte.String(der)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() {
		return nil, errors.New("alternative names: the value is not one ASN.1 sequence")
	}
	var out []Name
	for !seq.Empty() {
		var whole cryptobyte.String
		var tag casn1.Tag
		if !seq.ReadAnyASN1Element(&whole, &tag) {
			return out, errors.New("alternative names: a name is cut short")
		}
		if len(out) == Most {
			return out, fmt.Errorf("alternative names: more than %d names", Most)
		}
		out = append(out, FromDER(whole, tag))
	}
	return out, nil
}

// FromDER reads one GeneralName, given whole and with its tag. What has no
// text form becomes a name of kind Other.
func FromDER(whole []byte, tag casn1.Tag) Name {
	element := cryptobyte.String(whole)
	var body cryptobyte.String
	n := Name{Kind: Other, der: append([]byte(nil), whole...)}
	if !element.ReadASN1(&body, tag) {
		n.Value = fmt.Sprintf("%x", whole)
		return n
	}
	n.Value = fmt.Sprintf("%x", []byte(body))
	switch tag {
	case tags[DNS]:
		n.Kind, n.Value = DNS, string(body)
	case tags[Email]:
		n.Kind, n.Value = Email, string(body)
	case tags[URI]:
		n.Kind, n.Value = URI, string(body)
	case tags[IP]:
		n.Kind = IP
		if a, ok := netip.AddrFromSlice(body); ok {
			n.Value = a.String()
		}
	case directoryTag:
		if d, err := dn.Read(body); err == nil {
			n.Kind, n.Value = Directory, d.String()
		}
	case oidTag:
		n.Kind = OID
	case otherTag:
		if upn, ok := readUPN(body); ok {
			n.Kind, n.Value = UPN, upn
		}
	}
	return n
}

var upnOID = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 20, 2, 3}

func readUPN(body cryptobyte.String) (string, bool) {
	var oid asn1.ObjectIdentifier
	var explicit, text cryptobyte.String
	if !body.ReadASN1ObjectIdentifier(&oid) || !oid.Equal(upnOID) ||
		!body.ReadASN1(&explicit, otherTag) || !explicit.ReadASN1(&text, casn1.UTF8String) {
		return "", false
	}
	return string(text), true
}

// DER encodes the name as a GeneralName; a name that was read is given back as
// it came.
func (n Name) DER() ([]byte, error) {
	if n.der != nil {
		return n.der, nil
	}
	var b cryptobyte.Builder
	switch n.Kind {
	case DNS, Email, URI:
		b.AddASN1(tags[n.Kind], func(b *cryptobyte.Builder) { b.AddBytes([]byte(n.Value)) })
	case IP:
		a, err := netip.ParseAddr(n.Value)
		if err != nil {
			return nil, fmt.Errorf("address %q: %w", n.Value, err)
		}
		b.AddASN1(tags[IP], func(b *cryptobyte.Builder) { b.AddBytes(a.AsSlice()) })
	case UPN:
		b.AddASN1(otherTag, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(upnOID)
			b.AddASN1(otherTag, func(b *cryptobyte.Builder) {
				b.AddASN1(casn1.UTF8String, func(b *cryptobyte.Builder) { b.AddBytes([]byte(n.Value)) })
			})
		})
	default:
		return nil, fmt.Errorf("a name of kind %s cannot be made, only passed on", n.Kind)
	}
	return b.Bytes()
}

// Encode writes the value of a subject alternative name extension.
func Encode(names []Name) ([]byte, error) {
	var b cryptobyte.Builder
	var fault error
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, n := range names {
			der, err := n.DER()
			if err != nil {
				fault = err
				return
			}
			b.AddBytes(der)
		}
	})
	if fault != nil {
		return nil, fault
	}
	return b.Bytes()
}

// Fresh returns the name without the bytes it was read from, so that it is
// encoded anew in canonical form. Kinds that cannot be made keep their bytes.
func (n Name) Fresh() Name {
	switch n.Kind {
	case DNS, Email, URI, IP, UPN:
		return Name{Kind: n.Kind, Value: canonical(n)}
	}
	return n
}
