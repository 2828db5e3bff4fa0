package san

import (
	"net/netip"
	"slices"
	"strings"

	"ironseal/pki/dn"
)

// Trees are the constraints of one kind, in the form in which a name is looked up: strangers send
// thousands of names and thousands of constraints, and comparing each with each would keep a reader
// busy for minutes. Trees.Covers answers as Constraint.Covers does for any of them.
type Trees struct {
	kind  Kind
	first map[string]Constraint // by what a name must be, or are below
	under map[string]Constraint // by the domain of a wildcard that matches the host
	nets  map[netip.Prefix]Constraint
	bits  []int // the lengths of the networks, longest first; those of IPv6 plus 1000
	other []Constraint
}

// NewTrees puts constraints of one kind into that form.
func NewTrees(list []Constraint) *Trees {
	t := &Trees{first: map[string]Constraint{}, under: map[string]Constraint{}, nets: map[netip.Prefix]Constraint{}}
	for _, c := range list {
		t.kind = c.kind
		switch c.kind {
		case DNS, Email, URI:
			t.first[c.value] = c
			t.under[afterFirst(c.value)] = c
		case IP:
			t.nets[c.net] = c
			t.bits = append(t.bits, netBits(c.net))
		case Directory:
			t.first[c.dir.Folded()] = c
		default:
			t.other = append(t.other, c)
		}
	}
	slices.Sort(t.bits)
	t.bits = slices.Compact(t.bits)
	return t
}

func netBits(p netip.Prefix) int {
	if p.Addr().Is4() {
		return p.Bits()
	}
	return p.Bits() + 1000
}

// Any reports whether there is any constraint.
func (t *Trees) Any() bool { return t != nil && len(t.first)+len(t.nets)+len(t.other) > 0 }

// Covers finds a constraint in whose subtree a name lies. excluding says that they are excluded ones.
func (t *Trees) Covers(n Name, excluding bool) (Constraint, bool) {
	switch n.kind {
	case DNS:
		if c, ok := t.host(n.key, true); ok {
			return c, true
		}
		if c, ok := t.under[n.Under()]; ok && excluding && n.IsWildcard() {
			return c, true
		}
	case Email:
		if c, ok := t.first[n.key]; ok && strings.Contains(n.key, "@") {
			return c, true
		}
		return t.host(n.Host(), false)
	case URI:
		return t.host(n.Host(), false)
	case IP:
		return t.address(n.key, excluding)
	case Directory:
		d, err := dn.Parse(n.value)
		if err != nil {
			return Constraint{}, false
		}
		return t.Subject(d)
	}
	return Constraint{}, false
}

// host looks a host up with everything above it. A base with a leading dot covers only
// what is below it; without one, DNS bases cover what is below as well, and mail and URI bases exactly
// the host (RFC 5280 section 4.2.1.10): below says which.
func (t *Trees) host(host string, below bool) (Constraint, bool) {
	if host == "" {
		if !below {
			return Constraint{}, false // a name of mail or an address without a host
		}
		c, ok := t.first[""]
		return c, ok
	}
	for _, base := range []string{"", host} {
		if c, ok := t.first[base]; ok {
			return c, true
		}
	}
	for i := range len(host) {
		if host[i] != '.' {
			continue
		}
		if c, ok := t.first[host[i:]]; ok {
			return c, true
		}
		if c, ok := t.first[host[i+1:]]; ok && below {
			return c, true
		}
	}
	return Constraint{}, false
}

func (t *Trees) address(key string, excluding bool) (Constraint, bool) {
	a, err := netip.ParseAddr(key)
	if err != nil {
		return Constraint{}, false
	}
	forms := []netip.Addr{a}
	if a.Is4() && excluding {
		forms = append(forms, netip.AddrFrom16(a.As16()))
	}
	for _, a := range forms {
		for _, bits := range t.bits {
			if a.Is4() != (bits < 1000) {
				continue
			}
			p, err := a.Prefix(bits % 1000)
			if err != nil {
				continue
			}
			if c, ok := t.nets[p]; ok {
				return c, true
			}
		}
	}
	return Constraint{}, false
}

// Subject finds a directory constraint under which a subject stands.
func (t *Trees) Subject(d dn.Name) (Constraint, bool) {
	for _, prefix := range d.Prefixes() {
		if c, ok := t.first[prefix]; ok && c.kind == Directory {
			return c, true
		}
	}
	return Constraint{}, false
}
