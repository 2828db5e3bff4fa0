package path

import (
	"encoding/asn1"
	"fmt"
	"slices"
	"strings"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
)

// Policies are worked out as the graph of RFC 9618, which gives the verdicts of
// the tree in RFC 5280 section 6.1 and cannot be made to grow without bound: a
// level holds each policy once, however many ways lead to it.

// policyNode is one policy that is valid at one level of the path.
type policyNode struct {
	policy   string
	parents  []*policyNode
	expected []string // what the next certificate must say for it to continue
}

var anyPolicy = ext.AnyPolicy.String()

// policyLevel is the nodes of one level, by policy. It is empty when no policy
// is valid any more.
type policyLevel map[string]*policyNode

// policies holds the state of section 6.1.2 as it goes down the path.
type policies struct {
	level             policyLevel
	explicit, mapping int // certificates until they are required, and forbidden
	anyAfter          int
	findings          finding.List
	about             *cert.Certificate
	lost              string // what was the reason that no policy is left
	self, last        bool
}

// policyFindings judges the policies of a whole chain, leaf first, the anchor
// last (which takes no part, section 6.1.1 d). The findings are the leaf's.
func policyFindings(chain []*cert.Certificate, q Question) finding.List {
	n := len(chain) - 1
	p := policies{level: policyLevel{anyPolicy: {policy: anyPolicy, expected: []string{anyPolicy}}}, explicit: n + 1,
		mapping: n + 1, anyAfter: n + 1}
	if q.RequirePolicy {
		p.explicit = 0
	}
	if q.NoMapping {
		p.mapping = 0
	}
	if q.NoAnyPolicy {
		p.anyAfter = 0
	}
	for i := n - 1; i >= 0; i-- {
		p.about, p.self, p.last = chain[i], chain[i].SelfIssued(), i == 0
		p.take()
		if p.explicit == 0 && len(p.level) == 0 {
			p.fail(finding.PolicyMissing, "%s: no certificate policy holds for the whole chain down to here, and one "+
				"is required%s.", p.about.Title(), p.lost)
			return p.findings
		}
		if !p.last {
			p.prepare()
		}
	}
	if n > 0 {
		p.wrapUp(q)
	}
	return p.findings
}

func (p *policies) fail(code finding.Code, format string, args ...any) {
	p.findings = append(p.findings, finding.New(code, format, args...))
}

// value returns the certificate's extension, read; ok is false where there is
// none. What cannot be parsed is a fault, and stops the path.
func value[T any](p *policies, id asn1.ObjectIdentifier, read func([]byte) (T, error)) (out T, ok bool) {
	e, ok := p.about.Extensions.Find(id)
	if !ok {
		return out, false
	}
	out, err := read(e.Value)
	if err != nil {
		p.fail(finding.PolicyBroken, "%s: %v.", p.about.Title(), err)
	}
	return out, err == nil
}

// take goes from one level to the next, by the certificate's own policies
// (section 6.1.3 d to f).
func (p *policies) take() {
	list, there := value(p, ext.PoliciesID, ext.ReadPolicies)
	if !there {
		p.lose("%s names no policy", p.about.Title())
		p.level = nil
		return
	}
	next := policyLevel{}
	hasAny := false
	for _, id := range list {
		name := id.String()
		if name == anyPolicy {
			hasAny = true
			continue
		}
		if next[name] != nil {
			p.fail(finding.PolicyBroken, "%s lists the policy %s twice (RFC 5280 section 4.2.1.4).", p.about.Title(),
				name)
			continue
		}
		parents := p.expecting(name)
		if a := p.level[anyPolicy]; len(parents) == 0 && a != nil {
			parents = []*policyNode{a}
		}
		if len(parents) > 0 {
			next[name] = &policyNode{policy: name, parents: parents, expected: []string{name}}
		}
	}
	if hasAny && (p.anyAfter > 0 || !p.last && p.self) {
		for _, node := range p.level.sorted() {
			for _, want := range node.expected {
				if next[want] == nil {
					next[want] = &policyNode{policy: want, parents: p.expecting(want), expected: []string{want}}
				}
			}
		}
	}
	if len(next) == 0 && len(p.level) > 0 {
		p.lose("%s names none of %s", p.about.Title(), strings.Join(p.level.wanted(), ", "))
	}
	p.level = next
}

func (p *policies) lose(format string, args ...any) {
	if p.lost == "" {
		p.lost = ": " + fmt.Sprintf(format, args...)
	}
}

func (p *policies) expecting(name string) []*policyNode {
	var out []*policyNode
	for _, n := range p.level.sorted() {
		if slices.Contains(n.expected, name) {
			out = append(out, n)
		}
	}
	return out
}

func (l policyLevel) sorted() []*policyNode {
	out := make([]*policyNode, 0, len(l))
	for _, n := range l {
		out = append(out, n)
	}
	slices.SortFunc(out, func(a, b *policyNode) int { return strings.Compare(a.policy, b.policy) })
	return out
}

func (l policyLevel) wanted() []string {
	var out []string
	for _, n := range l.sorted() {
		out = append(out, n.expected...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// prepare readies the state for the next certificate (section 6.1.4 a, b, h to j).
func (p *policies) prepare() {
	p.mapped()
	if !p.self {
		for _, n := range []*int{&p.explicit, &p.mapping, &p.anyAfter} {
			*n = max(0, *n-1)
		}
	}
	if l, ok := value(p, ext.PolicyLimits, ext.ReadLimits); ok {
		if l.Explicit >= 0 {
			p.explicit = min(p.explicit, l.Explicit)
		}
		if l.Mapping >= 0 {
			p.mapping = min(p.mapping, l.Mapping)
		}
	}
	if n, ok := value(p, ext.InhibitAny, ext.ReadInhibitAny); ok {
		p.anyAfter = min(p.anyAfter, n)
	}
}

func (p *policies) mapped() {
	pairs, ok := value(p, ext.PolicyMappings, ext.ReadMappings)
	if !ok {
		return
	}
	to := map[string][]string{}
	for _, m := range pairs {
		if m.Issuer.Equal(ext.AnyPolicy) || m.Subject.Equal(ext.AnyPolicy) {
			p.fail(finding.PolicyBroken, "%s maps the policy that stands for all, which RFC 5280 section 6.1.4 a "+
				"forbids.", p.about.Title())
			return
		}
		to[m.Issuer.String()] = append(to[m.Issuer.String()], m.Subject.String())
	}
	for from, subjects := range to {
		node := p.level[from]
		switch {
		case p.mapping == 0:
			if node != nil {
				delete(p.level, from)
				p.lose("%s maps %s, and mapping is forbidden there", p.about.Title(), from)
			}
		case node != nil:
			node.expected = subjects
		case p.level[anyPolicy] != nil:
			p.level[from] = &policyNode{policy: from, parents: p.level[anyPolicy].parents, expected: subjects}
		}
	}
}

// wrapUp ends the path (section 6.1.5 a, b and g).
func (p *policies) wrapUp(q Question) {
	p.explicit = max(0, p.explicit-1)
	if l, ok := value(p, ext.PolicyLimits, ext.ReadLimits); ok && l.Explicit == 0 {
		p.explicit = 0
	}
	if p.explicit > 0 {
		return
	}
	if len(p.level) == 0 {
		p.fail(finding.PolicyMissing, "%s: no certificate policy holds for the whole chain, and one is required%s.",
			p.about.Title(), p.lost)
		return
	}
	if len(q.Policies) == 0 {
		return
	}
	have := p.constrained()
	var wanted []string
	for _, id := range q.Policies {
		name := id.String()
		if slices.Contains(have, name) || name == anyPolicy || p.level[anyPolicy] != nil {
			return
		}
		wanted = append(wanted, name)
	}
	p.fail(finding.PolicyMissing, "%s: the chain holds for %s; what is acceptable is %s.", p.about.Title(),
		strings.Join(have, ", "), strings.Join(wanted, ", "))
}

// constrained is the set of policies, as the anchor's side knows them, for which
// the whole path is valid: those that lead down to the last level and begin
// below a node of the policy that means all.
func (p *policies) constrained() []string {
	seen := map[*policyNode]bool{}
	var out []string
	var walk func(*policyNode)
	walk = func(n *policyNode) {
		if seen[n] {
			return
		}
		seen[n] = true
		for _, up := range n.parents {
			if up.policy == anyPolicy && n.policy != anyPolicy {
				out = append(out, n.policy)
			}
			walk(up)
		}
	}
	for _, n := range p.level.sorted() {
		walk(n)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
