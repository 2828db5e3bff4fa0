// Package hierarchy knows authorities and their generations, and what each of
// them can still grant.
//
// The one rule that everything here serves: no certificate may outlive any
// authority above it. A client checks the whole path on the day it connects, so
// a server certificate that runs past its intermediate dies with the
// intermediate, unannounced. Grant therefore computes the end of a life from the
// whole line of authorities above and says which of them shortened it.
package hierarchy

import (
	"fmt"
	"strings"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/span"
)

// Generation is one certificate state of an authority.
type Generation struct {
	Number      int
	Certificate *cert.Certificate
	Issuer      *Generation // the generation above that signed it; nil for a root
	Authority   *Authority
	SwitchDay   time.Time // the switch day from which it signs; zero where it does already
	Revoked     time.Time // since when it is revoked, on hold too; zero while it is not
	Stopped     string    // why it grants nothing for now; "" where that is not so
}

// Label names the generation on sheets: "services (g1)".
func (g *Generation) Label() string { return fmt.Sprintf("%s (g%d)", g.Authority.Handle, g.Number) }

// Name names the generation where one word is needed: "services.g1".
func (g *Generation) Name() string { return fmt.Sprintf("%s.g%d", g.Authority.Handle, g.Number) }

// Line returns the generation and every one above it, up to the root. Where an
// authority above was renewed with the same key, its newest certificate of that
// key stands in the line: it serves the same chains, and lasts longer.
func (g *Generation) Line() []*Generation {
	var out []*Generation
	for ; g != nil; g = g.above() {
		out = append(out, g)
	}
	return out
}

func (g *Generation) above() *Generation {
	if g.Issuer == nil {
		return nil
	}
	best := g.Issuer
	for _, o := range g.Issuer.Authority.Generations {
		if o.SwitchDay.IsZero() && key.Same(o.Certificate.Key, best.Certificate.Key) &&
			o.Certificate.NotAfter.After(best.Certificate.NotAfter) {
			best = o
		}
	}
	return best
}

// ListName is the name under which a generation's revocation lists lie: that of the first of
// its authority with the same subject and key, since those have one list.
func (g *Generation) ListName() string {
	for _, o := range g.Authority.Generations {
		if SameList(o, g) {
			return o.Name()
		}
	}
	return g.Name()
}

// SameList reports whether two generations of an authority have one list: one name, one key.
func SameList(a, b *Generation) bool {
	return a.Certificate.Subject.Equal(b.Certificate.Subject) && key.Same(a.Certificate.Key, b.Certificate.Key)
}

// Descends reports whether the generation belongs to the authority of this handle,
// or stands anywhere below it.
func (g *Generation) Descends(handle string) bool {
	seen := map[*Generation]bool{}
	for ; g != nil && !seen[g]; g = g.Issuer {
		seen[g] = true
		for a := g.Authority; a != nil; a = a.Parent {
			if a.Handle == handle && handle != "" {
				return true
			}
		}
	}
	return false
}

// IsRoot reports whether nothing is above the generation.
func (g *Generation) IsRoot() bool { return g.Issuer == nil }

// Authority is one authority with all its generations, oldest first.
type Authority struct {
	Handle      string
	Parent      *Authority
	Generations []*Generation
	Links       []Link
	Holder      KeyHolder // who holds its key
	Retired     time.Time // since when it no longer signs; zero while it does
}

// Link is a certificate by which one root of an authority vouches for another,
// so that a client which holds only By accepts what is below To.
type Link struct {
	Certificate *cert.Certificate
	By, To      *Generation
}

// Current is the newest generation that signs already; nil if none exists.
func (a *Authority) Current() *Generation {
	for i := len(a.Generations) - 1; i >= 0; i-- {
		if a.Generations[i].SwitchDay.IsZero() {
			return a.Generations[i]
		}
	}
	return nil
}

// Prepared is the generation that waits for its switch day; nil when none does.
func (a *Authority) Prepared() *Generation {
	if n := len(a.Generations); n > 0 && !a.Generations[n-1].SwitchDay.IsZero() {
		return a.Generations[n-1]
	}
	return nil
}

// Mark is one word for a generation that does not simply sign: "revoked", "issuer revoked" (one above it was
// revoked), "stopped", "prepared", "external" or "retired"; "" for one that does, or did.
func (g *Generation) Mark() string {
	switch {
	case !g.Revoked.IsZero():
		return "revoked"
	case g.RevokedAbove() != nil:
		return "issuer revoked"
	case g.Stopped != "":
		return "stopped"
	case !g.SwitchDay.IsZero():
		return "prepared"
	case g.Authority.External():
		return "external"
	case !g.Authority.Retired.IsZero():
		return "retired"
	}
	return ""
}

// External reports whether the key is held outside of this estate.
func (a *Authority) External() bool { return a.Holder == HeldExternally }

// Signs reports whether the authority can sign here: it has a generation, its
// key is in this estate, and it is not retired.
func (a *Authority) Signs() bool { return a.Current() != nil && !a.External() && a.Retired.IsZero() }

// RevokedAbove is the first generation of a line, from this one upward, that was revoked; nil
// where none was. One that was renewed with the same key stands as long as any of its
// certificates does: they serve the same chains.
func (g *Generation) RevokedAbove() *Generation {
	for up := g; up != nil; up = up.Issuer {
		stands := up.Revoked.IsZero()
		for _, o := range up.Authority.Generations {
			stands = stands || o.Revoked.IsZero() && o.SwitchDay.IsZero() && SameList(o, up)
		}
		if !stands {
			return up
		}
	}
	return nil
}

// Idle says why a generation grants nothing for now, in a word or two: it is revoked, or below one that
// is, or its key may be compromised; "" where none of this is so.
func (g *Generation) Idle() string {
	switch up := g.RevokedAbove(); {
	case up == g:
		return "revoked"
	case up != nil:
		return "below " + up.Name() + ", which is revoked"
	case g.Stopped != "":
		return "stopped: " + g.Stopped
	}
	return ""
}

// Hierarchy is all authorities of an estate, parents before children.
type Hierarchy []*Authority

// Find returns the authority with this handle, or nil.
func (h Hierarchy) Find(handle string) *Authority {
	for _, a := range h {
		if a.Handle == handle {
			return a
		}
	}
	return nil
}

// Generation finds "root", the current generation, or "root.g2", a certain one.
func (h Hierarchy) Generation(name string) *Generation {
	handle, number, exact := strings.Cut(name, ".g")
	a := h.Find(handle)
	if a == nil {
		return nil
	}
	if !exact {
		return a.Current()
	}
	for _, g := range a.Generations {
		if fmt.Sprint(g.Number) == number {
			return g
		}
	}
	return nil
}

// Children returns the authorities directly below a.
func (h Hierarchy) Children(a *Authority) []*Authority {
	var out []*Authority
	for _, c := range h {
		if c.Parent == a {
			out = append(out, c)
		}
	}
	return out
}

// Branch is an authority at one place of the tree: the generations that hang there.
// An authority that moved hangs in more than one place.
type Branch struct {
	Authority   *Authority
	Generations []*Generation // oldest first
	Whole       bool          // what is below the authority hangs here: its current generation does
}

// Branches returns what the authority a signed, authority by authority; for nil, the
// roots.
func (h Hierarchy) Branches(a *Authority) []Branch {
	var out []Branch
	for _, c := range h {
		b := Branch{Authority: c}
		for _, g := range c.Generations {
			if g.Issuer == nil && a == nil || g.Issuer != nil && g.Issuer.Authority == a {
				b.Generations = append(b.Generations, g)
				b.Whole = b.Whole || g == c.Current() || c.Current() == nil
			}
		}
		if len(b.Generations) > 0 {
			out = append(out, b)
		}
	}
	return out
}

// Below returns the authorities anywhere below a, parents before children.
func (h Hierarchy) Below(a *Authority) []*Authority {
	var out []*Authority
	for _, c := range h {
		for p := c.Parent; p != nil; p = p.Parent {
			if p == a {
				out = append(out, c)
				break
			}
		}
	}
	return out
}

// Depth is how many levels of authorities are below a.
func (h Hierarchy) Depth(a *Authority) int {
	deepest := 0
	for _, c := range h.Children(a) {
		deepest = max(deepest, 1+h.Depth(c))
	}
	return deepest
}

// SubjectTaken returns the authority other than except that has this subject.
func (h Hierarchy) SubjectTaken(subject dn.Name, except string) *Authority {
	for _, a := range h {
		for _, g := range a.Generations {
			if a.Handle != except && g.Certificate.Subject.Equal(subject) {
				return a
			}
		}
	}
	return nil
}

// KeyTaken returns the authority that has this key.
func (h Hierarchy) KeyTaken(k key.Public) *Authority {
	for _, a := range h {
		for _, g := range a.Generations {
			if key.Same(g.Certificate.Key, k) {
				return a
			}
		}
	}
	return nil
}

// ValidHandle checks a handle: letters, digits and hyphens, beginning with a
// letter, at most 40 characters, and no word that means something else.
func ValidHandle(s string) error {
	if s == "" || len(s) > 40 {
		return fmt.Errorf("%q is not a handle: use 1 to 40 characters", s)
	}
	for i, r := range s {
		if !(r >= 'a' && r <= 'z' || i > 0 && (r >= '0' && r <= '9' || r == '-')) {
			return fmt.Errorf("%q is not a handle: use small letters, digits and hyphens, and begin with a letter", s)
		}
	}
	switch s {
	case "any", "any-root", "any-intermediate", "itself":
		return fmt.Errorf("%q is a word of template files and cannot be a handle", s)
	}
	if label.IsDevice(s) { // files are named for it
		return fmt.Errorf("%q is the name of a device on Windows: choose another handle", s)
	}
	return nil
}

// Grant is a life that an authority can give.
type Grant struct {
	NotBefore, NotAfter time.Time
	Full                time.Time   // where the life would end if nothing shortened it
	CutBy               *Generation // whose end shortened it; nil when it is full
}

// Life computes what the line of authorities above can grant: from now less
// earlier, for the span wanted. line is empty for a root. The beginning is
// moved up to the latest beginning above, since no client accepts a path before
// that moment.
func Life(line []*Generation, now time.Time, earlier time.Duration, wanted span.Span) Grant {
	now = now.UTC().Truncate(time.Second)
	g := Grant{NotBefore: now.Add(-earlier), Full: wanted.After(now)}
	g.NotAfter = g.Full
	for _, a := range line {
		if a.Certificate.NotBefore.After(g.NotBefore) {
			g.NotBefore = a.Certificate.NotBefore
		}
		if a.Certificate.NotAfter.Before(g.NotAfter) {
			g.NotAfter, g.CutBy = a.Certificate.NotAfter, a
		}
	}
	return g
}

// PathRoom says how many levels of authorities may be below the first of the
// line: the least that any path length above leaves; -1 when none limits it.
func PathRoom(line []*Generation) (room int, by *Generation) {
	room = -1
	above := 0
	for _, g := range line {
		if p := g.Certificate.Basic.PathLength; p >= 0 && (room < 0 || p-above < room) {
			room, by = p-above, g
		}
		if !g.Certificate.SelfIssued() {
			above++
		}
	}
	return room, by
}

// Proposed is a life proposed for an authority, with the reason.
type Proposed struct {
	Span span.Span
	Why  string
}

// Propose proposes a life for a new authority that will grant lives up to
// grants: about half of what its parent has left, at least twice what it will
// grant, in whole years. line is empty for a root, whose life is the template's.
func Propose(line []*Generation, now time.Time, usual, grants span.Span) Proposed {
	if len(line) == 0 {
		return Proposed{usual, fmt.Sprintf("the template's lifetime; twice the %s of an authority below it",
			span.Span{Years: usual.Years / 2}.Words())}
	}
	left := Life(line, now, 0, span.Years(200)).NotAfter
	years := 0
	slack := left.AddDate(0, 0, 31) // a parent made this month still counts whole
	for !span.Years(2 * (years + 1)).After(now).After(slack) {
		years++
	}
	half := years
	needed := 1
	for !span.Years(needed).Longer(twice(grants), now) && span.Years(needed) != twice(grants) {
		needed++
	}
	switch {
	case half >= needed && usual.Years > 0 && usual.Years < half:
		return Proposed{span.Years(usual.Years),
			fmt.Sprintf("the template's lifetime; under half of what %s has left, and at least twice the %s it grants",
				line[0].Authority.Handle, grants.Words())}
	case half >= needed:
		return Proposed{span.Years(half), fmt.Sprintf("half of the %s that %s has left, and at least twice the %s it "+
			"grants", span.Length(now, left), line[0].Authority.Handle, grants.Words())}
	}
	return Proposed{span.Years(needed), fmt.Sprintf("twice the %s it grants, though %s has only %s left: renew %s soon",
		grants.Words(), line[0].Authority.Handle, span.Length(now, left), line[0].Authority.Handle)}
}

func twice(s span.Span) span.Span {
	return span.Span{Years: 2 * s.Years, Months: 2 * s.Months, Days: 2 * s.Days, Hours: 2 * s.Hours}
}
