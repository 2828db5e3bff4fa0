package san

import (
	"errors"
	"fmt"
	"net/netip"
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
	if _, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		want := Found(IP, strings.Trim(host, "[]"))
		for _, n := range names {
			if n.fault == "" && want.fault == "" && n.Same(want) {
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
		if n.kind != DNS || n.fault != "" {
			continue
		}
		_, under, cut := strings.Cut(want.key, ".")
		if n.key == want.key || n.IsWildcard() && cut && n.Under() == under {
			return n, true
		}
	}
	return Name{}, false
}

// Constraint is one subtree of a name constraints extension. Like a name, it is
// judged when it is made.
type Constraint struct {
	kind  Kind
	value string // a domain, host, mailbox, network or directory name
	net   netip.Prefix
	dir   dn.Name
}

// Kind is the kind of names that the constraint is about.
func (c Constraint) Kind() Kind { return c.kind }

// Value is the domain, host, mailbox, network or directory name.
func (c Constraint) Value() string { return c.value }

// String gives the constraint as a person types it.
func (c Constraint) String() string { return string(c.kind) + ":" + c.value }

// ParseConstraint reads a constraint as a person types it: a domain, a network
// such as 192.0.2.0/24, a mail host or a mailbox.
func ParseConstraint(s string) (Constraint, error) {
	s = strings.TrimSpace(s)
	kind, value, ok := strings.Cut(s, ":")
	c := Constraint{kind: Kind(strings.ToLower(kind)), value: value}
	if !ok || tags[c.kind] == 0 {
		c = Constraint{kind: DNS, value: s}
		if _, err := netip.ParsePrefix(s); err == nil {
			c.kind = IP
		} else if strings.Contains(s, "@") {
			c.kind = Email
		}
	}
	if c.kind == IP {
		p, err := netip.ParsePrefix(c.value)
		if err != nil {
			return c, fmt.Errorf("name constraint %q: not a network: write for example ip:192.0.2.0/24", s)
		}
		c.net = plainNet(p)
		c.value = c.net.String()
		return c, nil
	}
	c, err := hostConstraint(c.kind, c.value)
	if err == nil && c.value == "" {
		err = errors.New("it is empty")
	}
	if err != nil {
		return c, fmt.Errorf("name constraint %q: %w", s, err)
	}
	return c, nil
}

// hostConstraint makes a constraint on a domain, a host or a mailbox. Only the
// host is folded: the part before the @ is compared as it stands (RFC 5280
// section 7.5). Nothing at all means every name.
func hostConstraint(k Kind, value string) (Constraint, error) {
	local, host := "", strings.ToLower(value)
	if at := strings.LastIndexByte(value, '@'); at >= 0 {
		local, host = value[:at+1], host[at+1:]
		if k != Email || at == 0 {
			return Constraint{}, errors.New("only a constraint on mail can name a mailbox")
		}
		if fault := mailFault(value[:at], host); fault != "" {
			return Constraint{}, errors.New(fault)
		}
	}
	host = strings.TrimSuffix(host, ".")
	c := Constraint{kind: k, value: local + host}
	if bare := strings.TrimPrefix(host, "."); bare != "" || local != "" {
		if fault := hostFault(bare, false); fault != "" {
			return c, errors.New(fault)
		}
	}
	return c, nil
}

// plainNet is a network without host bits, and in the form of IPv4 where it is one
// in the form of IPv6.
func plainNet(p netip.Prefix) netip.Prefix {
	p = p.Masked()
	if a := p.Addr(); a.Is4In6() && p.Bits() >= 96 {
		return netip.PrefixFrom(a.Unmap(), p.Bits()-96)
	}
	return p
}

// ReadConstraint reads the base of one subtree. What cannot be judged is an error:
// a constraint that is not understood must not pass for one that allows.
func ReadConstraint(whole []byte, tag casn1.Tag) (Constraint, error) {
	element := cryptobyte.String(whole)
	var body cryptobyte.String
	if err := Syntax(whole, true); err != nil || !element.ReadASN1(&body, tag) {
		return Constraint{}, fmt.Errorf("name constraint: %w", err)
	}
	switch tag {
	case tags[DNS], tags[Email], tags[URI]:
		for k, t := range tags {
			if t == tag {
				c, err := hostConstraint(k, string(body))
				if err != nil {
					return c, fmt.Errorf("name constraint %q: %w", string(body), err)
				}
				return c, nil
			}
		}
	case tags[IP]:
		return readNetwork(body)
	case directoryTag:
		d, err := dn.Read(body)
		return Constraint{kind: Directory, value: d.String(), dir: d}, err
	}
	return Constraint{kind: FromDER(whole, tag).kind, value: fmt.Sprintf("%x", []byte(body))}, nil
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
	// A network in the form of IPv6 stays one, though its addresses mean IPv4 ones: other clients
	// hold no IPv4 address to be within it, so permitting it must permit none here. Excluding it
	// excludes those addresses in either form.
	p := netip.PrefixFrom(addr, bits).Masked()
	return Constraint{kind: IP, value: p.String(), net: p}, nil
}

// DER encodes the base of the subtree as a GeneralName.
func (c Constraint) DER() ([]byte, error) {
	var b cryptobyte.Builder
	switch c.kind {
	case DNS, Email, URI:
		b.AddASN1(tags[c.kind], func(b *cryptobyte.Builder) { b.AddBytes([]byte(c.value)) })
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
		return nil, fmt.Errorf("a name constraint of kind %s cannot be made", c.kind)
	}
	return b.Bytes()
}

// OnSubject returns the constraint's directory name, for subjects are compared
// with directory constraints too.
func (c Constraint) OnSubject(subject dn.Name) bool {
	return c.kind == Directory && subject.Within(c.dir)
}

// Covers reports whether the name lies in the subtree. excluding says that the
// subtree is an excluded one: a wildcard that could mean an excluded host
// counts as covered then, and only then.
func (c Constraint) Covers(n Name, excluding bool) bool {
	if n.kind != c.kind {
		return false
	}
	_, ok := NewTrees([]Constraint{c}).Covers(n, excluding)
	return ok
}

// Unjudged says why a name cannot be compared with a constraint of its kind, or "":
// it is not valid, or an address of the kind URI speaks of no host by name (RFC
// 5280 section 4.2.1.10). Such a name counts as outside.
func (n Name) Unjudged() string {
	if n.fault != "" {
		return n.fault
	}
	if n.kind == DNS && strings.HasSuffix(n.value, ".") {
		return "it ends with a dot, and clients do not hold such a name against a constraint"
	}
	if n.kind == URI {
		host := n.Host()
		if _, err := netip.ParseAddr(strings.Trim(host, "[]")); host == "" || err == nil {
			return "it names no host"
		}
	}
	return ""
}

func afterFirst(host string) string {
	_, rest, _ := strings.Cut(host, ".")
	return rest
}
