// Package path finds and judges chains: whether a client that trusts certain
// anchors accepts a certificate, and for every step why or why not (RFC 5280
// section 6).
//
// A client says "unknown authority" and stops; an administrator needs to know
// which certificate is missing. So Verify does two things at once. It searches
// for a chain that holds, from the certificate upward through whatever was
// given. And where none holds, it keeps the chain that came nearest and explains
// that one, certificate by certificate.
//
// The search is bounded: it counts signature checks, and gives up with a
// finding rather than let a heap of cross-signed certificates keep it busy.
package path

import (
	"bytes"
	"encoding/asn1"
	"fmt"
	"slices"
	"time"

	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/span"
)

// Bounds of one search.
const (
	MostChecks = 256     // signatures checked
	MostDepth  = 16      // certificates in a chain
	MostNames  = 200_000 // names compared with constraints
	mostSteps  = 20_000
)

// Question is what a client wants to know.
type Question struct {
	Anchors []*cert.Certificate
	Now     time.Time
	Name    string                // the host that the client connects to; "" to leave names out
	Usage   asn1.ObjectIdentifier // the usage the client needs; nil for any

	Proofs *Proofs // what was found before; nil to find everything again

	// Status says whether the first certificate of a line was revoked, and in words what
	// tells; it is asked for every certificate of a chain below its anchor, which is the last.
	// Nil: it is not checked.
	Status func(line []*cert.Certificate) (finding.List, string)

	// The inputs of RFC 5280 section 6.1.1 c, e, f and g.
	Policies      []asn1.ObjectIdentifier // those acceptable; none means all
	RequirePolicy bool
	NoMapping     bool
	NoAnyPolicy   bool
}

// Role is what a certificate is in a chain.
type Role string

const (
	Leaf         Role = "leaf"
	Intermediate Role = "intermediate"
	Link         Role = "link" // by which one root of an authority vouches for another
	Anchor       Role = "anchor"
)

// Step is one certificate of the chain, with what speaks against it.
type Step struct {
	Role        Role
	Certificate *cert.Certificate
	Findings    finding.List
	Words       string // what fails first; where nothing does, what holds
	Status      string // what tells whether it was revoked; "" where it was not checked
}

// Good reports whether nothing in the step makes a client refuse.
func (s Step) Good() bool { return len(s.Findings.Refusing()) == 0 }

// Verdict is whether a client accepts the certificate, by which chain, or why not.
type Verdict struct {
	Valid    bool
	Steps    []Step              // leaf first; where the chain is broken, as far as it goes
	Findings finding.List        // what is not about one certificate: order, what is missing
	Unused   []*cert.Certificate // given, and not part of the chain
	Checks   int                 // signatures that were checked
	Nearest  bool                // no chain holds, and this is the one that came nearest
}

// Reasons are all findings that make a client refuse, the leaf's first.
func (v Verdict) Reasons() finding.List {
	var out finding.List
	for _, s := range v.Steps {
		out = append(out, s.Findings.Refusing()...)
	}
	return append(out, v.Findings.Refusing()...)
}

type search struct {
	q        Question
	pool     []*cert.Certificate
	named    map[string][]*cert.Certificate // the pool, by what subjects compare equal under
	checks   int
	steps    int
	cut      bool
	good     map[[2]*cert.Certificate]bool
	limits   map[*cert.Certificate]ext.Bounds
	breach   map[[2]*cert.Certificate]string // what of the second breaks the constraints of the first
	compared int                             // names that were compared with constraints
	best     *Verdict
	// where the search ended without an anchor, at its deepest
	broken       []*cert.Certificate
	brokenReason finding.Finding
}

// Verify judges one certificate. others are the certificates that came with it
// or are known otherwise, in any order; anchors among them are not trusted for
// being there.
func Verify(leaf *cert.Certificate, others []*cert.Certificate, q Question) Verdict {
	s := newSearch(q)
	seen := map[[32]byte]bool{leaf.SHA256(): true}
	for _, c := range others {
		if sum := c.SHA256(); !seen[sum] {
			seen[sum] = true
			s.pool = append(s.pool, c)
			s.named[c.Subject.Folded()] = append(s.named[c.Subject.Folded()], c)
		}
	}
	s.extend([]*cert.Certificate{leaf})
	v := s.answer(leaf, s.verdict(leaf))
	v.Nearest = !v.Valid && len(v.Steps) > 1
	return v
}

func newSearch(q Question) *search {
	return &search{q: q, good: map[[2]*cert.Certificate]bool{}, named: map[string][]*cert.Certificate{},
		limits: map[*cert.Certificate]ext.Bounds{}, breach: map[[2]*cert.Certificate]string{}}
}

// Exactly judges a chain as it stands: the leaf, then each issuer upward, with
// nothing left out, added or put in order. An anchor may end it, or have issued
// the last certificate.
func Exactly(chain []*cert.Certificate, q Question) Verdict {
	s := newSearch(q)
	whole := s.isAnchor(chain[len(chain)-1])
	if !whole {
		for _, a := range q.Anchors {
			if last := chain[len(chain)-1]; a.Subject.Equal(last.Issuer) && s.signed(last, a) {
				chain, whole = append(slices.Clone(chain), a), true
				break
			}
		}
	}
	v := Verdict{Steps: s.judge(chain, whole)}
	for i := 0; i+1 < len(chain); i++ {
		c, up := chain[i], chain[i+1]
		st := &v.Steps[i]
		if !up.Subject.Equal(c.Issuer) {
			st.Findings = append(st.Findings, finding.New(finding.NotTheIssuer,
				"%s was issued by %s, and is followed by %s.", c.Title(), c.Issuer, up.Subject))
		} else if !s.signed(c, up) {
			st.Findings = append(st.Findings, finding.New(finding.BadSignature,
				"The signature of %s was not made by the key of %s.", c.Title(), up.Title()))
		}
	}
	if !whole {
		v.Findings = append(v.Findings, s.breakAt(chain[len(chain)-1], 0))
	}
	return s.answer(chain[0], v)
}

// answer completes a verdict.
func (s *search) answer(leaf *cert.Certificate, v Verdict) Verdict {
	v.Steps[0].Findings = append(v.Steps[0].Findings, s.nameFindings(leaf)...)
	if s.cut && !v.Valid {
		v.Findings = append(v.Findings, finding.New(finding.SearchCut,
			"The search for a chain ended after %d signature checks.", s.checks))
	}
	v.Valid = len(v.Reasons()) == 0
	for i := range v.Steps {
		v.Steps[i].Words = s.words(v.Steps, i)
	}
	for _, c := range s.pool {
		if !slices.ContainsFunc(v.Steps, func(st Step) bool { return bytes.Equal(st.Certificate.Raw, c.Raw) }) {
			v.Unused = append(v.Unused, c)
		}
	}
	v.Checks = s.checks
	return v
}

// verdict takes the best chain that was found, or explains the break.
func (s *search) verdict(leaf *cert.Certificate) Verdict {
	if s.best != nil {
		return *s.best
	}
	v := Verdict{Steps: s.judge(s.broken, false)}
	if len(v.Steps) == 0 {
		v.Steps = s.judge([]*cert.Certificate{leaf}, false)
	}
	v.Findings = finding.List{s.brokenReason}
	return v
}

// extend tries every way to continue from the last certificate of a chain. It
// returns true when a chain that holds was found.
func (s *search) extend(chain []*cert.Certificate) bool {
	last := chain[len(chain)-1]
	if s.steps++; s.steps > mostSteps || len(chain) > MostDepth {
		s.cut = true
		return false
	}
	if s.isAnchor(last) {
		return s.complete(chain)
	}
	named := 0
	for _, list := range [][]*cert.Certificate{s.q.Anchors, s.ranked(last)} {
		for _, c := range list {
			if !c.Subject.Equal(last.Issuer) || repeats(chain, c) {
				continue
			}
			named++
			if !s.signed(last, c) {
				continue
			}
			if s.extend(append(slices.Clone(chain), c)) {
				return true
			}
		}
	}
	s.noteBreak(chain, named)
	return false
}

func (s *search) isAnchor(c *cert.Certificate) bool { return containsCert(s.q.Anchors, c) }

// repeats reports whether an authority with this name and this key stands in the
// chain already: going through it again leads nowhere new.
func repeats(chain []*cert.Certificate, c *cert.Certificate) bool {
	return slices.ContainsFunc(chain, func(o *cert.Certificate) bool {
		return bytes.Equal(o.Raw, c.Raw) || bytes.Equal(o.Key.SPKI, c.Key.SPKI) && o.Subject.Equal(c.Subject)
	})
}

func containsCert(list []*cert.Certificate, c *cert.Certificate) bool {
	return slices.ContainsFunc(list, func(o *cert.Certificate) bool { return bytes.Equal(o.Raw, c.Raw) })
}

// ranked orders the pool by how likely each is the issuer: the key identifier
// that is named first, then those valid today, then those that last longest.
func (s *search) ranked(child *cert.Certificate) []*cert.Certificate {
	out := slices.Clone(s.named[child.Issuer.Folded()])
	weight := func(c *cert.Certificate) int {
		w := 0
		if len(child.AuthorityKey) > 0 && bytes.Equal(child.AuthorityKey, c.SubjectKey) {
			w += 4
		}
		if !s.q.Now.Before(c.NotBefore) && !s.q.Now.After(c.NotAfter) {
			w += 2
		}
		if c.IsAuthority() {
			w++
		}
		return w
	}
	slices.SortStableFunc(out, func(a, b *cert.Certificate) int {
		if d := weight(b) - weight(a); d != 0 {
			return d
		}
		return b.NotAfter.Compare(a.NotAfter)
	})
	return out
}

func (s *search) signed(child, issuer *cert.Certificate) bool {
	pair := [2]*cert.Certificate{child, issuer}
	if ok, known := s.good[pair]; known {
		return ok
	}
	if s.checks >= MostChecks {
		s.cut = true
		return false
	}
	s.checks++
	ok := s.q.Proofs.verified(child, issuer)
	s.good[pair] = ok
	return ok
}

// complete judges a chain that reaches an anchor and keeps the best.
func (s *search) complete(chain []*cert.Certificate) bool {
	v := Verdict{Steps: s.judge(chain, true)}
	if s.best == nil || len(v.Reasons()) < len(s.best.Reasons()) {
		s.best = &v
	}
	return len(v.Reasons()) == 0
}

// noteBreak remembers the deepest place at which the search found no way on.
func (s *search) noteBreak(chain []*cert.Certificate, named int) {
	if len(chain) <= len(s.broken) {
		return
	}
	s.broken = chain
	s.brokenReason = s.breakAt(chain[len(chain)-1], named)
}

// breakAt says why a chain goes no further than its last certificate; named is
// how many were given whose name fits.
func (s *search) breakAt(last *cert.Certificate, named int) finding.Finding {
	switch {
	case last.SelfIssued() && last.VerifiedBy(last.Key) == nil:
		if twin := s.twin(last); twin != nil {
			return finding.New(finding.UnknownAnchor,
				"The chain ends at %s; a trusted anchor has the same name and another key.", last.Title()).
				WithRemedy("compare fingerprints: one of the two roots is a newer generation, or foreign")
		}
		return finding.New(finding.UnknownAnchor,
			"The chain ends at %s, which signs itself and is not among the %s.", last.Title(),
			span.Count(len(s.q.Anchors), "trusted anchor"))
	case named > 0:
		return finding.New(finding.BadSignature,
			"%s names %s as its issuer, and its signature was not made by that key.", last.Title(), commonOr(last))
	}
	return finding.New(finding.MissingIssuer, "The issuer of %s is missing: %s%s.", last.Title(), last.Issuer,
		keyHint(last)).
		WithNext(advice.Say("add the certificate of "+commonOr(last)+" to the server's chain file"),
			advice.To("for a file", advice.GiveChain))
}

func (s *search) twin(c *cert.Certificate) *cert.Certificate {
	for _, a := range s.q.Anchors {
		if a.Subject.Equal(c.Subject) {
			return a
		}
	}
	return nil
}

func commonOr(c *cert.Certificate) string {
	if cn := c.Issuer.CommonName(); cn != "" {
		return cn
	}
	return c.Issuer.String()
}

func keyHint(c *cert.Certificate) string {
	if len(c.AuthorityKey) == 0 {
		return ""
	}
	return fmt.Sprintf(" (key %x…)", c.AuthorityKey[:min(4, len(c.AuthorityKey))])
}
