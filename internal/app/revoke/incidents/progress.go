package incidents

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
)

// Step is one of the steps of an incident, in their order.
type Step struct {
	Name  string      `json:"step" doc:"what is to be done"`
	Done  bool        `json:"done" doc:"whether nothing of it is left"`
	Words string      `json:"words" doc:"how it stands"`
	Next  advice.Step `json:"-"` // the act to do next; empty when nothing is left to do
}

// Affected is a certificate that depends on the suspected key.
type Affected struct {
	Title       string          `json:"title" doc:"for whom it is"`
	Serial      string          `json:"serial" doc:"of it"`
	State       lifecycle.State `json:"state" doc:"its state today"`
	Authority   bool            `json:"ca" doc:"whether it is an authority's"`
	Holders     []string        `json:"held_by" doc:"who holds it"`
	Replacement string          `json:"replacement" doc:"serial of the one that was signed in its place; empty for none"`
	Handed      bool            `json:"handed_over" doc:"whether a holder has the replacement"`
	Seen        string          `json:"seen" doc:"what its endpoint was last seen to serve: replacement, old, or empty"`

	idle         bool                     // it is not in use, and needs no replacement
	record, next estate.CertificateRecord // next is the replacement; zero if none exists
}

// CrossCertificate is a link certificate by which another authority vouches for the suspected key: clients
// that hold that authority's root alone accept whatever the key signs.
type CrossCertificate struct {
	By     string          `json:"by" doc:"the generation that signed it"`
	Serial string          `json:"serial" doc:"of it"`
	State  lifecycle.State `json:"state" doc:"its state today"`

	record estate.CertificateRecord
	by     *hierarchy.Generation
}

// Progress is what was done in an incident and what is left.
type Progress struct {
	compromise.Incident
	Steps    []Step             `json:"steps" doc:"in their order"`
	Affected []Affected         `json:"affected" doc:"what depends on the key"`
	Holders  []string           `json:"holders" doc:"who has to change something"`
	Links    []CrossCertificate `json:"links" doc:"certificates by which another authority vouches for the key"`

	target revoking.Target
	h      hierarchy.Hierarchy
}

// Undone are the steps that are not done.
func (p Progress) Undone() (out []string) {
	for _, s := range p.Steps {
		if !s.Done {
			out = append(out, s.Name)
		}
	}
	return out
}

// Of works out how an incident stands.
func Of(ctx context.Context, e *estate.Estate, name string) (Progress, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (Progress, error) { return of(ctx, e, name) })
}

func of(ctx context.Context, e *estate.Estate, name string) (Progress, error) {
	var p Progress
	var err error
	if p.Incident, err = Find(ctx, e, name); err != nil {
		return p, err
	}
	if p.h, err = e.Hierarchy(ctx); err != nil {
		return p, err
	}
	if p.target, err = revoking.Find(ctx, e, p.Certificate); err != nil {
		return p, err
	}
	if err := p.links(ctx, e); err != nil {
		return p, err
	}
	if err := p.affected(ctx, e); err != nil {
		return p, err
	}
	for _, step := range []func(context.Context, *estate.Estate) (Step, error){p.stopped, p.listed, p.prepared,
		p.handed,
		p.revoked, p.published, p.proven} {
		s, err := step(ctx, e)
		if err != nil {
			return p, err
		}
		p.Steps = append(p.Steps, s)
	}
	return p, nil
}

// links finds the link certificates for the suspected key.
func (p *Progress) links(ctx context.Context, e *estate.Estate) error {
	p.Links = []CrossCertificate{}
	for _, a := range p.h {
		for _, l := range a.Links {
			if !key.Same(l.Certificate.Key, p.target.Key) {
				continue
			}
			record, _, err := e.OnRecord(ctx, l.Certificate)
			if err != nil {
				return err
			}
			p.Links = append(p.Links, CrossCertificate{By: l.By.Name(), Serial: l.Certificate.SerialHex(),
				State:  record.State,
				record: record, by: l.By})
		}
	}
	return nil
}

// isLink reports whether a certificate is a link: it needs no replacement. It falls with the key
// that signed it, or is revoked where it vouches for the suspected key.
func (p *Progress) isLink(c *cert.Certificate) bool {
	for _, a := range p.h {
		for _, l := range a.Links {
			if bytes.Equal(l.Certificate.Raw, c.Raw) {
				return true
			}
		}
	}
	return false
}

// affected gathers what depends on the key, with what has become of each.
func (p *Progress) affected(ctx context.Context, e *estate.Estate) error {
	var list []revoking.Dependent
	var down []*hierarchy.Generation
	if g := p.target.Generation; g != nil {
		down = withKey(p.h, g.Certificate.Key)
		var err error
		if list, err = revoking.DependentsOf(ctx, e, p.h, down); err != nil {
			return err
		}
	} else {
		var err error
		if list, err = withSameKey(ctx, e, p.target.CertificateRecord); err != nil {
			return err
		}
	}
	instead, err := p.successors(ctx, e, down)
	if err != nil {
		return err
	}
	observed, err := parties.LastServed(ctx, e)
	if err != nil {
		return err
	}
	who := map[string]bool{}
	p.Affected, p.Holders = []Affected{}, []string{}
	for _, f := range list {
		if f.OneUse() || p.isLink(f.Certificate) {
			continue
		}
		a := Affected{Title: f.Title(), Serial: f.SerialHex(), State: f.State, Authority: f.Authority,
			Holders: append([]string{}, f.Holders...), record: f.CertificateRecord,
			idle: p.target.Generation != nil && (f.State == lifecycle.Revoked || f.State == lifecycle.OnHold)}
		for _, h := range f.Holders {
			who[h] = true
		}
		if err := p.instead(ctx, e, &a, instead, observed); err != nil {
			return err
		}
		p.Affected = append(p.Affected, a)
	}
	for h := range who {
		p.Holders = append(p.Holders, h)
	}
	slices.Sort(p.Holders)
	return nil
}

// successors are what was signed in place of certificates and counts, by what they replace.
func (p *Progress) successors(ctx context.Context, e *estate.Estate,
	down []*hierarchy.Generation) (map[int64]estate.CertificateRecord, error) {
	all, err := e.Certificates(ctx)
	if err != nil {
		return nil, err
	}
	next := map[int64]estate.CertificateRecord{}
	for _, c := range all {
		if c.Record.Replaces != 0 {
			next[c.Record.Replaces] = c
		}
	}
	counts := func(c estate.CertificateRecord) bool {
		again := p.target.Generation == nil && c.Key.Fingerprint() == p.target.Key.Fingerprint()
		return !again && c.State != lifecycle.Revoked && c.State != lifecycle.Expired &&
			!slices.ContainsFunc(down, func(g *hierarchy.Generation) bool { return g.Name() == c.Record.Issuer })
	}
	instead := map[int64]estate.CertificateRecord{}
	for id, c := range next {
		for there := true; there && !counts(c); { // its successor may do; each is younger than what it replaces
			c, there = next[c.Record.ID]
		}
		if c.Certificate != nil {
			instead[id] = c
		}
	}
	return instead, nil
}

// withSameKey lists a certificate, and those that have its key and still count.
func withSameKey(ctx context.Context, e *estate.Estate, target estate.CertificateRecord) (out []revoking.Dependent,
	err error) {
	same, err := e.ReadCertificates(e.Records.CertificatesByKey(ctx, target.Key.Fingerprint(), store.NoLimit))
	if err != nil {
		return nil, err
	}
	for _, c := range same {
		if c.State == lifecycle.Expired && c.Record.ID != target.Record.ID {
			continue
		}
		holders, err := e.Holders(ctx, c)
		if err != nil {
			return nil, err
		}
		out = append(out, revoking.Dependent{CertificateRecord: c, Under: c.Record.Issuer, Holders: holders})
	}
	return out, nil
}

// instead finds what was signed in place of a certificate, and what is known of it.
func (p *Progress) instead(ctx context.Context, e *estate.Estate, a *Affected,
	instead map[int64]estate.CertificateRecord,
	observed parties.Served) error {
	if a.Authority {
		for _, g := range estate.AllGenerations(p.h) {
			if g.Certificate.SerialHex() == a.Serial && g != g.Authority.Generations[len(g.Authority.Generations)-1] {
				a.Replacement = g.Authority.Generations[len(g.Authority.Generations)-1].Certificate.SerialHex()
				a.Handed = true
			}
		}
		return nil
	}
	old := observed.By(a.record.Certificate)
	c, ok := instead[a.record.Record.ID]
	if ok {
		a.next = c
		if a.Replacement = c.SerialHex(); observed.InUse(c.Certificate) {
			a.Seen, a.Handed = "replacement", true
		}
	}
	if old { // of several endpoints one is enough: whoever has the key can still pass for it
		a.Seen = "old"
	}
	if !ok {
		return nil
	}
	holders, err := e.Records.HandedTo(ctx, c.Record.ID)
	a.Handed = a.Handed || len(holders) > 0
	return err
}

func (p *Progress) count(is func(Affected) bool) (n int) {
	for _, a := range p.Affected {
		if is(a) {
			n++
		}
	}
	return n
}

// ToHandOver are the replacements that were not handed over yet.
func (p *Progress) ToHandOver() (out []estate.CertificateRecord) {
	for _, a := range p.Affected {
		if a.needs() && a.Replacement != "" && !a.Handed {
			out = append(out, a.next)
		}
	}
	return out
}

// needs reports whether a certificate needs a replacement. One below an authority that was revoked itself, or is
// on hold, is not in use.
func (a Affected) needs() bool { return !a.idle }

// Replace plans a certificate in place of every affected one that has none, under the
// newest generation of its authority, prepared or not.
func Replace(ctx context.Context, e *estate.Estate, p Progress, waivers []finding.Waiver) ([]signing.Planned, error) {
	g := p.target.Generation
	if g == nil {
		return nil, fault.New(fault.Refused, "incident %s is about the key of %s itself: its holder must send a "+
			"request with a new key", p.Name, p.About).
			On(fault.Incident.Named("%s", p.Name)).
			Then(advice.To("then renew it", advice.RenewCertificate, "certificate", p.target.Serial.Short(), "request",
				advice.Asked))
	}
	if s, err := p.prepared(ctx, e); err != nil {
		return nil, err
	} else if !p.renewed() {
		return nil, fmt.Errorf("incident %s: %s: renew it first: %s", p.Name, s.Words, s.Next)
	}
	by := map[*hierarchy.Generation][]estate.CertificateRecord{}
	for _, a := range p.Affected {
		if a.Replacement != "" || a.Authority || !a.needs() {
			continue
		}
		signer := p.h.Generation(a.record.Record.Issuer)
		list := signer.Authority.Generations
		by[list[len(list)-1]] = append(by[list[len(list)-1]], a.record)
	}
	var out []signing.Planned
	for _, next := range estate.AllGenerations(p.h) {
		if len(by[next]) == 0 {
			continue
		}
		list, err := renewals.PlanThese(ctx, e, by[next], waivers, next)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}
