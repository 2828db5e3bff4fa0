package renewal

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// Evidence is what counts for keeping a key or for changing it.
type Evidence struct {
	Generation *hierarchy.Generation
	Now        time.Time
	Suspicion  string // what the person suspects; "" for nothing
	Compromise string // why the records say that the key may be compromised; "" where they do not
	Revoked    int    // certificates on its revocation list
	Template   template.Template
}

// Reason is one thing that speaks for a new key or for the same.
type Reason struct {
	New bool   `json:"for_new_key"`
	Say string `json:"reason"`
}

// oldKey is the age from which a key is better changed than kept.
var oldKey = span.Years(10)

// longList is how many entries make a revocation list a burden for clients.
const longList = 1000

// Weigh says what speaks for a new key and what for the same one.
func Weigh(e Evidence) []Reason {
	var out []Reason
	g := e.Generation
	born := g.Certificate.NotBefore
	for _, o := range g.Authority.Generations {
		if key.Same(o.Certificate.Key, g.Certificate.Key) && o.Certificate.NotBefore.Before(born) {
			born = o.Certificate.NotBefore
		}
	}
	add := func(isNew bool, format string, args ...any) {
		out = append(out, Reason{isNew, fmt.Sprintf(format, args...)})
	}
	if e.Suspicion != "" {
		add(true, "the key may be stolen: %s", e.Suspicion)
	}
	if e.Compromise != "" {
		add(true, "the key may be compromised: %s", strings.TrimSuffix(e.Compromise, "."))
	}
	switch age := span.Length(born, e.Now); {
	case !oldKey.After(born).After(e.Now):
		add(true, "the key is %s old; the longer it serves, the more depends on it", age)
	default:
		add(false, "the key is only %s old", age)
	}
	if w := g.Certificate.Key.Weakness(); len(w) > 0 {
		add(true, "%s", strings.TrimSuffix(w[0].Message, "."))
	}
	if k := g.Certificate.Key; !e.Template.TakesKey(k.Kind, k.Bits) {
		add(true, "the template %s no longer takes a key of kind %s", e.Template.Name, k.Kind)
	}
	if e.Revoked > longList {
		add(true, "its revocation list has %d entries; with a new key a new list begins", e.Revoked)
	}
	if g.IsRoot() {
		add(false, "with the same key, clients that trust the old root accept the new chains at once; with a new "+
			"key, they need link certificates now, and the new root before the old one ends")
	}
	if e.Suspicion != "" || e.Compromise != "" { // then nothing speaks for the key
		out = slices.DeleteFunc(out, func(r Reason) bool { return !r.New })
	}
	return out
}

// Advise draws the conclusion from what was weighed.
func Advise(list []Reason) string {
	if slices.ContainsFunc(list, func(r Reason) bool { return r.New }) {
		return "take a new key"
	}
	return "either will do: the key is sound, and a new key is safer in the long run"
}

// Level is what a renewal does to one authority.
type Level struct {
	Handle   string    `json:"authority"`
	Template string    `json:"template"`
	Full     span.Span `json:"full"`
	Before   time.Time `json:"before"` // where a life granted today ends before the renewal
	After    time.Time `json:"after"`  // and after it
	Short    string    `json:"short"`  // what is still too short afterwards, and until when; "" when it is full
}

// Levels computes the lives that are granted before and after g is renewed to
// end at until, at the authority itself and at every one below, which continues
// under the old certificate until it is renewed itself. sameKey says that the
// renewed certificate serves the old chains as well.
func Levels(h hierarchy.Hierarchy, templates []template.Template, g *hierarchy.Generation, until, now time.Time,
	sameKey bool) []Level {
	var out []Level
	for _, a := range append([]*hierarchy.Authority{g.Authority}, h.Below(g.Authority)...) {
		cur := a.Current()
		if cur == nil || !a.Retired.IsZero() {
			continue
		}
		for _, t := range templates {
			if !Grants(cur, t) {
				continue
			}
			full := t.Lifetime.After(now)
			before, _ := EndOf(cur.Line())
			after := before
			if a == g.Authority {
				after = until
			} else if sameKey {
				after = endWith(cur.Line(), g.Authority, until)
			}
			l := Level{Handle: a.Handle, Template: t.Name, Full: t.Lifetime, Before: earlier(before, full),
				After: earlier(after, full)}
			if l.After.Before(full) {
				l.Short = span.Length(l.After, full) + " short"
				if a != g.Authority {
					l.Short += " until it is renewed itself"
				}
			}
			out = append(out, l)
		}
	}
	return out
}

// endWith is the end of a line when one authority in it ends at until.
func endWith(line []*hierarchy.Generation, a *hierarchy.Authority, until time.Time) time.Time {
	end := until
	seen := false
	for _, g := range line {
		if seen = seen || g.Authority == a; g.Authority != a {
			end = earlier(end, g.Certificate.NotAfter)
		}
	}
	return end
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// Behind lists the authorities below a whose current certificate was not made
// under the current certificate of their parent, parents first: what a renewal
// from the top down has still to do.
func Behind(h hierarchy.Hierarchy, a *hierarchy.Authority) []*hierarchy.Authority {
	var out []*hierarchy.Authority
	for _, b := range h.Below(a) {
		cur := b.Current()
		if cur == nil || !b.Signs() || cur.Issuer == nil {
			continue
		}
		if cur.Issuer != b.Parent.Current() || slices.Contains(out, b.Parent) {
			out = append(out, b)
		}
	}
	return out
}

// AnswerTo says what speaks against a certificate that a parent elsewhere made
// for one of our authorities. now is the moment, asked the key that was sent.
func AnswerTo(g Answered) finding.List {
	var out finding.List
	add := func(code finding.Code, format string, args ...any) {
		out = append(out, finding.New(code, format, args...))
	}
	c := g.Certificate
	if !key.Same(c.Key, g.Key) {
		add(finding.AnswerOtherKey, "It is for another key than the one that was sent.")
	}
	if !c.Subject.Equal(g.Subject) {
		add(finding.AnswerOtherName, "It is for %s; %s was sent.", c.Subject, g.Subject)
	}
	if !c.IsAuthority() || !c.HasUsage || c.Usage&(ext.KeyCertSign|ext.CRLSign) != ext.KeyCertSign|ext.CRLSign {
		add(finding.AnswerNoAuthority, "It may not sign certificates and revocation lists: %s, key usage %s.",
			c.Basic.Words(), c.Usage)
	}
	if c.IsAuthority() && c.Basic.PathLength >= 0 && c.Basic.PathLength < g.Depth {
		add(finding.AnswerNoAuthority, "Its path length %d leaves no room for the %s of authorities below.",
			c.Basic.PathLength, span.Count(g.Depth, "level"))
	}
	if !g.Grants.IsZero() && c.NotAfter.Before(g.Grants.After(g.Now)) {
		add(finding.AnswerTooShort, "It ends on %s; full grants of %s need %s.", c.NotAfter.Format("2006-01-02"),
			g.Grants.Words(), g.Grants.After(g.Now).Format("2006-01-02"))
	}
	if !g.Old.IsZero() && c.NotAfter.Before(g.Old) {
		add(finding.AnswerTooShort, "It ends on %s, before the one that it renews (%s).",
			c.NotAfter.Format("2006-01-02"), g.Old.Format("2006-01-02"))
	}
	return out
}

// Answered is an answer with what was sent.
type Answered struct {
	Certificate *cert.Certificate
	Key         key.Public
	Subject     dn.Name
	Depth       int       // levels of authorities that are below
	Grants      span.Span // the longest life that it is to grant
	Old         time.Time // the end of the generation that it renews; zero for none
	Now         time.Time
}
