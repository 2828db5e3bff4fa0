package path

import (
	"encoding/asn1"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/span"
)

// judge examines every certificate of a chain. whole says that the last one is
// an anchor.
func (s *search) judge(chain []*cert.Certificate, whole bool) []Step {
	var out []Step
	below := 0 // authorities below that are not self-issued
	for i, c := range chain {
		st := Step{Certificate: c, Role: Intermediate}
		switch {
		case i == 0:
			st.Role = Leaf
		case whole && i == len(chain)-1:
			st.Role = Anchor
		case c.IsLink():
			st.Role = Link
		}
		st.Findings = append(s.timely(c), s.soundness(c, i, whole && i == len(chain)-1)...)
		if i > 0 {
			st.Findings = append(st.Findings, s.authority(c, chain[i-1], below)...)
			st.Findings = append(st.Findings, s.outside(c, chain[:i])...)
			if !c.SelfIssued() {
				below++
			}
		}
		out = append(out, st)
	}
	if whole && len(out) > 0 {
		out[0].Findings = append(out[0].Findings, policyFindings(chain, s.q)...)
	}
	if whole && s.q.Status != nil {
		for i := range chain[:len(chain)-1] {
			found, words := s.q.Status(chain[i:])
			out[i].Findings, out[i].Status = append(out[i].Findings, found...), words
		}
	}
	return out
}

func (s *search) timely(c *cert.Certificate) finding.List {
	who := c.Title()
	if c.IsLink() {
		who = "The link certificate of " + who
	}
	switch now := s.q.Now; {
	case now.Before(c.NotBefore):
		return finding.List{finding.New(finding.NotYetValid, "%s is valid from %s, %s; the clock used says %s.", who,
			stamp(c.NotBefore), span.Distance(now, c.NotBefore), stamp(now))}
	case now.After(c.NotAfter):
		f := finding.New(finding.Expired, "%s expired on %s, %s.", who, stamp(c.NotAfter), span.Distance(now,
			c.NotAfter))
		if c.IsLink() || s.isAnchor(c) {
			f = f.WithRemedy("bring the authority's newer root to this client")
		}
		return finding.List{f}
	}
	return nil
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }

// handled are the critical extensions that this validator understands.
var handled = []asn1.ObjectIdentifier{ext.KeyUsageID, ext.AltNames, ext.BasicID, ext.NameConstraintID,
	ext.ExtendedUsage, ext.PoliciesID, ext.PolicyMappings, ext.PolicyLimits, ext.InhibitAny, ext.SubjectKeyID,
	ext.AuthorityKeyID, ext.CRLPoints}

func (s *search) soundness(c *cert.Certificate, at int, anchor bool) finding.List {
	var out finding.List
	for _, e := range c.Extensions {
		if e.Critical && !slices.ContainsFunc(handled, func(id asn1.ObjectIdentifier) bool { return id.Equal(e.ID) }) {
			out = append(out, finding.New(finding.UnknownCritical,
				"%s has the critical extension %s, which is not understood.", c.Title(), ext.NameOf(e.ID)))
		}
	}
	if c.Algorithm.Weak() && !anchor {
		out = append(out, finding.New(finding.WeakHash, "%s is signed with %s.", c.Title(),
			c.Algorithm.Name).WithRemedy("issue it again, signed with SHA-256 or stronger"))
	}
	switch {
	case len(c.Broken) > 0:
		out = append(out, finding.New(finding.Broken, "%s: %s.", c.Title(), strings.Join(c.Broken, "; ")))
	case len(c.Faults) > 0:
		out = append(out, finding.New(finding.Malformed, "%s: %s.", c.Title(), strings.Join(c.Faults, "; ")))
	}
	for _, f := range c.Key.Weakness().Refusing() {
		f.Message = c.Title() + ": " + f.Message
		out = append(out, f)
	}
	if u := s.q.Usage; u != nil && c.HasExtended && !anchor && !Permits(c.Extended, u) {
		who := "It has"
		if at > 0 {
			who = "Everything below " + c.Title() + " is limited to"
		}
		out = append(out, finding.New(finding.UsageMissing, "%s lacks the usage %s. %s: %s.", c.Title(),
			ext.UsageNames([]asn1.ObjectIdentifier{u})[0], who, strings.Join(ext.UsageNames(c.Extended), ", ")))
	}
	return out
}

// Permits reports whether usages allow one: it is among them, or the one that means all is.
func Permits(have []asn1.ObjectIdentifier, want asn1.ObjectIdentifier) bool {
	return slices.ContainsFunc(have, func(id asn1.ObjectIdentifier) bool {
		return id.Equal(want) ||
			id.Equal(ext.AnyUsage)
	})
}

// authority checks that c may issue child, with below authorities between it
// and the leaf.
func (s *search) authority(c, child *cert.Certificate, below int) finding.List {
	var out finding.List
	if !c.IsAuthority() {
		out = append(out, finding.New(finding.NotAuthority, "%s issued %s and is not marked as an authority.",
			c.Title(), child.Title()))
	}
	if c.HasUsage && c.Usage&ext.KeyCertSign == 0 {
		out = append(out, finding.New(finding.CannotSign, "%s issued %s and its key usage is only %s.", c.Title(),
			child.Title(), c.Usage))
	}
	if c.IsAuthority() && c.Basic.PathLength >= 0 && below > c.Basic.PathLength {
		out = append(out, finding.New(finding.PathLength, "%s allows %s of authorities below it; here are %d.",
			c.Title(), span.Count(c.Basic.PathLength, "level"), below))
	}
	return out
}

// outside checks everything below c against c's name constraints; self-issued
// authorities are exempt (RFC 5280 section 6.1.3 b), the leaf is not.
func (s *search) outside(c *cert.Certificate, below []*cert.Certificate) finding.List {
	if c.Constraints.IsEmpty() {
		return nil
	}
	var out finding.List
	for i, d := range below {
		if i > 0 && d.SelfIssued() {
			continue
		}
		if why := s.breachOf(c, d); why != "" {
			out = append(out, finding.New(finding.ConstraintBroken, "%s may not certify %s: %s.", c.Title(), d.Title(),
				why))
		}
	}
	return out
}

// breachOf holds a certificate against constraints, once for each pair: the same two stand in many
// chains of one search.
func (s *search) breachOf(c, d *cert.Certificate) string {
	pair := [2]*cert.Certificate{c, d}
	if why, known := s.breach[pair]; known {
		return why
	}
	if s.compared += len(d.Names) + 1; s.compared > MostNames {
		s.cut = true
		return fmt.Sprintf("more than %d names would have to be compared against constraints", MostNames)
	}
	limits, known := s.limits[c]
	if !known {
		limits = c.Constraints.Bounds()
		s.limits[c] = limits
	}
	why := limits.Breach(d.Subject, d.Names)
	s.breach[pair] = why
	return why
}

// words says about a step what fails, first of all; else what holds.
func (s *search) words(steps []Step, i int) string {
	st := steps[i]
	c := st.Certificate
	if why := st.Findings.Refusing(); len(why) > 0 {
		return why[0].Message
	}
	until := fmt.Sprintf("valid until %s, %s", c.NotAfter.Format("2006-01-02"), span.Distance(s.q.Now, c.NotAfter))
	switch {
	case st.Role == Anchor && i == 0:
		return "is itself a trusted anchor; " + until
	case st.Role == Anchor:
		return "trusted anchor; " + until
	case i+1 < len(steps) && c.Issuer.Equal(steps[i+1].Certificate.Subject) && s.signed(c, steps[i+1].Certificate):
		return "signed by " + steps[i+1].Certificate.Title() + ", signature holds; " + until
	}
	return until
}
