package issue

import (
	"fmt"
	"strings"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/san"
	"ironseal/pki/template"
)

// extensions builds what the template names, in a fixed order, with a row for
// each that a person should see.
func (p *planner) extensions(kind key.Kind, subject dn.Name, names []san.Name) (ext.Set, error) {
	in, t := p.in, &p.in.Template
	out := make(ext.Set, 0, usualExtensions)
	basic := ext.Basic{Authority: t.IsAuthority(), PathLength: -1}
	if basic.Authority {
		basic.PathLength = p.pathLength()
	}
	out = append(out, basic.Extension())
	asksCA := ""
	if in.Request != nil && in.Request.AsksAuthority() {
		asksCA = "yes"
	}
	cause := ""
	if asksCA != "" && !basic.Authority {
		cause = "the template makes no authority"
	}
	p.row("CA", asksCA, basic.Words(), cause)
	out = append(out, p.usage(kind)...)
	id := in.KeyID
	if in.Request != nil && id == nil {
		id = in.Request.Key.Identifier()
	}
	if in.Request != nil {
		out = append(out, ext.KeyID(id))
	}
	switch {
	case in.Issuer != nil && in.Issuer.Certificate.SubjectKey != nil:
		out = append(out, ext.AuthorityKey(in.Issuer.Certificate.SubjectKey))
	case in.Issuer != nil:
		out = append(out, ext.AuthorityKey(in.Issuer.Certificate.Key.Identifier()))
	case in.Request != nil:
		out = append(out, ext.AuthorityKey(id))
	}
	if len(names) > 0 {
		e, err := ext.NamesExtension(names, subject.IsEmpty())
		if err != nil {
			return nil, fmt.Errorf("alternative names for %s: %w", subject, err)
		}
		out = append(out, e)
	}
	if !in.Amend.Permit.IsEmpty() {
		e, err := in.Amend.Permit.Extension()
		if err != nil {
			return nil, fmt.Errorf("name constraints for %s: %w", subject, err)
		}
		out = append(out, e)
		p.row("may certify", "", in.Amend.Permit.Words(), "")
	}
	more, err := p.published()
	if err != nil {
		return nil, fmt.Errorf("template %s: %w", t.Name, err)
	}
	out = append(out, more...)
	if in.Rehearse {
		out = append(out, cert.RehearsalMark())
		p.row("rehearsal", "", "marked as made in a rehearsal", "")
	}
	p.leftOut(out)
	return out, nil
}

// published builds what the template adds on its own: policies, addresses, and
// the mark of OCSP responders.
func (p *planner) published() (ext.Set, error) {
	t := &p.in.Template
	var out ext.Set
	if len(t.Policies) > 0 {
		e, err := ext.Policies(t.Policies)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
		p.row("policies", "", strings.Join(t.Policies, ", "), "")
	}
	at := p.addresses()
	p.status = len(at.Lists)+len(at.OCSP) > 0
	if t.NoRevocation {
		out = append(out, ext.NoRevocation())
		p.row("revocation", "", "none: it lives too shortly for lists", "")
	}
	if len(at.Lists) > 0 {
		out = append(out, ext.ListAddresses(at.Lists))
		p.row("list at", "", strings.Join(at.Lists, ", "), "")
	}
	if len(at.Issuers)+len(at.OCSP) > 0 {
		out = append(out, ext.Access(at.Issuers, at.OCSP))
		p.row("issuer at", "", strings.Join(append(append([]string(nil), at.Issuers...), at.OCSP...), ", "), "")
	}
	if t.NoCheck {
		out = append(out, ext.NoCheck())
	}
	return out, nil
}

// addresses are those that the certificate names: the template's own, else those of the
// settings. A root names none: no authority above lists it, and it is its own issuer.
func (p *planner) addresses() template.Publish {
	at := p.in.Template.Publish
	if p.in.Issuer == nil {
		return at
	}
	for _, x := range []struct {
		own *[]string
		set []string
	}{{&at.Lists, p.in.Published.Lists}, {&at.Issuers, p.in.Published.Issuers}, {&at.OCSP, p.in.Published.OCSP}} {
		if len(*x.own) == 0 {
			*x.own = x.set
		}
	}
	if p.part = p.in.Part; len(p.in.Template.Publish.Lists) > 0 {
		p.part = 0
	}
	if p.in.Template.NoRevocation || p.in.Template.NoCheck {
		at.Lists, at.OCSP, p.part = nil, nil, 0
	}
	return at
}

// usage builds key usage and extended key usage, and says which of the usages
// asked for the template does not give.
func (p *planner) usage(kind key.Kind) ext.Set {
	t := &p.in.Template
	var out ext.Set
	give := t.KeyUsage(kind)
	var asked ext.KeyUsage
	var askedNames, lack []string
	ids := t.ExtendedUsage()
	extended := ext.UsageNames(ids)
	if p.in.Request != nil {
		u, wanted := p.in.Request.Usage()
		asked, askedNames = u, ext.UsageNames(wanted)
	}
	if give != 0 {
		out = append(out, give.Extension())
	}
	cause := ""
	if asked != 0 && asked != give {
		cause = "the template decides"
	}
	p.row("key usage", asked.String(), give.String(), cause)
	if t.IsAuthority() {
		asked = 0
	}
	// A request for encipherment with an elliptic key, or for non-repudiation,
	// is habit: nothing that connects fails for the lack of it.
	elsewhere := ext.KeyCertSign | ext.CRLSign | ext.KeyEncipherment | ext.NonRepudiation // reported by other findings
	lack = append(lack, (asked &^ give &^ elsewhere).Names()...)
	cause = ""
	for _, n := range askedNames {
		if !containsFold(extended, n) {
			lack = append(lack, n)
		}
	}
	if len(askedNames) > 0 && strings.Join(askedNames, ",") != strings.Join(extended, ",") {
		cause = "the template decides"
	}
	if len(extended)+len(askedNames) > 0 {
		p.row("extended usage", strings.Join(askedNames, ", "), strings.Join(extended, ", "), cause)
	}
	if len(extended) > 0 {
		out = append(out, ext.ExtendedExtension(ids, t.Critical))
	}
	if len(lack) > 0 {
		p.find(finding.AsksUsage, "The request asks for %s, which the template %s does not give.",
			strings.Join(lack, ", "), t.Name)
	}
	return out
}

func containsFold(list []string, s string) bool {
	for _, x := range list {
		if strings.EqualFold(x, s) {
			return true
		}
	}
	return false
}

// leftOut names the requested extensions that are not taken over.
func (p *planner) leftOut(have ext.Set) {
	if p.in.Request == nil {
		return
	}
	var out []string
	for _, e := range p.in.Request.Extensions {
		_, taken := have.Find(e.ID)
		if !taken && !e.ID.Equal(ext.AltNames) && !e.ID.Equal(ext.ExtendedUsage) {
			out = append(out, ext.NameOf(e.ID))
		}
	}
	if len(out) > 0 {
		p.row("other extensions", strings.Join(out, ", "), "", "not named by the template")
		p.find(finding.AsksExtension, "Left out of what is signed: %s.", strings.Join(out, ", "))
	}
}

// pathLength decides a new authority's path length: what the person asked, else
// the template's, else no more than the line above leaves.
func (p *planner) pathLength() int {
	in := p.in
	want := -1
	if in.Template.Limits.PathLength != nil {
		want = *in.Template.Limits.PathLength
	}
	if in.Amend.PathLength != nil {
		want = *in.Amend.PathLength
	}
	if in.Amend.Unlimited {
		want = -1
	}
	if in.Issuer == nil {
		return want
	}
	room, by := hierarchy.PathRoom(in.Issuer.Line())
	switch {
	case room == 0:
		p.find(finding.PathTooShort, "%s has path length %d: no authority may be below %s.", by.Label(),
			by.Certificate.Basic.PathLength, in.Issuer.Authority.Handle)
	case room > 0 && want > room-1:
		p.find(finding.PathTooShort, "Path length %d was asked for; %s leaves %d.", want, by.Label(), room-1)
	case room > 0 && want < 0:
		return room - 1
	}
	return want
}

// constraints checks the subject and the names against every name constraint
// in the line above.
func (p *planner) constraints(subject dn.Name, names []san.Name) {
	if p.in.Issuer == nil {
		return
	}
	for _, g := range p.in.Issuer.Line() {
		if why := g.Certificate.Constraints.Breach(subject, names); why != "" {
			p.find(finding.OutsideNames, "%s may not certify this: %s.", g.Label(), why)
		}
	}
}
