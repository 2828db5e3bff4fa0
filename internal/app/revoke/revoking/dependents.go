package revoking

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/lifecycle"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
)

// Dependent is a certificate that falls when one above it does, with whom it is with.
type Dependent struct {
	estate.CertificateRecord
	Under     string // the generation that signed it
	Authority bool
	Holders   []string
}

// fall works out what becomes invalid with the authorities among the targets: authorities first,
// parents before children, which is the order in which they must be made again; then what they
// signed.
func (p *Plan) fall(ctx context.Context, e *estate.Estate) error {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return err
	}
	var down []*hierarchy.Generation
	for _, t := range p.Targets {
		if t.Generation != nil {
			down = append(down, t.Generation)
		}
	}
	parties := map[string]bool{}
	for _, t := range p.Targets {
		holders, err := e.Holders(ctx, t.CertificateRecord)
		if err != nil {
			return err
		}
		for _, who := range holders {
			parties[who] = true
		}
	}
	p.Dependents, err = DependentsOf(ctx, e, h, down)
	for _, f := range p.Dependents {
		for _, who := range f.Holders {
			parties[who] = true
		}
	}
	for who := range parties {
		p.Parties = append(p.Parties, who)
	}
	slices.Sort(p.Parties)
	return err
}

// DependentsOf lists what becomes invalid with generations, those themselves left out.
func DependentsOf(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy,
	down []*hierarchy.Generation) (authorities []Dependent, err error) {
	dependent := map[*hierarchy.Generation]bool{}
	for _, g := range down {
		dependent[g] = true
	}
	var others []Dependent
	for _, a := range h { // parents before children
		for _, g := range a.Generations {
			if g.Issuer != nil && dependent[g.Issuer] && !dependent[g] {
				dependent[g] = true
			}
		}
	}
	for _, a := range h {
		for _, g := range a.Generations {
			if !dependent[g] {
				continue
			}
			list, err := e.ReadCertificates(e.Records.CertificatesOf(ctx, a.Handle, g.Number))
			if err != nil {
				return nil, err
			}
			for _, c := range list {
				if c.State == lifecycle.Expired || c.State == lifecycle.Revoked {
					continue
				}
				f := Dependent{CertificateRecord: c, Under: g.Name(), Authority: c.IsAuthority()}
				if f.Holders, err = e.Holders(ctx, c); err != nil {
					return nil, err
				}
				if f.Authority {
					authorities = append(authorities, f)
				} else {
					others = append(others, f)
				}
			}
		}
	}
	return append(authorities, others...), nil
}

// judge says what a person should think of before they agree.
func (p *Plan) judge(ctx context.Context, e *estate.Estate) error {
	add := func(code finding.Code, format string, args ...any) {
		p.Findings = append(p.Findings, finding.New(code, format, args...))
	}
	for _, t := range p.Targets {
		switch {
		case p.Ask.Reason == revocation.CACompromise && t.Generation == nil && !t.IsAuthority():
			add(finding.ReasonUnfit, "%s is no authority, and the reason is %s.", t.Title(), p.Ask.Reason.Word())
		case p.Ask.Reason == revocation.Superseded && t.State != lifecycle.Replaced && t.Generation == nil:
			add(finding.NotSuperseded, "Nothing was signed in the place of %s.", t.Title())
		}
		if t.Was != nil && !t.Was.Released.IsZero() {
			add(finding.Again, "%s was on hold from %s to %s.", t.Title(), t.Was.At.Format("2006-01-02"),
				t.Was.Released.Format("2006-01-02"))
		}
		if err := p.judgeKey(ctx, e, t); err != nil {
			return err
		}
		if !namesStatus(t.Certificate) {
			add(finding.NoListToLearn, "%s names no revocation list and no OCSP responder.", t.Title())
		}
		if !e.Keys.Has(t.By.Certificate.Key) {
			add(finding.ListKeyGone, "The key of %s is not there any more: no list can tell of it.", t.By.Label())
		}
	}
	if err := p.judgeIncidents(ctx, e); err != nil {
		return err
	}
	if n := len(p.Dependents); n > 0 {
		f := finding.New(finding.TakesDown, "%s below it become invalid: clients refuse them as soon as they see the "+
			"list.", span.Count(n, "certificate"))
		for _, t := range p.Targets {
			if t.Generation != nil {
				f = f.WithNext(advice.To("if there is time, sign their replacements first", advice.OpenIncident,
					"authority", t.Generation.Name()))
			}
		}
		p.Findings = append(p.Findings, f)
	}
	return nil
}

// mostSameKey is how many certificates with the key of a target are named.
const mostSameKey = 20

// judgeIncidents says where an incident is about another generation of an authority than the one
// that would be revoked, and would so take down what was made in its place.
func (p *Plan) judgeIncidents(ctx context.Context, e *estate.Estate) error {
	list, err := compromise.Incidents(ctx, e.Records)
	if err != nil {
		return err
	}
	for _, t := range p.Targets {
		if i, g := t.beside(list); g != nil {
			p.Findings = append(p.Findings, finding.New(finding.SuspectedGeneration, "The incident %s is about %s, "+
				"and this "+
				"is %s, which has another key.", i.Name, g.Name(), t.Generation.Name()))
		}
	}
	return nil
}

// beside finds an open incident about another generation than a target's, which has another key;
// nil if none exists.
func (t Target) beside(list []compromise.Incident) (compromise.Incident, *hierarchy.Generation) {
	if t.Generation == nil || len(compromise.About(list, t.Key.Fingerprint())) > 0 {
		return compromise.Incident{}, nil
	}
	for _, g := range t.Generation.Authority.Generations {
		for _, i := range compromise.About(list, g.Certificate.Key.Fingerprint()) {
			if i.Open() {
				return i, g
			}
		}
	}
	return compromise.Incident{}, nil
}

// stillMeant looks again, inside the act, at what the plan took for granted: no incident was
// opened meanwhile whose replacements this would take down.
func (p Plan) stillMeant(tx store.Tx) error {
	if p.Findings.Has(finding.SuspectedGeneration) {
		return nil // it was waived on the sheet
	}
	list, err := compromise.Incidents(tx.Context(), tx)
	if err != nil {
		return err
	}
	for _, t := range p.Targets {
		if i, g := t.beside(list); g != nil {
			return fault.New(fault.Changed, "the incident %s about %s was opened meanwhile, and %s has another key: "+
				"look at the sheet again", i.Name, g.Name(), t.Generation.Name())
		}
	}
	return nil
}

// judgeKey tells what else has the key of a target: where the key is known to someone, that
// is bad too.
func (p *Plan) judgeKey(ctx context.Context, e *estate.Estate, t Target) error {
	if p.Ask.Reason != revocation.KeyCompromise && p.Ask.Reason != revocation.CACompromise {
		return nil
	}
	list, err := e.ReadCertificates(e.Records.CertificatesByKey(ctx, t.Key.Fingerprint(), store.NoLimit))
	if err != nil {
		return err
	}
	var more []string
	for _, c := range list {
		if len(more) == mostSameKey {
			more = append(more, "and others")
			break
		}
		among := slices.ContainsFunc(p.Targets, func(o Target) bool { return bytes.Equal(o.Raw, c.Raw) })
		if !among && c.State != lifecycle.Expired && c.State != lifecycle.Revoked {
			more = append(more, fmt.Sprintf("%s (%s)", c.Title(), c.Serial.Short()))
		}
	}
	if len(more) > 0 {
		p.Findings = append(p.Findings, finding.New(finding.SameKeyStands,
			"The key of %s is in other certificates that still hold: %s.", t.Title(), strings.Join(more, ", ")))
	}
	return nil
}
