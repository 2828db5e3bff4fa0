package enrol

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
	"ironseal/pki/template"
)

// judgement is whether a request is signed without a person: it has a sheet, or the reasons why a person decides.
type judgement struct {
	sheet *signing.Sheet
	why   []string
	limit int  // how many are signed in a day
	later bool // it is judged again: its authority grants nothing at the moment, and nothing else is in the way
}

// judge plans a request, and says why a person decides. An error is of the records; a request that cannot be planned is
// left to a person.
func (ask Ask) judge(ctx context.Context, e *estate.Estate, t template.Template, m machine, rec store.Request,
	r *request.Request) (judgement, error) {
	u := t.Unattended
	j := judgement{limit: u.PerDay}
	if !u.Allows(ask.By) {
		j.why = []string{fmt.Sprintf("The template %s lets a person decide.", t.Name)}
		return j, nil
	}
	sign := signing.SignAsk{Template: ask.Label, By: u.Authority, Amend: issue.Amendments{Lifetime: u.Lifetime}}
	old := m.replaces(ask, r)
	var err error
	if old != nil {
		j.sheet, err = renewals.PlanUnrecorded(ctx, e, *old, sign, rec, r)
	} else {
		j.sheet, err = signing.PlanUnrecorded(ctx, e, sign, rec, r)
	}
	switch kind := fault.KindOf(err); {
	case kind == fault.Busy || kind == fault.Unavailable || ctx.Err() != nil:
		return j, errors.Join(err, ctx.Err())
	case err != nil:
		j.why = []string{err.Error()}
		return j, nil
	}
	if j.sheet.Issuer.Stopped != "" { // in an incident, machines get theirs by themselves once it has a successor
		p := j.sheet.Plan
		p.Findings = slices.DeleteFunc(slices.Clone(p.Findings), func(f finding.Finding) bool {
			return f.Code == finding.Stopped
		})
		if j.later = len(p.NeedsPerson(ask.By, ask.Again || ask.Account != nil)) == 0; j.later {
			j.why = []string{j.sheet.Issuer.Stopped}
			return j, nil
		}
	}
	j.why = j.sheet.Plan.NeedsPerson(ask.By, ask.Again || ask.Account != nil)
	subjects, err := e.Records.KeySeenAs(ctx, r.Key.Fingerprint())
	if err != nil {
		return j, err
	}
	for _, s := range subjects {
		if s != r.Subject.String() {
			j.why = append(j.why, fmt.Sprintf("The key is in a certificate for %s.", s))
		}
	}
	if len(j.why) == 0 && (ask.Unlocked == nil || !ask.Unlocked(u.Authority)) {
		j.why = []string{"The server may not open the key of " + u.Authority + "."}
	}
	return j, nil
}

// record grants the signature, or says why a person decides: it adds that reason where as many were signed today as may
// be. What was granted before stays granted.
func (j *judgement) record(ctx context.Context, tx store.Tx, label string, number string) ([]event.Record, error) {
	switch {
	case j.later:
		return nil, nil
	case len(j.why) > 0:
		return []event.Record{event.On(number, event.PersonDecides{Why: j.why})}, nil
	}
	if _, granted, err := tx.DerivedOf(ctx, event.Granted, number); err != nil || granted {
		return nil, err
	}
	day := tx.Now().UTC().Format("2006-01-02")
	en, found, err := tx.DerivedOf(ctx, event.Grants, event.GrantName(label, day))
	if err != nil {
		return nil, err
	}
	before := 0
	if found {
		g, err := event.As[event.SigningGranted](en)
		if err != nil {
			return nil, err
		}
		before = g.Nth
	}
	if before >= j.limit {
		j.why = []string{fmt.Sprintf("%d were signed today without a person.", j.limit)}
		return []event.Record{event.On(number, event.PersonDecides{Why: j.why})}, nil
	}
	return []event.Record{event.On(number, event.SigningGranted{Template: label, Day: day, Nth: before + 1,
		Sheet: codeOfSheet(j.sheet)})}, nil
}

func codeOfSheet(s *signing.Sheet) string {
	sum := s.Plan.Digest()
	return label.Code(sum)
}

// sign signs what was granted. Where another program was quicker, its certificate is the outcome.
func sign(ctx context.Context, e *estate.Estate, sheet *signing.Sheet, out *Outcome) error {
	var failed error
	err := signing.Sign(ctx, e, []*signing.Sheet{sheet}, func(r signing.SignResult) { failed = r.Err })
	err = errors.Join(err, failed)
	if err != nil && !errors.Is(err, fault.Changed) {
		return err
	}
	rec, _, readErr := e.Request(ctx, out.Number)
	if readErr != nil || rec.State != lifecycle.Signed {
		return errors.Join(err, readErr)
	}
	c, _, err := e.FindCertificate(ctx, out.Number)
	if err != nil {
		return err
	}
	out.State, out.Certificate = lifecycle.Signed, &c
	return nil
}

// goOn continues with a request that no one decided: a server was stopped between taking it and signing it.
func goOn(ctx context.Context, e *estate.Estate, label string, unlocked func(string) bool, rec store.Request,
	r *request.Request, out *Outcome) error {
	en, _, err := e.Records.DerivedOf(ctx, event.Enrolments, out.Number)
	if err != nil {
		return err
	}
	told, err := event.As[event.Enrolled](en)
	if err != nil {
		return err
	}
	ask := Ask{By: told.By, Label: label, Unlocked: unlocked, Again: told.Renews != "" && told.Account == ""}
	var m machine
	if told.Account != "" {
		ask.Account = &Account{ID: told.Account, Order: told.Order}
	}
	if told.Renews != "" {
		c, _, err := e.FindCertificate(ctx, told.Renews)
		if err != nil {
			return err
		}
		if m.record = &c; !Standing(ctx, e, c) {
			m.record = nil
		}
	}
	t, err := e.Template(label)
	if err != nil {
		return err
	}
	j, err := ask.judge(ctx, e, t, m, rec, r)
	if err != nil {
		return err
	}
	if ask.Again && m.record == nil {
		j.later, j.why = false, append(j.why, "The certificate that is renewed holds no more.")
	}
	if _, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		if err := tx.CheckWaiting(rec.Number); err != nil {
			return nil, err
		}
		return j.record(ctx, tx, label, out.Number)
	}); err != nil && !errors.Is(err, fault.Changed) {
		return err
	}
	if out.Waits = j.why; len(j.why) > 0 {
		return nil
	}
	return sign(ctx, e, j.sheet, out)
}
