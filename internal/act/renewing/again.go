// Package renewing knows what ends and signs it again: certificates one by one,
// all that are due, or all below an authority that changes over to its next
// generation. The forecast says when an authority must be renewed itself.
package renewing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/internal/act/signing"
	"ironseal/internal/estate"
	"ironseal/internal/records"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/request"
	"ironseal/pki/san"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// AgainAsk is what a person asks for when renewing a certificate.
type AgainAsk struct {
	Certificate string // as typed
	Request     string // a new request, "R9"; "" for the same as before
	Template    string // "" for the same as before, as it is today
	By          string
	Lifetime    span.Span
	Waivers     []finding.Waiver
}

// PlanAgain plans a certificate in the place of another: the same names, by the
// template as it is today, for the same request or a new one.
func PlanAgain(ctx context.Context, e *estate.Estate, ask AgainAsk) (*signing.Sheet, error) {
	return estate.AtOneMoment(ctx, e, func(e *estate.Estate) (*signing.Sheet, error) {
		return planRenewalOf(ctx, e,
			ask)
	})
}

func planRenewalOf(ctx context.Context, e *estate.Estate, ask AgainAsk) (*signing.Sheet, error) {
	old, err := oneToRenew(ctx, e, ask.Certificate)
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
// still serve, they are listed.
func oneToRenew(ctx context.Context, e *estate.Estate, name string) (estate.Held, error) {
	list, err := e.HeldAll(e.Records.CertificatesByName(ctx, strings.TrimPrefix(strings.TrimSpace(name), "dns:")))
	if err != nil {
		return estate.Held{}, err
	}
	var serving []estate.Held
	for _, c := range list {
		if c.State == estate.Valid || c.State == estate.Expiring {
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
		return estate.Held{},
			fmt.Errorf("certificate %q: %d that still serve have this name: say which by its serial: %s",
				name, len(serving), strings.Join(which, ", "))
	}
	c, _, err := e.FindCertificate(ctx, name)
	switch {
	case err != nil:
		return c, err
	case c.State == estate.Replaced:
		return c, fmt.Errorf("%s, serial %s, was replaced already", c.Title(), c.Serial.Short())
	case c.State == estate.Revoked:
		return c, fmt.Errorf("%s, serial %s, is revoked: ask its holder for a new request, and sign that", c.Title(),
			c.Serial.Short())
	case c.State == estate.Staged:
		return c, fmt.Errorf("%s, serial %s, waits for its switch day", c.Title(), c.Serial.Short())
	}
	return c, nil
}

func planAgain(ctx context.Context, e *estate.Estate, p *signing.Planning, old estate.Held,
	ask AgainAsk) (*signing.Sheet, error) {
	if old.IsAuthority() {
		return nil, fmt.Errorf("%s is an authority: renew it with: ironseal authority renew", old.Title())
	}
	sign := signing.SignAsk{Request: ask.Request, Template: ask.Template, By: ask.By, Waivers: ask.Waivers,
		Amend: issue.Amendments{Lifetime: ask.Lifetime}}
	if sign.Request == "" {
		if old.Record.Request == 0 {
			return nil, fmt.Errorf("%s came from no request on record: ask its holder for a new one, and give it "+
				"with --request", old.Title())
		}
		sign.Request = fmt.Sprintf("R%d", old.Record.Request)
	}
	if sign.Template == "" {
		if sign.Template = old.Record.Template; sign.Template == "" {
			return nil, fmt.Errorf("%s was signed by no template of ours: choose one with --template", old.Title())
		}
	}
	rec, r, err := e.Request(ctx, sign.Request)
	if err != nil {
		return nil, err
	}
	again := rec.State == records.Signed
	if rec.State != records.Waiting && !again {
		return nil, fmt.Errorf("R%d is %s", rec.Number, rec.State)
	}
	if sign.By == "" && old.Record.Issuer != "" {
		if g := p.Authorities.Generation(old.Record.Issuer); g != nil && g.Authority.Signs() {
			sign.By = g.Authority.Handle
		}
	}
	if err := p.Learn(ctx, e, sign); err != nil {
		return nil, err
	}
	sign.Amend.Add, sign.Amend.Drop = nameChanges(r, old, p.Templates[sign.Template])
	if !r.Subject.Equal(old.Subject) && again {
		subject := old.Subject
		sign.Amend.Subject = &subject
	}
	s, err := signing.PlanRead(e, p, sign, rec, r, nil)
	if err != nil {
		return nil, err
	}
	s.Replaces, s.Again = old.Record.ID, again
	if until := s.Plan.Draft.NotAfter; until.Before(old.NotAfter) {
		s.Plan.Findings = append(s.Plan.Findings,
			finding.New(finding.EndsEarlier, "It would end on %s; the one in whose place it is ends on %s.",
				until.Format("2006-01-02"), old.NotAfter.Format("2006-01-02"))).Ranked()
	}
	return s, tellAgain(ctx, e, s, old)
}

// nameChanges are the names to add to those of the request, and to drop, so that
// the result has the names of the certificate before. The common name that the
// template adds by itself is left to it.
func nameChanges(r *request.Request, old estate.Held, t template.Template) (add, drop []san.Name) {
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
func tellAgain(ctx context.Context, e *estate.Estate, s *signing.Sheet, old estate.Held) error {
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
	return estate.AtOneMoment(ctx, e, func(e *estate.Estate) ([]signing.Planned, error) {
		return planDue(ctx, e,
			within, waivers)
	})
}

func planDue(ctx context.Context, e *estate.Estate, within span.Span, waivers []finding.Waiver) ([]signing.Planned,
	error) {
	now := e.Now()
	list, err := e.HeldAll(e.Records.Ending(ctx, now.AddDate(0, 0, -30), within.After(now), -1))
	if err != nil {
		return nil, err
	}
	return planAll(ctx, e, list, AgainAsk{Waivers: waivers}, nil)
}

// planAll plans a certificate in the place of each of a list, leaving out
// authorities and what was replaced. by is the generation that signs; nil for
// each one's own authority.
func planAll(ctx context.Context, e *estate.Estate, list []estate.Held, ask AgainAsk,
	by *hierarchy.Generation) ([]signing.Planned, error) {
	p, err := signing.NewPlanning(ctx, e)
	if err != nil {
		return nil, err
	}
	var out []signing.Planned
	for _, c := range list {
		if c.IsAuthority() || c.OneUse() || c.State == estate.Replaced || c.State == estate.Staged ||
			c.State == estate.Revoked {
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

// Change is how the change-over of one authority stands.
type Change struct {
	Handle   string    `json:"authority"`
	Old      string    `json:"old"`
	New      string    `json:"new"`
	Day      time.Time `json:"switch_day"`
	OldEnds  time.Time `json:"old_ends"`
	Prepared []string  `json:"prepared"` // certificates that wait for the day
	Missing  []string  `json:"missing"`  // certificates that serve and have none prepared
}

// ChangeOf tells how the change-over of an authority stands.
func ChangeOf(ctx context.Context, e *estate.Estate, handle string) (Change, error) {
	g, old, err := changing(ctx, e, handle)
	if err != nil {
		return Change{}, err
	}
	out := Change{Handle: handle, Old: old.Name(), New: g.Name(), Day: g.Staged, OldEnds: old.Certificate.NotAfter,
		Prepared: []string{}, Missing: []string{}}
	waiting, err := e.HeldAll(e.Records.CertificatesOf(ctx, handle, g.Number))
	if err != nil {
		return out, err
	}
	for _, c := range waiting {
		out.Prepared = append(out.Prepared, c.Title())
	}
	missing, err := unprepared(ctx, e, g)
	for _, c := range missing {
		out.Missing = append(out.Missing, c.Title())
	}
	return out, err
}

// unprepared lists the certificates that serve and have none prepared in their
// place.
func unprepared(ctx context.Context, e *estate.Estate, prepared *hierarchy.Generation) ([]estate.Held, error) {
	waiting, err := e.Records.CertificatesOf(ctx, prepared.Authority.Handle, prepared.Number)
	if err != nil {
		return nil, err
	}
	ready := map[int64]bool{}
	for _, c := range waiting {
		ready[c.Replaces] = true
	}
	serving, err := servingBefore(ctx, e, prepared)
	return slices.DeleteFunc(serving, func(c estate.Held) bool { return ready[c.Record.ID] }), err
}

func changing(ctx context.Context, e *estate.Estate, handle string) (prepared, current *hierarchy.Generation,
	err error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, nil, err
	}
	g, err := estate.FindGeneration(h, handle)
	if err != nil {
		return nil, nil, err
	}
	if prepared = g.Authority.Prepared(); prepared == nil {
		return nil, nil, fmt.Errorf("authority %s: nothing is prepared: renew it, or apply elsewhere, with "+
			"--switch-day DAY", handle)
	}
	return prepared, g.Authority.Current(), nil
}

// servingBefore lists the certificates of end entities that the generations
// before one signed and that still serve.
func servingBefore(ctx context.Context, e *estate.Estate, prepared *hierarchy.Generation) ([]estate.Held, error) {
	var out []estate.Held
	for _, g := range prepared.Authority.Generations {
		if g == prepared {
			break
		}
		list, err := e.HeldAll(e.Records.CertificatesOf(ctx, g.Authority.Handle, g.Number))
		if err != nil {
			return nil, err
		}
		for _, c := range list {
			if !c.IsAuthority() && !c.OneUse() && (c.State == estate.Valid || c.State == estate.Expiring) {
				out = append(out, c)
			}
		}
	}
	return out, nil
}

// PlanChange plans a certificate under the prepared generation for every holder
// of one under the current. They wait, unused, for the switch day.
func PlanChange(ctx context.Context, e *estate.Estate, handle string, waivers []finding.Waiver) ([]signing.Planned,
	error) {
	return estate.AtOneMoment(ctx, e, func(e *estate.Estate) ([]signing.Planned, error) {
		return planChange(ctx, e,
			handle, waivers)
	})
}

func planChange(ctx context.Context, e *estate.Estate, handle string, waivers []finding.Waiver) ([]signing.Planned,
	error) {
	g, _, err := changing(ctx, e, handle)
	if err != nil {
		return nil, err
	}
	todo, err := unprepared(ctx, e, g)
	if err != nil {
		return nil, err
	}
	return planAll(ctx, e, todo, AgainAsk{Waivers: waivers}, g)
}

// Switch lets the prepared generation, and what it signed, serve from now on.
// Before the switch day it needs early.
func Switch(ctx context.Context, e *estate.Estate, handle string, early bool) (*hierarchy.Generation, journal.Head,
	error) {
	g, old, err := changing(ctx, e, handle)
	if err != nil {
		return nil, journal.Head{}, err
	}
	if e.Now().Before(g.Staged) && !early {
		return nil, journal.Head{},
			fmt.Errorf("authority %s: the switch day is %s: wait for it, or switch with --early",
				handle, g.Staged.Format("2006-01-02"))
	}
	head, err := e.Act(ctx, func(tx *records.Tx) ([]journal.Entry, error) {
		return []journal.Entry{estate.Entry("switch", handle, "from", old.Name(), "to", g.Name())}, tx.Unstage(g)
	})
	return g, head, err
}

// SwitchBack puts the newest generation behind a switch day again, so that the
// one before it signs.
func SwitchBack(ctx context.Context, e *estate.Estate, handle string, day time.Time) (*hierarchy.Generation,
	journal.Head,
	error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, journal.Head{}, err
	}
	g, err := estate.FindGeneration(h, handle)
	if err != nil {
		return nil, journal.Head{}, err
	}
	list := g.Authority.Generations
	switch {
	case g.Authority.Prepared() != nil:
		return nil, journal.Head{}, fmt.Errorf("authority %s: it has not switched yet", handle)
	case len(list) < 2:
		return nil, journal.Head{}, fmt.Errorf("authority %s: there is no earlier generation to go back to", handle)
	}
	old := list[len(list)-2]
	switch {
	case !old.Certificate.NotAfter.After(e.Now()):
		return nil, journal.Head{}, fmt.Errorf("authority %s: %s expired on %s: there is no way back", handle,
			old.Label(),
			old.Certificate.NotAfter.Format("2006-01-02"))
	case !day.After(e.Now()):
		return nil, journal.Head{}, errors.New("give the new switch day, which must not have passed: --switch-day DAY")
	case !day.Before(old.Certificate.NotAfter):
		return nil, journal.Head{}, fmt.Errorf("switch day %s: %s ends before it, on %s", day.Format("2006-01-02"),
			old.Label(), old.Certificate.NotAfter.Format("2006-01-02"))
	}
	head, err := e.Act(ctx, func(tx *records.Tx) ([]journal.Entry, error) {
		return []journal.Entry{estate.Entry("switch back", handle, "from", g.Name(), "to", old.Name(), "until",
				estate.DayOf(day))},
			tx.Stage(g, day)
	})
	return old, head, err
}
