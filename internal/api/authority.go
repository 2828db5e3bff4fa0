// Package api holds what an answer of the program consists of, one shape a noun: the
// rows of lists and the objects of JSON. Whoever shows them decides how they look.
//
// Lists are arrays, empty where there is nothing; a field that is not known is absent and
// never null; times are in UTC as RFC 3339 has them; names of fields are lower case.
// Prose stands only in fields that are for reading: message, remedy, why, words, what,
// means, purpose.
package api

import (
	"time"

	"ironseal/internal/estate"
	"ironseal/pki/hierarchy"
	"ironseal/pki/lifecycle"
)

// Authority is a generation of an authority in a list.
type Authority struct {
	Handle     string          `json:"handle" doc:"what the authority is called here"`
	Generation int             `json:"generation" doc:"the number of this generation, from 1"`
	Under      string          `json:"under,omitempty" doc:"the handle of the authority that signed it; absent for a root"`
	Subject    string          `json:"subject" doc:"its distinguished name"`
	Key        string          `json:"key" doc:"kind of key, such as ecdsa-p384"`
	From       string          `json:"not_before" doc:"first moment"`
	Until      string          `json:"not_after" doc:"last moment"`
	State      lifecycle.State `json:"state" doc:"valid, expiring, expired, replaced, prepared"`
	Mark       string          `json:"mark,omitempty" doc:"external, retired, or the switch day it waits for"`
	Planned    bool            `json:"-"` // another generation serves in its place
}

// Branch is an authority with what is below it.
type Branch struct {
	Handle      string             `json:"handle" doc:"what the authority is called here"`
	Generations []BranchGeneration `json:"generations" doc:"its generations that stand here"`
	Below       []Branch           `json:"below" doc:"the authorities below, of the same shape"`
}

// BranchGeneration is a generation in a tree.
type BranchGeneration struct {
	Number int             `json:"number" doc:"from 1"`
	Mark   string          `json:"mark,omitempty" doc:"external, retired, or the switch day it waits for"`
	From   string          `json:"not_before" doc:"first moment"`
	Until  string          `json:"not_after" doc:"last moment"`
	State  lifecycle.State `json:"state" doc:"valid, expiring, expired, replaced, prepared"`
}

// TreeOf is what is below an authority; nil for the roots.
func TreeOf(h hierarchy.Hierarchy, above *hierarchy.Authority, e *estate.Estate) []Branch {
	out := []Branch{}
	for _, b := range h.Branches(above) {
		n := Branch{Handle: b.Authority.Handle, Below: []Branch{}}
		if b.Whole {
			n.Below = TreeOf(h, b.Authority, e)
		}
		for _, g := range b.Generations {
			c := g.Certificate
			n.Generations = append(n.Generations,
				BranchGeneration{g.Number, g.Mark(), Time(c.NotBefore), Time(c.NotAfter),
					e.StateOfGeneration(g)})
		}
		out = append(out, n)
	}
	return out
}

// AuthorityOf is a generation as a row.
func AuthorityOf(g *hierarchy.Generation, e *estate.Estate) Authority {
	c := g.Certificate
	r := Authority{Handle: g.Authority.Handle, Generation: g.Number, Subject: c.Subject.String(),
		Key: string(c.Key.Kind), From: Time(c.NotBefore), Until: Time(c.NotAfter), State: e.StateOfGeneration(g),
		Mark: g.Mark(), Planned: g != g.Authority.Current()}
	if g.Issuer != nil {
		r.Under = g.Issuer.Authority.Handle
	}
	return r
}

// Time writes a moment as all shapes have it, to the second.
func Time(t time.Time) string { return t.UTC().Format(time.RFC3339) }
