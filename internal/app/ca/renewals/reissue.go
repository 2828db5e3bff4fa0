// Package renewals knows what ends and signs it again: certificates one by one,
// all that are due, or all below an authority that changes over to its next
// generation. The forecast says when an authority must be renewed itself.
package renewals

import (
	"context"
	"fmt"
	"strings"

	"ironseal/internal/app/requests/signing"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
	"ironseal/pki/san"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// ReissueAsk is what a person asks for when renewing a certificate.
type ReissueAsk struct {
	Certificate string // as typed
	Request     string // a new request, "R9"; "" for the same as before
	Template    string // "" for the same as before, as it is today
	By          string
	Lifetime    span.Span
	Waivers     []finding.Waiver
}

// PlanReissue plans a certificate in place of another: the same names, by the
// template as it is today, for the same request or a new one.
func PlanReissue(ctx context.Context, e *estate.Estate, ask ReissueAsk) (*signing.Sheet, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (*signing.Sheet, error) {
		return planRenewalOf(ctx, e,
			ask)
	})
}

func planRenewalOf(ctx context.Context, e *estate.Estate, ask ReissueAsk) (*signing.Sheet, error) {
	old, err := oneToRenew(ctx, e, ask.Certificate, ask.Request != "")
	if err != nil {
		return nil, err
	}
	p, err := signing.NewPlanning(ctx, e)
	if err != nil {
		return nil, err
	}
	return planAgain(ctx, e, p, old, ask)
}

// oneToRenew finds the certificate that is meant; where a name fits several that
// still serve, they are listed. What was revoked is renewed for a fresh request only.
func oneToRenew(ctx context.Context, e *estate.Estate, name string, fresh bool) (estate.CertificateRecord, error) {
	list, err := e.ReadCertificates(e.Records.CertificatesByName(ctx, strings.TrimPrefix(strings.TrimSpace(name),
		"dns:")))
	if err != nil {
		return estate.CertificateRecord{}, err
	}
	var serving []estate.CertificateRecord
	for _, c := range list {
		if c.State == lifecycle.Valid || c.State == lifecycle.Expiring {
			serving = append(serving, c)
		}
	}
	if len(serving) == 1 {
		return serving[0], nil
	}
	if len(serving) > 1 {
		var which []string
		for _, c := range serving {
			which = append(which, fmt.Sprintf("%s (until %s)", c.Serial.Short(), c.NotAfter.Format("2006-01-02")))
		}
		return estate.CertificateRecord{},
			fmt.Errorf("certificate %q: %d that still serve have this name: say which by its serial: %s",
				name, len(serving), strings.Join(which, ", "))
	}
	c, _, err := e.FindCertificate(ctx, name)
	switch {
	case err != nil:
		return c, err
	case c.State == lifecycle.Replaced || c.State == lifecycle.Revoked && c.Record.Replaced:
		return c, fmt.Errorf("%s, serial %s, was replaced already", c.Title(), c.Serial.Short())
	case c.State == lifecycle.Revoked && !fresh:
		return c, fault.New(fault.Refused, "%s, serial %s, is revoked", c.Title(), c.Serial.Short()).
			On(fault.Certificate.Named("%s", c.SerialHex())).
			Then(advice.To("ask its holder for a new request, and sign that", advice.RenewCertificate,
				"certificate", c.Serial.Short(), "request", advice.Asked))
	case c.State == lifecycle.OnHold:
		return c, fmt.Errorf("%s, serial %s, is on hold: take it off hold first, or revoke it for good", c.Title(),
			c.Serial.Short())
	case c.State == lifecycle.Prepared:
		return c, fmt.Errorf("%s, serial %s, waits for its switch day", c.Title(), c.Serial.Short())
	}
	return c, nil
}

func planAgain(ctx context.Context, e *estate.Estate, p *signing.Planning, old estate.CertificateRecord,
	ask ReissueAsk) (*signing.Sheet, error) {
	if old.IsAuthority() {
		return nil, fault.New(fault.Refused, "%s is an authority", old.Title()).On(fault.Certificate.Named("%s",
			old.SerialHex())).
			Then(advice.To("renew it", advice.RenewAuthority))
	}
	sign := signing.SignAsk{Request: ask.Request, Template: ask.Template, By: ask.By, Waivers: ask.Waivers,
		Amend: issue.Amendments{Lifetime: ask.Lifetime}}
	if sign.Request == "" {
		if old.Record.Request == 0 {
			return nil, fault.New(fault.NotFound, "%s came from no request on record", old.Title()).
				Then(advice.To("ask its holder for a new one, and give it", advice.GiveRequest))
		}
		sign.Request = fmt.Sprintf("R%d", old.Record.Request)
	}
	if sign.Template == "" {
		if sign.Template = old.Record.Template; sign.Template == "" {
			return nil, fault.New(fault.BadInput, "%s was signed by no template of ours", old.Title()).
				Then(advice.To("choose one", advice.UseTemplate))
		}
	}
	rec, r, err := e.Request(ctx, sign.Request)
	if err != nil {
		return nil, err
	}
	again := rec.State == lifecycle.Signed
	if rec.State != lifecycle.Waiting && !again {
		return nil, fmt.Errorf("R%d is %s", rec.Number, rec.State)
	}
	if sign.By == "" && old.Record.Issuer != "" {
		if g := p.Authorities.Generation(old.Record.Issuer); g != nil && g.Authority.Signs() {
			sign.By = g.Authority.Handle
		}
	}
	return inPlaceOf(ctx, e, p, old, sign, rec, r, again)
}

// PlanUnrecorded plans a certificate in place of another for a request that is not on record yet: rec says what will be
// recorded of it.
func PlanUnrecorded(ctx context.Context, e *estate.Estate, old estate.CertificateRecord, sign signing.SignAsk,
	rec store.Request, r *request.Request) (*signing.Sheet, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (*signing.Sheet, error) {
		p, err := signing.NewPlanning(ctx, e)
		if err != nil {
			return nil, err
		}
		return inPlaceOf(ctx, e, p, old, sign, rec, r, false)
	})
}

// inPlaceOf plans a certificate in place of another; again says that it is for the same request.
func inPlaceOf(ctx context.Context, e *estate.Estate, p *signing.Planning, old estate.CertificateRecord,
	sign signing.SignAsk, rec store.Request, r *request.Request, again bool) (*signing.Sheet, error) {
	if err := p.Learn(ctx, e, sign); err != nil {
		return nil, err
	}
	sign.Amend.Add, sign.Amend.Drop = nameChanges(r, old, *p.Templates[sign.Template])
	if !r.Subject.Equal(old.Subject) && again {
		subject := old.Subject
		sign.Amend.Subject = &subject
	}
	s, err := signing.PlanRead(ctx, e, p, sign, rec, r, nil, old.Record.ID)
	if err != nil {
		return nil, err
	}
	s.Replaces, s.Was, s.Again = old.Record.ID, old.State, again
	s.Plan.Replaces = old.Raw
	if until := s.Plan.Draft.NotAfter; until.Before(old.NotAfter) {
		s.Plan.Findings = append(s.Plan.Findings,
			finding.New(finding.EndsEarlier, "It would end on %s; the one in whose place it is ends on %s.",
				until.Format("2006-01-02"), old.NotAfter.Format("2006-01-02"))).Ranked()
	}
	return s, tellAgain(ctx, e, s, old)
}

// nameChanges are the names to add to those of the request, and to drop, so that
// the result has the names of the certificate before. The common name that the
// template adds on its own is left to it.
func nameChanges(r *request.Request, old estate.CertificateRecord, t template.Template) (add, drop []san.Name) {
	has := func(list []san.Name, n san.Name) bool {
		for _, x := range list {
			if x.Same(n) {
				return true
			}
		}
		return false
	}
	common, isHost := san.HostName(old.Subject.CommonName())
	for _, n := range old.Names {
		if !has(r.Names, n) && !(isHost && common.Same(n) && t.Names.CommonName) {
			add = append(add, n.Fresh())
		}
	}
	for _, n := range r.Names {
		if fresh := n.Fresh(); !has(old.Names, fresh) && n.Fault() == "" {
			drop = append(drop, n)
		}
	}
	return add, drop
}

// tellAgain adds to a sheet what differs from the certificate before, and who
// holds that.
func tellAgain(ctx context.Context, e *estate.Estate, s *signing.Sheet, old estate.CertificateRecord) error {
	row := func(field, text string) { s.Plan.Rows = append(s.Plan.Rows, issue.Row{Field: field, Signed: text}) }
	row("in place of", fmt.Sprintf("serial %s, until %s", old.Serial.Short(), old.NotAfter.Format("2006-01-02")))
	if then, today, err := e.TemplateThen(old); err == nil && then.SHA256() != today.SHA256() &&
		s.Template.Name == today.Name {
		for _, d := range template.Compare(then, today) {
			row("template now", fmt.Sprintf("%s: %s, before: %s", d.Label, d.B, d.A))
		}
	}
	holders, err := e.Records.Holders(ctx, old.Record.ID)
	if err != nil {
		return err
	}
	if len(holders) > 0 {
		row("held by", strings.Join(holders, ", "))
	}
	return nil
}

// PlanDue plans the renewal of every certificate that ends within a span.
func PlanDue(ctx context.Context, e *estate.Estate, within span.Span, waivers []finding.Waiver) ([]signing.Planned,
	error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) ([]signing.Planned, error) {
		return planDue(ctx, e,
			within, waivers)
	})
}

func planDue(ctx context.Context, e *estate.Estate, within span.Span, waivers []finding.Waiver) ([]signing.Planned,
	error) {
	now := e.Now()
	list, err := e.ReadCertificates(e.Records.Ending(ctx, now.AddDate(0, 0, -30), within.After(now), store.NoLimit))
	if err != nil {
		return nil, err
	}
	return planAll(ctx, e, list, ReissueAsk{Waivers: waivers}, nil)
}

// PlanThese plans a certificate in place of each of a list, by a generation; nil means
// each one's own authority, as it is today.
func PlanThese(ctx context.Context, e *estate.Estate, list []estate.CertificateRecord, waivers []finding.Waiver,
	by *hierarchy.Generation) ([]signing.Planned, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) ([]signing.Planned, error) {
		return planAll(ctx, e, list, ReissueAsk{Waivers: waivers}, by)
	})
}

// planAll plans a certificate in place of each of a list, leaving out
// authorities and what was replaced. by is the generation that signs; nil for
// each one's own authority.
func planAll(ctx context.Context, e *estate.Estate, list []estate.CertificateRecord, ask ReissueAsk,
	by *hierarchy.Generation) ([]signing.Planned, error) {
	p, err := signing.NewPlanning(ctx, e)
	if err != nil {
		return nil, err
	}
	var out []signing.Planned
	for _, c := range list {
		if c.IsAuthority() || c.OneUse() || c.State == lifecycle.Replaced || c.State == lifecycle.Prepared ||
			c.State == lifecycle.Revoked || c.State == lifecycle.OnHold {
			continue
		}
		one := signing.Planned{Name: fmt.Sprintf("%s, serial %s", c.Title(), c.Serial.Short())}
		if by != nil {
			ask.By = by.Name()
		}
		one.Sheet, one.Err = planAgain(ctx, e, p, c, ask)
		out = append(out, one)
	}
	return out, nil
}
