package authorities

import (
	"context"
	"fmt"
	"time"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/san"
	"ironseal/pki/span"
)

// CrossAct is what the journal calls a cross-certificate.
const CrossAct = "cross-certify"

// CrossAsk is what a person asks for when one authority is to vouch for another's key.
type CrossAsk struct {
	By, To          string // handles; To may be an authority whose key is elsewhere
	Lifetime        span.Span
	LevelsBelow     *int
	Permit, Exclude []san.Constraint
	Waivers         []finding.Waiver
}

// Crossing is a cross-certificate that was planned.
type Crossing struct {
	Ask    CrossAsk
	By, To *hierarchy.Generation
	Plan   issue.Plan
	Head   journal.Head
}

// PlanCross plans a cross-certificate (RFC 5280 section 3.2): one authority certifies the name and key of another
// of a different name, so that clients that trust the first accept what the second signs.
func PlanCross(ctx context.Context, e *estate.Estate, ask CrossAsk) (Crossing, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (Crossing, error) { return planCross(ctx, e, ask) })
}

func planCross(ctx context.Context, e *estate.Estate, ask CrossAsk) (Crossing, error) {
	out := Crossing{Ask: ask}
	var newest time.Time
	var err error
	if out.Head, newest, err = e.Newest(ctx); err != nil {
		return out, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return out, err
	}
	if out.By, err = estate.FindGeneration(h, ask.By); err != nil {
		return out, err
	}
	if out.To, err = estate.FindGeneration(h, ask.To); err != nil {
		return out, err
	}
	if err := out.sound(ctx, e.Records); err != nil {
		return out, err
	}
	to := out.To.Certificate
	in := issue.Input{Handle: out.To.Authority.Handle, Others: h, Issuer: out.By, Now: e.Now(), Newest: newest,
		BeginsBefore: e.Settings.BeginsBefore(), Subject: to.Subject, SameKey: &to.Key,
		KeyKind: to.Key.Kind, KeyID: to.SubjectKey,
		Amend: issue.Amendments{Lifetime: ask.Lifetime, PathLength: ask.LevelsBelow,
			Permit: ext.Constraints{Permitted: ask.Permit, Excluded: ask.Exclude}}}
	if n := to.Basic.PathLength; ask.LevelsBelow == nil && n >= 0 { // as many as its own certificate allows
		in.Amend.PathLength = &n
	} else if ask.LevelsBelow == nil {
		in.Amend.Unlimited = true
	}
	if in.Template, err = e.Template("intermediate-authority"); err != nil {
		return out, err
	}
	if in.Published, in.Part, err = Published(ctx, e, in.Issuer); err != nil {
		return out, err
	}
	if left := span.Days(max(1, int(to.NotAfter.Sub(e.Now()).Hours()/24))); ask.Lifetime.IsZero() &&
		in.Template.Lifetime.Longer(left, e.Now()) {
		in.Amend.Lifetime = left // it is of no use beyond the end of what it vouches for
	}
	if out.Plan, err = issue.New(in); err != nil {
		return out, err
	}
	if len(ask.Permit) == 0 {
		out.Plan.Findings = append(out.Plan.Findings, finding.New(finding.CrossWithoutLimits,
			"%s could certify every name for those who trust %s.", out.To.Authority.Handle, out.By.Label())).Ranked()
	}
	out.Plan.Findings, err = out.Plan.Findings.Waive(0, ask.Waivers)
	return out, err
}

// sound refuses what is no cross-certificate, or would vouch for a key that someone else may have.
func (c Crossing) sound(ctx context.Context, from store.DerivedReader) error {
	by, to := c.By, c.To
	switch {
	case by.Authority == to.Authority || by.Certificate.Subject.Equal(to.Certificate.Subject):
		return fault.New(fault.Refused, "%s and %s have one name", by.Label(),
			to.Label()).On(fault.Authority.Named("%s", by.Name())).
			Then(advice.To("link certificates between generations are made at a renewal", advice.RenewAuthority,
				"authority", by.Authority.Handle))
	case key.Same(by.Certificate.Key, to.Certificate.Key):
		return fmt.Errorf("%s and %s have one key", by.Label(), to.Label())
	case to.RevokedAbove() != nil || to.Stopped != "":
		return fault.New(fault.Changed, "%s is %s: no authority may vouch for it", to.Label(), to.Mark())
	}
	list, err := compromise.Incidents(ctx, from)
	for _, i := range compromise.About(list, to.Certificate.Key.Fingerprint()) {
		return fault.New(fault.Changed, "%s is not vouched for: %s", to.Label(), i.Since())
	}
	return err
}

// Cross signs a cross-certificate that a person agreed to.
func Cross(ctx context.Context, e *estate.Estate, c Crossing) (*cert.Certificate, journal.Head, error) {
	if r := c.Plan.Findings.Refusing(); len(r) > 0 {
		return nil, journal.Head{}, &issue.Refused{About: "cross-certificate for " + c.Ask.To, Findings: r}
	}
	opened, err := e.Keys.Open(ctx, c.By.Certificate.Key, c.By.Authority.Handle, keystore.ForCertificate)
	if err != nil {
		return nil, journal.Head{}, err
	}
	defer opened.Close()
	draft := c.Plan.Draft
	draft.SPKI = c.To.Certificate.Key.SPKI
	made, err := Drafted(e, draft, opened)
	if err != nil {
		return nil, journal.Head{}, fmt.Errorf("cross-certificate for %s: %w", c.Ask.To, err)
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) { return c.record(ctx, e, tx, made) })
	if err != nil {
		return nil, journal.Head{}, fmt.Errorf("cross-certificate for %s: %w", c.Ask.To, err)
	}
	return made, head, nil
}

func (c Crossing) record(ctx context.Context, e *estate.Estate, tx store.Tx,
	made *cert.Certificate) ([]event.Record,
	error) {
	h, err := tx.Hierarchy()
	if err != nil {
		return nil, err
	}
	now := Crossing{By: h.Generation(c.By.Name()), To: h.Generation(c.To.Name())}
	if now.By == nil || now.To == nil {
		return nil, fault.New(fault.Changed, "the authorities were changed meanwhile: look at the sheet again")
	}
	if err := now.sound(ctx, tx); err != nil {
		return nil, err
	}
	if err := CheckCurrent(tx, now.By); err != nil {
		return nil, err
	}
	by, err := tx.GenerationID(c.By) // one that signs still
	if err != nil {
		return nil, err
	}
	to, err := tx.AnyGenerationID(c.To)
	if err != nil {
		return nil, err
	}
	id, err := tx.AddCertificate(store.NewCertificate{Certificate: made, Issuer: by, Sheet: c.Plan.Digest(),
		Part: c.Plan.Part, Waived: estate.Waived(c.Plan.Findings)})
	if err != nil {
		return nil, err
	}
	return []event.Record{event.On(c.To.Authority.Handle, event.CrossCertified{By: c.By.Name(), To: c.To.Name(),
			Links: estate.Hashes([]*cert.Certificate{made}), Serial: made.SerialHex(), Until: made.NotAfter.
				Format(time.RFC3339),
			Sheet: fmt.Sprintf("%x", c.Plan.Digest()), Waived: estate.WaivedCodes(c.Plan.Findings)})}, tx.AddLink(id,
			by, to)
}
