package san

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/dn"
)

// Match reports whether a client that connects to host accepts these names, and
// by which (RFC 9525 section 6). A host that is an address is compared with
// names of the address kind only.
func Match(names []Name, host string) (by Name, ok bool) {
	host = strings.TrimSpace(host)
	if a, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		for _, n := range names {
			if b, err := netip.ParseAddr(n.Value); err == nil && n.Kind == IP && a.Unmap() == b.Unmap() {
				return n, true
			}
		}
		return Name{}, false
	}
	want, err := ParseTyped("dns:" + host)
	if err != nil || want.IsWildcard() {
		return Name{}, false
	}
	for _, n := range names {
		if n.Kind != DNS || n.Fault() != "" {
			continue
		}
		have := canonical(n)
		if have == want.Value {
			return n, true
		}
		_, under, cut := strings.Cut(want.Value, ".")
		if n.IsWildcard() && cut && have[2:] == under {
			return n, true
		}
	}
	return Name{}, false
}

// Constraint is one subtree of a name constraints extension.
type Constraint struct {
	Kind  Kind
	Value string // a domain, host, mailbox, network or directory name
	net   netip.Prefix
	dir   dn.Name
}

// String gives the constraint as a person types it.
func (c Constraint) String() string { return string(c.Kind) + ":" + c.Value }

// ParseConstraint reads a constraint as a person types it: a domain, a network
// such as 192.0.2.0/24, a mail host or a mailbox.
func ParseConstraint(s string) (Constraint, error) {
	s = strings.TrimSpace(s)
	kind, value, ok := strings.Cut(s, ":")
	c := Constraint{Kind: Kind(strings.ToLower(kind)), Value: value}
	if !ok || tags[c.Kind] == 0 {
		c = Constraint{Kind: DNS, Value: s}
		if _, err := netip.ParsePrefix(s); err == nil {
			c.Kind = IP
		} else if strings.Contains(s, "@") {
			c.Kind = Email
		}
	}
	switch c.Kind {
	case IP:
		p, err := netip.ParsePrefix(c.Value)
		if err != nil {
			return c, fmt.Errorf("name constraint %q: not a network: write for example ip:192.0.2.0/24", s)
		}
		c.net = p.Masked()
		c.Value = c.net.String()
	default:
		c.Value = strings.ToLower(c.Value)
		host := c.Value[strings.LastIndexByte(c.Value, '@')+1:]
		if fault := hostFault(strings.TrimPrefix(host, "."), false); fault != "" {
			return c, fmt.Errorf("name constraint %q: %s", s, fault)
		}
	}
	return c, nil
}

// ReadConstraint reads the base of one subtree.
func ReadConstraint(whole []byte, tag casn1.Tag) (Constraint, error) {
	element := cryptobyte.String(whole)
	var body cryptobyte.String
	if !element.ReadASN1(&body, tag) {
		return Constraint{}, errors.New("name constraint: cut short")
	}
	switch tag {
	case tags[DNS], tags[Email], tags[URI]:
		for k, t := range tags {
			if t == tag {
				return Constraint{Kind: k, Value: strings.ToLower(string(body))}, nil
			}
		}
	case tags[IP]:
		return readNetwork(body)
	case directoryTag:
		d, err := dn.Read(body)
		return Constraint{Kind: Directory, Value: d.String(), dir: d}, err
	}
	return Constraint{Kind: FromDER(whole, tag).Kind, Value: fmt.Sprintf("%x", []byte(body))}, nil
}

func readNetwork(b []byte) (Constraint, error) {
	half := len(b) / 2
	addr, ok := netip.AddrFromSlice(b[:half])
	if !ok || len(b) != 2*half {
		return Constraint{}, errors.New("name constraint: a network has 8 or 32 bytes")
	}
	bits, open := 0, true
	for _, m := range b[half:] {
		for i := 7; i >= 0; i-- {
			set := m>>i&1 == 1
			if set && !open {
				return Constraint{}, errors.New("name constraint: a network mask with holes")
			}
			if open = set; set {
				bits++
			}
		}
	}
	p := netip.PrefixFrom(addr, bits).Masked()
	return Constraint{Kind: IP, Value: p.String(), net: p}, nil
}

// DER encodes the base of the subtree as a GeneralName.
func (c Constraint) DER() ([]byte, error) {
	var b cryptobyte.Builder
	switch c.Kind {
	case DNS, Email, URI:
		b.AddASN1(tags[c.Kind], func(b *cryptobyte.Builder) { b.AddBytes([]byte(c.Value)) })
	case IP:
		addr := c.net.Addr().AsSlice()
		mask := make([]byte, len(addr))
		for i := range c.net.Bits() {
			mask[i/8] |= 0x80 >> (i % 8)
		}
		b.AddASN1(tags[IP], func(b *cryptobyte.Builder) { b.AddBytes(addr); b.AddBytes(mask) })
	case Directory:
		b.AddASN1(directoryTag, func(b *cryptobyte.Builder) { b.AddBytes(c.dir.DER()) })
	default:
		return nil, fmt.Errorf("a name constraint of kind %s cannot be made", c.Kind)
	}
	return b.Bytes()
}

// OnSubject returns the constraint's directory name, for subjects are compared
// with directory constraints too.
func (c Constraint) OnSubject(subject dn.Name) bool {
	return c.Kind == Directory && subject.Within(c.dir)
}

// Covers reports whether the name lies in the subtree. excluding says that the
// subtree is an excluded one: a wildcard that could stand for an excluded host
// counts as covered then, and only then.
func (c Constraint) Covers(n Name, excluding bool) bool {
	if n.Kind != c.Kind {
		return false
	}
	switch c.Kind {
	case DNS:
		return coversHost(c.Value, canonical(n), true) ||
			excluding && n.IsWildcard() && afterFirst(c.Value) == canonical(n)[2:]
	case Email:
		at := strings.LastIndexByte(n.Value, '@')
		if strings.Contains(c.Value, "@") {
			cAt := strings.LastIndexByte(c.Value, '@')
			return at >= 0 && strings.EqualFold(n.Value[at:], c.Value[cAt:]) && strings.EqualFold(n.Value[:at], c.Value[:cAt])
		}
		return at >= 0 && coversHost(c.Value, strings.ToLower(n.Value[at+1:]), false)
	case URI:
		u, err := url.Parse(n.Value)
		return err == nil && coversHost(c.Value, strings.ToLower(u.Hostname()), false)
	case IP:
		a, err := netip.ParseAddr(n.Value)
		return err == nil && c.net.Contains(a)
	case Directory:
		d, err := dn.Parse(n.Value)
		return err == nil && d.Within(c.dir)
	}
	return false
}

func afterFirst(host string) string {
	_, rest, _ := strings.Cut(host, ".")
	return rest
}

// coversHost compares a host with a base. A base with a leading dot covers only
// what is below it; without one, DNS bases cover what is below as well, and
// mail and URI bases exactly the host (RFC 5280 section 4.2.1.10).
func coversHost(base, host string, below bool) bool {
	if base == "" {
		return true
	}
	if strings.HasPrefix(base, ".") {
		return strings.HasSuffix(host, base)
	}
	return host == base || below && strings.HasSuffix(host, "."+base)
}
