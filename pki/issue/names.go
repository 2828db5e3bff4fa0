package issue

import (
	"slices"
	"strings"

	"ironseal/pki/dn"
	"ironseal/pki/finding"
	"ironseal/pki/request"
	"ironseal/pki/runes"
	"ironseal/pki/san"
	"ironseal/pki/span"
	"ironseal/pki/strict"
	"ironseal/pki/template"
)

// picked is one name on its way into the certificate.
type picked struct {
	name  san.Name
	asked string // as the request has it, or ""
	cause string
	out   bool // left out of the certificate
}

// names decides the alternative names and writes a row for each: those of the
// request, the common name, those added at signing; less those dropped.
func (p *planner) names(subject dn.Name) []san.Name {
	in := p.in
	var taken []picked
	have := map[string]bool{}
	take := func(c picked) {
		if !c.out && have[c.name.Key()] {
			return
		}
		have[c.name.Key()] = have[c.name.Key()] || !c.out
		taken = append(taken, c)
	}
	asked := 0
	if in.Request != nil {
		asked = len(in.Request.Names)
		for _, f := range request.NameFindings(in.Request.Names) {
			if f.Code != finding.ShortName { // said below, about what is signed
				p.findings = append(p.findings, f)
			}
		}
		for _, n := range in.Request.Names {
			take(p.fromRequest(n))
		}
	}
	asked += len(in.Beside)
	for _, n := range in.Beside {
		take(p.beside(n))
	}
	for _, host := range request.Hosts(subject) {
		switch {
		case dropped(in.Amend.Drop, host):
		case in.Template.Names.CommonName && in.Template.TakesName(host.Kind()):
			take(picked{name: host, cause: "the common name is always an alternative name too"})
		// some clients take it for a name all the same
		case in.Template.Makes == template.EndEntity && !in.Template.NameFits(host):
			p.find(finding.NameNotAllowed, "The common name %s is outside what the template %s allows: %s.",
				host.Value(), in.Template.Name, in.Template.Allowed())
		}
	}
	for _, n := range in.Amend.Add {
		take(picked{name: n, cause: "added at signing"})
	}
	p.additions()
	out := make([]san.Name, 0, len(taken))
	for _, c := range taken {
		if c.out {
			p.row("name", c.asked, "", c.cause)
			continue
		}
		p.row("name", c.asked, c.name.String(), c.cause)
		out = append(out, c.name)
	}
	full := request.FullForms(out)
	for _, n := range out {
		p.nameFindings(n, full[n.Key()])
	}
	p.dropsThatMissed()
	p.counts(asked, len(out))
	return out
}

// additions finds fault with names that are added at signing where the template allows none.
func (p *planner) additions() {
	if t := p.in.Template; len(p.in.Amend.Add) > 0 && !t.Names.Add {
		p.find(finding.NameNotAllowed, "The template %s does not let names be added at signing.", t.Name)
	}
}

// onlyKinds says which kinds of name a template takes.
func onlyKinds(t template.Template) string {
	if len(t.Names.Kinds) == 0 {
		return "no names"
	}
	return "only names of kind " + strings.Join(t.Names.Kinds, ", ")
}

// beside is a name that the sender typed beside the request. The template treats it like one in the request.
func (p *planner) beside(n san.Name) picked {
	c := p.fromRequest(n)
	c.asked = "" // the request does not have it
	if !c.out {
		c.cause = "asked for by the sender, not by the request"
	}
	return c
}

// fromRequest brings a requested name to its canonical form, or says why it is
// left out.
func (p *planner) fromRequest(n san.Name) picked {
	c := picked{name: n.Fresh(), asked: n.String()}
	left := ""
	switch {
	case dropped(p.in.Amend.Drop, n):
		left = "dropped at signing"
	case n.IsAddress():
		c.name, c.cause = n.Address(), "an address is certified as an address"
	case runes.Misleading(n.Value()):
		left = "left out: characters that mislead"
	case n.Fault() != "":
		left = "left out: " + n.Fault()
	case c.name.String() != n.String():
		c.cause = "in canonical form"
	}
	if left == "" && !p.in.Template.TakesName(c.name.Kind()) && p.in.Template.Makes == template.EndEntity {
		left = "left out: the template takes " + onlyKinds(p.in.Template)
		p.find(finding.NameNotAllowed, "The request lists %s; the template %s takes %s.", n, p.in.Template.Name,
			onlyKinds(p.in.Template))
	}
	if p.in.Template.IsAuthority() && left == "" {
		left = "left out: authorities carry no alternative names here"
	}
	if left != "" {
		c.cause, c.out = left, true
	}
	return c
}

func dropped(list []san.Name, n san.Name) bool {
	return slices.ContainsFunc(list, func(d san.Name) bool { return d.Same(n) })
}

func (p *planner) nameFindings(n san.Name, hasFull bool) {
	if n.IsShort() && !hasFull {
		p.find(finding.ShortName, "%s is a short name, without a domain.", n.Value())
	}
	if n.IsWildcard() && !p.in.Template.Names.Wildcards {
		p.find(finding.NameNotAllowed, "%s is a wildcard, and the template %s allows none.", n.Value(),
			p.in.Template.Name)
	}
	if !p.in.Template.NameFits(n) {
		p.find(finding.NameNotAllowed, "%s is outside what the template %s allows: %s.", n, p.in.Template.Name,
			p.in.Template.Allowed())
	}
	if !p.in.Template.TakesName(n.Kind()) {
		p.find(finding.NameNotAllowed, "%s is of kind %s, which the template %s does not take.", n, n.Kind(),
			p.in.Template.Name)
	}
}

func (p *planner) dropsThatMissed() {
	for _, d := range p.in.Amend.Drop {
		found := p.in.Request != nil && slices.ContainsFunc(p.in.Request.Names,
			func(n san.Name) bool { return n.Same(d) })
		if slices.ContainsFunc(request.Hosts(p.in.subjectNow()), d.Same) {
			found = true
			p.find(finding.CommonNameOdd, "The common name %s is no longer an alternative name; newer clients will "+
				"not match it.", d.Value())
		}
		if !found {
			p.find(finding.DropMissed, "%s was to be dropped, and the request has no such name%s", d, p.nearDrop(d))
		}
	}
}

// nearDrop names the requested name that was probably meant.
func (p *planner) nearDrop(d san.Name) string {
	if p.in.Request == nil {
		return "."
	}
	var known []string
	for _, n := range p.in.Request.Names[:min(len(p.in.Request.Names), 200)] {
		known = append(known, n.Value())
	}
	if near := strict.Nearest(d.Value(), known); near != "" {
		return "; did you mean " + near + "?"
	}
	return "."
}

func (in Input) subjectNow() dn.Name {
	switch {
	case in.Amend.Subject != nil:
		return *in.Amend.Subject
	case in.Request != nil:
		return in.Request.Subject
	}
	return in.Subject
}

func (p *planner) counts(asked, have int) {
	t := &p.in.Template
	if t.IsAuthority() {
		return
	}
	switch {
	case have < t.Names.Least:
		p.find(finding.NameMissing, "The template %s needs at least %s; there are %d.", t.Name,
			span.Count(t.Names.Least, "alternative name"), have)
	case have > t.Names.Most:
		p.find(finding.ManyNames, "There are %d alternative names; the template %s allows %d.", have, t.Name,
			t.Names.Most)
	}
	if asked == 0 && have > 0 && p.in.Request != nil && len(p.in.Amend.Add) == 0 && t.Names.CommonName {
		p.find(finding.NoNames, "The request lists no alternative names; only its common name is certified.")
	}
}
