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
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"sync"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/net/idna"

	"ironseal/pki/dn"
)

// Kind is the kind of a name: the choice in GeneralName (RFC 5280 section
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

// Name is one alternative name. It cannot be changed: whether any client can match
// it, and in which form it is compared, was judged once, when it was made. The
// zero value is no name.
type Name struct {
	kind  Kind
	value string // text; for kinds without a text form, hex
	key   string // the canonical text, by which names are compared
	fault string // why no client can match it, or ""
	der   []byte // the GeneralName as received; nil for a name that was typed
}

// Found makes a name out of a kind and a text that stood somewhere, whether it is
// valid or not: Fault tells.
func Found(k Kind, value string) Name {
	n := Name{kind: k, value: value, key: value}
	n.key, n.fault = judge(k, value)
	return n
}

// Kind is the kind of the name.
func (n Name) Kind() Kind { return n.kind }

// Value is the name's text as it stood; for kinds without a text form, hex.
func (n Name) Value() string { return n.value }

// String gives the name as a person types it: kind, colon, value.
func (n Name) String() string { return string(n.kind) + ":" + n.value }

// Same reports whether two names are one: of one kind, and alike in canonical form.
func (n Name) Same(o Name) bool { return n.kind == o.kind && n.key == o.key }

// Key is a text by which equal names are equal, for maps and look-ups.
func (n Name) Key() string { return string(n.kind) + ":" + n.key }

// Fault says why no client can match the name, or "".
func (n Name) Fault() string { return n.fault }

// Host is the host that a name of the kinds email, upn and uri speaks of, in small
// letters and without a closing dot; "" if none exists.
func (n Name) Host() string {
	host := ""
	switch n.kind {
	case Email, UPN:
		host = n.key[strings.LastIndexByte(n.key, '@')+1:]
	case URI:
		if u, err := url.Parse(n.value); err == nil {
			host = u.Hostname()
		}
	}
	return strings.TrimSuffix(strings.ToLower(host), ".")
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
	if _, ok := address(strings.Trim(s, "[]")); ok {
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

// asASCII brings names with other letters to those that certificates have (RFC 5890).
var asASCII = sync.OnceValue(func() *idna.Profile {
	return idna.New(idna.MapForLookup(), idna.Transitional(false), idna.StrictDomainName(false))
})

func checked(k Kind, value string) (Name, error) {
	if k == DNS {
		ascii, err := asASCII().ToASCII(strings.TrimSuffix(value, "."))
		if err == nil && ascii != "" {
			value = strings.ToLower(ascii)
		}
	}
	if k == IP {
		value = strings.Trim(value, "[]")
	}
	n := Found(k, value)
	switch {
	case n.fault != "" && k == IP:
		return n, fmt.Errorf("%q is not an address: write for example ip:192.0.2.7 or ip:2001:db8::7", value)
	case n.fault != "":
		return n, fmt.Errorf("%q is not a name: %s", value, n.fault)
	}
	if n.key == n.value {
		return n, nil
	}
	return Found(k, n.key), nil
}

// HostName reads a common name as a DNS name or an address, if it is one. A short
// word without a dot counts: devices use such names.
func HostName(cn string) (Name, bool) {
	if strings.ContainsAny(cn, ": /@") && !strings.Contains(cn, "::") {
		return Name{}, false
	}
	n, err := ParseTyped(cn)
	return n, err == nil && (n.kind == DNS || n.kind == IP)
}

// IsWildcard reports a valid DNS name whose first part is "*".
func (n Name) IsWildcard() bool {
	return n.kind == DNS && n.fault == "" && strings.HasPrefix(n.key, "*.")
}

// Under is the domain of a wildcard: "ternbay.example" for "*.ternbay.example".
func (n Name) Under() string { return strings.TrimPrefix(n.key, "*.") }

// IsShort reports a valid DNS name without a domain.
func (n Name) IsShort() bool { return n.kind == DNS && n.fault == "" && !strings.Contains(n.key, ".") }

// IsAddress reports a DNS name that is really an address.
func (n Name) IsAddress() bool { return n.kind == DNS && n.fault == faultAddress }

// Address gives the name of the address kind that such a name should have been.
func (n Name) Address() Name { return Found(IP, strings.Trim(n.key, "[]")) }

// OverTop reports a wildcard over a whole top-level domain.
func (n Name) OverTop() bool { return n.kind == DNS && n.fault == faultOverTop }

// Readable gives an internationalised name in the letters its users type, or ""
// when it has none.
func (n Name) Readable() string {
	if n.kind != DNS || !strings.Contains(n.key, "xn--") {
		return ""
	}
	u, err := idna.ToUnicode(n.key)
	if err != nil || u == n.key {
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
	var n Name
	if element.ReadASN1(&body, tag) {
		n = named(body, tag)
	} else {
		n = Found(Other, hex.EncodeToString(whole))
	}
	n.der = append([]byte(nil), whole...)
	return n
}

func named(body cryptobyte.String, tag casn1.Tag) Name {
	switch tag {
	case tags[DNS]:
		return Found(DNS, string(body))
	case tags[Email]:
		return Found(Email, string(body))
	case tags[URI]:
		return Found(URI, string(body))
	case tags[IP]:
		if a, ok := netip.AddrFromSlice(body); ok {
			return Found(IP, a.String())
		}
		return Found(IP, fmt.Sprintf("%x (%d bytes)", []byte(body), len(body)))
	case directoryTag:
		if d, err := dn.Read(body); err == nil {
			return Found(Directory, d.String())
		}
	case oidTag:
		return Found(OID, registered(body))
	case otherTag:
		if upn, ok := readUPN(body); ok {
			return Found(UPN, upn)
		}
	}
	return Found(Other, hex.EncodeToString(body))
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
	switch n.kind {
	case DNS, Email, URI:
		b.AddASN1(tags[n.kind], func(b *cryptobyte.Builder) { b.AddBytes([]byte(n.value)) })
	case IP:
		a, err := netip.ParseAddr(n.key)
		if err != nil {
			return nil, fmt.Errorf("address %q: %w", n.value, err)
		}
		b.AddASN1(tags[IP], func(b *cryptobyte.Builder) { b.AddBytes(a.AsSlice()) })
	case UPN:
		b.AddASN1(otherTag, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(upnOID)
			b.AddASN1(otherTag, func(b *cryptobyte.Builder) {
				b.AddASN1(casn1.UTF8String, func(b *cryptobyte.Builder) { b.AddBytes([]byte(n.value)) })
			})
		})
	default:
		return nil, fmt.Errorf("a name of kind %s cannot be made, only passed on", n.kind)
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
// encoded again in canonical form. Kinds that cannot be made keep their bytes.
func (n Name) Fresh() Name {
	switch n.kind {
	case DNS, Email, URI, IP, UPN:
		return Found(n.kind, n.key)
	}
	return n
}

// FirstHost is the first name or address of a machine; "" where none is one.
func FirstHost(list []Name) string {
	for _, n := range list {
		if n.Kind() == DNS || n.Kind() == IP {
			return n.Value()
		}
	}
	return ""
}

// registered writes a registeredID (RFC 5280 section 4.2.1.6) with dots, or in hex where it is none.
func registered(body []byte) string {
	var b cryptobyte.Builder
	b.AddASN1(casn1.OBJECT_IDENTIFIER, func(b *cryptobyte.Builder) { b.AddBytes(body) })
	der, err := b.Bytes()
	in := cryptobyte.String(der)
	var oid asn1.ObjectIdentifier
	if err != nil || !in.ReadASN1ObjectIdentifier(&oid) {
		return fmt.Sprintf("%x", body)
	}
	return oid.String()
}
