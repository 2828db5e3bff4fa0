package external

import (
	"fmt"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
)

// An answer or an authority from outside brings the authorities above it, and the certificates by
// which roots vouch for each other. Both are recorded with it: without the link a
// renewed root elsewhere would break every client that holds only the old one.

// importing is a certificate from outside while it is being recorded.
type importing struct {
	e      *estate.Estate
	tx     store.Tx
	h      hierarchy.Hierarchy // before it
	given  []*cert.Certificate // everything that came, in any order
	told   []event.Imported
	linked []*cert.Certificate
}

// above records the authorities of a path that are not on record yet, from
// the top down, as authorities whose key is elsewhere. It returns the handle and
// the generation of the lowest. name is what the lowest is to be called.
func (i *importing) above(path []*cert.Certificate, name string) (handle string, generation int64, err error) {
	path, err = i.withRoots(path)
	if err != nil {
		return "", 0, err
	}
	taken := map[string]bool{}
	for _, a := range i.h {
		taken[a.Handle] = true
	}
	for at := len(path) - 1; at >= 0; at-- {
		c := path[at]
		if g := generationOf(i.h, c); g != nil {
			handle = g.Authority.Handle
			if generation, err = i.tx.AnyGenerationID(g); err != nil {
				return "", 0, err
			}
			continue
		}
		wish := ""
		if at == 0 {
			wish = name
		}
		if handle, generation, err = i.one(c, handle, generation, wish, taken); err != nil {
			return "", 0, err
		}
	}
	return handle, generation, nil
}

// one records one authority below another; under is "" for a root.
func (i *importing) one(c *cert.Certificate, under string, issuer int64, wish string, taken map[string]bool) (string,
	int64, error) {
	a := i.h.SubjectTaken(c.Subject, "")
	if a != nil && !a.External() {
		return "", 0, fmt.Errorf("%s has the subject of our own authority %s and is not on record: its chain goes "+
			"through a certificate that we did not make", c.Title(), a.Handle)
	}
	id, err := i.tx.AddCertificate(store.NewCertificate{Certificate: c, Issuer: issuer})
	if err != nil {
		return "", 0, err
	}
	told := event.Imported{Certificate: fmt.Sprintf("%x", c.SHA256()), By: under}
	if a != nil {
		generation, err := i.tx.AddGeneration(a.Handle, under, len(a.Generations), id, issuer, time.Time{})
		told.Generation = fmt.Sprintf("%s.g%d", a.Handle, len(a.Generations)+1)
		i.told = append(i.told, told)
		return a.Handle, generation, err
	}
	handle := freeHandle(wish, c, taken)
	taken[handle] = true
	generation, err := i.tx.AddAuthority(store.NewAuthority{Handle: handle, Parent: under,
		Holder:      hierarchy.HeldExternally,
		Certificate: id, Issuer: issuer})
	told.Generation = handle + ".g1"
	i.told = append(i.told, told)
	return handle, generation, err
}

// withRoots replaces a link or cross certificate in a path by the root that has its
// name and key: the authority is that root, and the link is recorded as a link.
func (i *importing) withRoots(path []*cert.Certificate) ([]*cert.Certificate, error) {
	for at, c := range path {
		if c.SelfSigned() {
			continue
		}
		for _, root := range append(allCertificates(i.h), i.given...) {
			if root.SelfSigned() && key.Same(root.Key, c.Key) && root.Subject.Equal(c.Subject) {
				i.given = append(i.given, c)
				return append(append([]*cert.Certificate{}, path[:at]...), root), nil
			}
		}
		if c.IsLink() {
			return nil, fmt.Errorf("%s: a link certificate vouches for it, and the root itself is missing: give its "+
				"certificate as well", c.Title())
		}
	}
	return path, nil
}

func allCertificates(h hierarchy.Hierarchy) []*cert.Certificate {
	var out []*cert.Certificate
	for _, g := range estate.AllGenerations(h) {
		out = append(out, g.Certificate)
	}
	return out
}

// links records the link and cross certificates among what came: those whose key is
// that of a generation on record, and that another generation on record signed.
func (i *importing) links() error {
	h, err := i.tx.Hierarchy()
	if err != nil {
		return err
	}
	done := map[[32]byte]bool{}
	for _, a := range h {
		for _, l := range a.Links {
			done[l.Certificate.SHA256()] = true
		}
	}
	for _, c := range i.given {
		by, to := linkOf(h, c)
		if by == nil || done[c.SHA256()] || to.Idle() != "" { // a suspected key gets no link certificate
			continue
		}
		done[c.SHA256()] = true
		if err := i.link(c, by, to); err != nil {
			return err
		}
	}
	return nil
}

func (i *importing) link(c *cert.Certificate, by, to *hierarchy.Generation) error {
	byID, err := i.tx.AnyGenerationID(by)
	if err != nil {
		return err
	}
	toID, err := i.tx.AnyGenerationID(to)
	if err != nil {
		return err
	}
	id, err := i.tx.AddCertificate(store.NewCertificate{Certificate: c, Issuer: byID})
	if err != nil {
		return err
	}
	i.linked = append(i.linked, c)
	return i.tx.AddLink(id, byID, toID)
}

// linkOf finds the two generations that a link or cross certificate joins; nil where
// it is none, or one of them is not on record.
func linkOf(h hierarchy.Hierarchy, c *cert.Certificate) (by, to *hierarchy.Generation) {
	if generationOf(h, c) != nil || !c.IsAuthority() || len(c.Broken) > 0 {
		return nil, nil
	}
	for _, g := range estate.AllGenerations(h) {
		if key.Same(g.Certificate.Key, c.Key) && g.Certificate.Subject.Equal(c.Subject) {
			to = g // the newest of that key
		}
		if g.Certificate.Subject.Equal(c.Issuer) && !key.Same(g.Certificate.Key, c.Key) &&
			c.VerifiedBy(g.Certificate.Key) == nil {
			by = g
		}
	}
	if by == nil || to == nil || to.Issuer == by { // the last is one more certificate of the same line
		return nil, nil
	}
	return by, to
}

// asLink says which handle a link or cross certificate is of, for one that is adopted
// on its own; an error where it is a link and cannot be imported.
func asLink(h hierarchy.Hierarchy, c *cert.Certificate) (to *hierarchy.Generation, err error) {
	by, to := linkOf(h, c)
	switch {
	case by != nil:
		return to, nil
	case c.IsLink() || c.SelfIssued() && !c.SelfSigned():
		return nil, fault.New(fault.Refused, "%s: this is a link certificate, by which one root vouches for another, "+
			"and both roots "+
			"must be on record first", c.Title()).
			Then(advice.To("import the new root with it", advice.AdoptAuthority, "authority", "HANDLE", "file",
				"ROOT-FILE",
				"link", "LINK-FILE"))
	}
	return nil, nil
}

func generationOf(h hierarchy.Hierarchy, c *cert.Certificate) *hierarchy.Generation {
	for _, a := range h {
		for _, g := range a.Generations {
			if g.Certificate.SHA256() == c.SHA256() {
				return g
			}
		}
	}
	return nil
}

// freeHandle makes a handle for an authority that comes from outside.
func freeHandle(wish string, c *cert.Certificate, taken map[string]bool) string {
	base := wish
	if base == "" {
		base = strings.Trim(strings.Map(func(r rune) rune {
			switch {
			case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
				return r
			case r == ' ' || r == '-' || r == '.' || r == '_':
				return '-'
			}
			return -1
		}, strings.ToLower(c.Title())), "-0123456789")
		if base = base[:min(len(base), 30)]; hierarchy.ValidHandle(base) != nil {
			base = "outside"
		}
	}
	name := base
	for n := 2; taken[name]; n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	return name
}
