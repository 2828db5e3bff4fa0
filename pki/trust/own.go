package trust

import (
	"time"

	"ironseal/pki/hierarchy"
)

// OwnSet is the set that an estate has without making one: its roots that still matter.
// Those are the ones that sign, the ones that are prepared, and earlier generations as
// long as something valid depends on them. hangs tells of certificates that serve, by the
// generation that signed them.
func OwnSet(h hierarchy.Hierarchy, hangs map[*hierarchy.Generation]bool, now time.Time) Set {
	needed := map[*hierarchy.Generation]bool{}
	for _, a := range h {
		for _, g := range a.Generations {
			if now.After(g.Certificate.NotAfter) || g.IsRoot() && !hangs[g] {
				continue
			}
			line := g.Line()
			needed[line[len(line)-1]] = true
			for up := g; up != nil; up = up.Issuer { // and whom it names, not only who serves today
				if up.IsRoot() {
					needed[up] = true
				}
			}
		}
	}
	out := Set{Name: Own, Title: "the roots of this estate"}
	for _, a := range h {
		for _, g := range a.Generations {
			current := g == a.Current() || !g.SwitchDay.IsZero()
			if g.IsRoot() && !now.After(g.Certificate.NotAfter) && (needed[g] || current && a.Retired.IsZero()) {
				out.Anchors = append(out.Anchors, Anchor{Certificate: g.Certificate, From: g.Name(),
					Purposes: Purposes()})
			}
		}
	}
	return out
}
