// Package authorities makes authorities, renews them and retires them.
//
// A plan is a certificate as it would be signed, with the findings of the core
// and the authorities it was planned from; Create and Renew do what a plan says.
// Between the two a person reads, and others may work: so the act looks again,
// inside its one transaction, at everything that the plan took for granted. A
// key is kept in its file before the record names it, and is never removed
// once a record may name it.
package authorities

import (
	"cmp"
	"context"
	"crypto"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/request"
	"ironseal/pki/san"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// Ask is what a person asks for when making an authority. What is left
// empty is proposed.
type Ask struct {
	Handle     string
	Under      string // the handle of the authority above; "" for a root
	Template   string
	Subject    *dn.Name
	Key        key.Kind
	KeyIn      string // where the key is held, such as "agent:SHA256:..."; "" to make one here
	Lifetime   span.Span
	PathLength *int
	Permit     []san.Constraint
	Exclude    []san.Constraint
	Waivers    []finding.Waiver
}

// Planned is an authority as it will be made.
type Planned struct {
	Ask      Ask
	Plan     issue.Plan
	Proposed *hierarchy.Proposed // the life, when it was proposed
	Head     journal.Head
	in       issue.Input
	renews   *hierarchy.Generation // the generation that is followed; nil for a new authority
	sameKey  bool
	// what is suspected of the key that is left; "" where nothing is
	suspicion string
	day       time.Time // the switch day before which it does not sign; zero for none
}

// Template is the template that it is made by.
func (p Planned) Template() template.Template { return p.in.Template }

// PlanNew plans a new authority.
func PlanNew(ctx context.Context, e *estate.Estate, ask Ask) (Planned, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (Planned, error) { return planNew(ctx, e, ask) })
}

func planNew(ctx context.Context, e *estate.Estate, ask Ask) (Planned, error) {
	out := Planned{Ask: ask}
	if err := hierarchy.ValidHandle(ask.Handle); err != nil {
		return out, err
	}
	var newest time.Time
	var err error
	if out.Head, newest, err = e.Newest(ctx); err != nil { // before the clock: others keep recording
		return out, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return out, err
	}
	if h.Find(ask.Handle) != nil {
		return out, fault.New(fault.Refused, "authority %q: there is one of this handle already", ask.Handle).
			On(fault.Authority.Named("%s", ask.Handle)).Then(advice.To("see it", advice.ShowAuthority, "authority",
			ask.Handle))
	}
	in := issue.Input{Handle: ask.Handle, Others: h, Now: e.Now(), Newest: newest,
		BeginsBefore: e.Settings.BeginsBefore(),
		Rehearse:     e.Rehearsal, KeyKind: ask.Key}
	if in.KeyKind, err = kindAsked(ctx, e, cmp.Or(ask.Key, key.Kind(e.Settings.Defaults.AuthorityKey)),
		ask); err != nil {
		return out, err
	}
	templateName := "root-authority"
	if ask.Under != "" {
		templateName = "intermediate-authority"
		if in.Issuer, err = estate.FindGeneration(h, ask.Under); err != nil {
			return out, err
		}
	}
	if ask.Template != "" {
		templateName = ask.Template
	}
	if in.Template, err = e.Template(templateName); err != nil {
		return out, err
	}
	if in.Subject, err = SubjectOf(e, ask); err != nil {
		return out, err
	}
	if in.Published, in.Part, err = Published(ctx, e, in.Issuer); err != nil {
		return out, err
	}
	in.Amend = issue.Amendments{Lifetime: ask.Lifetime, PathLength: ask.PathLength,
		Permit: ext.Constraints{Permitted: ask.Permit, Excluded: ask.Exclude}}
	in.Grants = Grants(e, ask.Handle, in.Issuer == nil)
	if ask.Lifetime.IsZero() {
		p := hierarchy.Propose(estate.LineOf(in.Issuer), in.Now, in.Template.Lifetime, in.Grants)
		out.Proposed, in.Amend.Lifetime = &p, p.Span
	}
	out.in = in
	if out.Plan, err = issue.New(in); err != nil {
		return out, err
	}
	out.Plan.Findings, err = out.Plan.Findings.Waive(0, ask.Waivers)
	return out, err
}

// Published are the addresses that the next certificate of an issuer names, and the part of
// the issuer's lists that it will be on.
func Published(ctx context.Context, e *estate.Estate, issuer *hierarchy.Generation) (template.Publish, int, error) {
	if issuer == nil {
		return template.Publish{}, 0, nil
	}
	n, err := e.Records.CountIssued(ctx, issuer.Name())
	part := e.NextPart(n)
	return e.Published(issuer, part), part, err
}

// SubjectOf is the subject that was asked for, or the one that the settings make.
func SubjectOf(e *estate.Estate, ask Ask) (dn.Name, error) {
	if ask.Subject != nil {
		if ask.Subject.IsEmpty() {
			return dn.Name{}, fault.New(fault.BadInput, "subject: an authority must have a name").Then(
				advice.To("write for example", advice.SetSubject, "subject", "CN=Tern Bay Root,O=Tern Bay Ferries"))
		}
		return *ask.Subject, nil
	}
	o := e.Settings.Organisation
	cn := strings.TrimSpace(o.Name + " " + strings.ToUpper(ask.Handle[:1]) + strings.ReplaceAll(ask.Handle[1:], "-",
		" "))
	return o.Subject(cn)
}

// Grants is the longest life that an authority will grant by today's templates,
// except to other authorities when it is an intermediate.
func Grants(e *estate.Estate, handle string, root bool) span.Span {
	list, _ := e.Templates() // a template that cannot be parsed is reported when it is used
	var longest span.Span
	now := e.Now()
	for _, t := range list {
		wanted := !t.IsAuthority() && !root || t.Makes == template.Authority && root
		if wanted && t.SignedBy(handle, root) && (longest.IsZero() || t.Lifetime.Longer(longest, now)) {
			longest = t.Lifetime
		}
	}
	return longest
}

// Create makes the key, signs and records the authority. The plan is
// computed again with the key that was made, at the same moment.
func Create(ctx context.Context, e *estate.Estate, p Planned) (*hierarchy.Generation, journal.Head, error) {
	handle := p.Ask.Handle
	fail := func(err error) (*hierarchy.Generation, journal.Head, error) { return nil, journal.Head{}, err }
	if r := p.Plan.Findings.Refusing(); len(r) > 0 {
		return fail(&issue.Refused{About: "authority " + handle, Findings: r})
	}
	if err := e.Env.Step(estate.StepPlanned); err != nil {
		return fail(err)
	}
	if p.sameKey {
		g, head, err := renewSameKey(ctx, e, p)
		if err != nil {
			return fail(err)
		}
		return g, head, e.Env.Step(estate.StepRecorded)
	}
	fresh, secret, err := NewKey(ctx, e, handle, p.in.KeyKind, p.Ask.KeyIn)
	if err != nil {
		return fail(err)
	}
	defer clear(secret)
	if err := e.Env.Step(estate.StepKeyMade); err != nil {
		return fail(err)
	}
	plan, err := planWithKey(e, p, fresh.Signer())
	if err != nil {
		return fail(err)
	}
	if err := ctx.Err(); err != nil {
		return fail(fmt.Errorf("authority %s: stopped; nothing was kept: %w", handle, err))
	}
	if err := e.Keys.Keep(fresh, secret); err != nil {
		return fail(fmt.Errorf("authority %s: %w", handle, err))
	}
	g, head, err := signAuthority(ctx, e, p, plan, fresh.Signer())
	if err != nil {
		return fail(errors.Join(err, DiscardKey(e, err, fresh)))
	}
	return g, head, e.Env.Step(estate.StepRecorded)
}

// CheckFree refuses a second authority of one subject, or with another's key: both
// were free when the sheet was made.
func CheckFree(tx store.Tx, handle string, c *cert.Certificate) error {
	h, err := tx.Hierarchy()
	if err != nil {
		return err
	}
	if a := h.SubjectTaken(c.Subject, handle); a != nil {
		return fault.New(fault.Changed,
			"authority %s: the authority %s was made meanwhile, with the same subject", handle, a.Handle).
			On(fault.Authority.Named("%s", handle)).Then(advice.To("choose another", advice.SetSubject))
	}
	if a := h.KeyTaken(c.Key); a != nil && a.Handle != handle {
		return fmt.Errorf("authority %s: its key is that of the authority %s", handle, a.Handle)
	}
	return nil
}

// CheckCurrent refuses an issuer when an authority above it was revoked meanwhile.
func CheckCurrent(tx store.Tx, g *hierarchy.Generation) error {
	h, err := tx.Hierarchy()
	if err != nil {
		return err
	}
	if now := h.Generation(g.Name()); now == nil || now.RevokedAbove() != nil {
		return fault.New(fault.Changed, "%s, or an authority above it, was revoked meanwhile", g.Label())
	}
	return nil
}

// renewSameKey signs an authority's next certificate for the key that it has.
func renewSameKey(ctx context.Context, e *estate.Estate, p Planned) (*hierarchy.Generation, journal.Head, error) {
	own, err := withOldKey(ctx, e, p, keystore.ForOwnRequest)
	if err != nil {
		return nil, journal.Head{}, fmt.Errorf("authority %s: %w", p.Ask.Handle, err)
	}
	defer own.Close()
	plan, err := planWithKey(e, p, own)
	if err != nil {
		return nil, journal.Head{}, err
	}
	return signAuthority(ctx, e, p, plan, own)
}

func planWithKey(e *estate.Estate, p Planned, own crypto.Signer) (issue.Plan, error) {
	der, err := request.Draft(p.in.Subject, nil, own, e.Env.Random)
	if err != nil {
		return issue.Plan{}, fmt.Errorf("authority %s: %w", p.Ask.Handle, err)
	}
	in := p.in
	if in.Request, err = request.Read(der); err != nil {
		return issue.Plan{}, fmt.Errorf("authority %s: %w", p.Ask.Handle, err)
	}
	plan, err := issue.New(in)
	if err != nil {
		return plan, err
	}
	if p.renews != nil { // what was found against the renewal as a whole was waived on its sheet
		for _, f := range plan.Findings.Refusing() {
			for _, w := range estate.Waived(p.Plan.Findings) {
				if f.Code == w.Code {
					plan.Findings, err = plan.Findings.Waive(0, []finding.Waiver{{Code: w.Code, Because: w.Waived}})
				}
			}
		}
		return plan, err
	}
	plan.Findings, err = plan.Findings.Waive(0, p.Ask.Waivers)
	return plan, err
}

// signAuthority signs for the key own, with the key of the authority above, or
// with own for a root; a root that changes its key is linked with the old one.
func signAuthority(ctx context.Context, e *estate.Estate, p Planned, plan issue.Plan,
	own crypto.Signer) (*hierarchy.Generation, journal.Head, error) {
	handle := p.Ask.Handle
	if err := e.CheckAgreed(p.in.Template, event.AuthorityCreated{}); err != nil {
		return nil, journal.Head{}, err
	}
	if err := e.Env.Step(estate.StepKeyKept); err != nil {
		return nil, journal.Head{}, err
	}
	signer := own
	if p.in.Issuer != nil {
		opened, err := e.Keys.Open(ctx, p.in.Issuer.Certificate.Key, p.in.Issuer.Authority.Handle,
			keystore.ForCertificate)
		if err != nil {
			return nil, journal.Head{}, fmt.Errorf("authority %s: %w", handle, err)
		}
		defer opened.Close()
		signer = opened
	}
	serial, err := issue.Serial(e.Env.Random)
	if err != nil {
		return nil, journal.Head{}, err
	}
	c, err := issue.Sign(plan, serial, signer, e.Env.Random)
	if err != nil {
		return nil, journal.Head{}, fmt.Errorf("authority %s: %w", handle, err)
	}
	links, err := linkPair(ctx, e, p, c, own)
	if err != nil {
		return nil, journal.Head{}, fmt.Errorf("authority %s: %w", handle, err)
	}
	if err := e.Env.Step(estate.StepSigned); err != nil {
		return nil, journal.Head{}, err
	}
	made := signed{p: p, plan: plan, certificate: c, links: links, number: 1}
	if p.renews != nil {
		made.number = len(p.renews.Authority.Generations) + 1
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) { return made.record(e, tx) })
	if err != nil {
		return nil, journal.Head{}, fmt.Errorf("authority %s: %w", handle, err)
	}
	g := &hierarchy.Generation{Number: made.number, Certificate: c, Issuer: p.in.Issuer,
		Authority: &hierarchy.Authority{Handle: handle}, SwitchDay: p.day}
	return g, head, nil
}

// compromised reports whether someone else has, or may have, the key that is left. The new root does
// not vouch for it then: a client that holds the new root alone would accept what a thief signs.
// Nor does that key sign anything any more, but for its own list.
func (p Planned) compromised() bool {
	g := p.renews
	return p.suspicion != "" || g.Stopped != "" || g.RevokedAbove() != nil
}

// stillRenewable refuses a renewal where the authority was retired while the sheet was on screen, or
// where its key came under suspicion and would be kept, or vouched for by link certificates.
func (m signed) stillRenewable(tx store.Tx) error {
	if m.p.renews == nil {
		return nil
	}
	h, err := tx.Hierarchy()
	if err != nil {
		return err
	}
	g := h.Generation(m.p.renews.Name())
	switch {
	case g == nil || !g.Authority.Retired.IsZero():
		return fault.New(fault.Changed, "%s was retired meanwhile", m.p.renews.Label())
	case (len(m.links) > 0 || m.p.sameKey) && g.Idle() != "":
		return fault.New(fault.Changed, "the key of %s came under suspicion meanwhile (%s): look at the sheet again",
			m.p.renews.Label(), g.Idle())
	}
	return nil
}

// linkPair makes the two link certificates of a root that is renewed with another key
// (RFC 4210 section 4.4); none for anything else.
func linkPair(ctx context.Context, e *estate.Estate, p Planned, c *cert.Certificate,
	own crypto.Signer) ([]*cert.Certificate, error) {
	if !p.linked() {
		return nil, nil
	}
	old, err := withOldKey(ctx, e, p, keystore.ForCertificate)
	if err != nil {
		return nil, err
	}
	defer old.Close()
	byOld, byNew, err := linked(e, p, c, old, own)
	if err != nil {
		return nil, err
	}
	return []*cert.Certificate{byOld, byNew}, nil
}

// linked reports whether the old key and the new one will vouch for each other.
func (p Planned) linked() bool {
	return p.renews != nil && p.renews.IsRoot() && p.in.Issuer == nil && !p.sameKey && !p.compromised()
}

// signed is an authority's certificate that is signed and not yet on record.
type signed struct {
	p           Planned
	plan        issue.Plan
	certificate *cert.Certificate
	links       []*cert.Certificate
	number      int
}

func (m signed) record(e *estate.Estate, tx store.Tx) ([]event.Record, error) {
	handle := m.p.Ask.Handle
	if err := Unchanged(e, m.p.in.Template); err != nil {
		return nil, err
	}
	if err := errors.Join(CheckKey(e, handle, m.certificate.Key), CheckFree(tx, handle, m.certificate)); err != nil {
		return nil, err
	}
	if err := m.stillRenewable(tx); err != nil {
		return nil, err
	}
	var issuer int64
	if m.p.in.Issuer != nil {
		var err error
		if issuer, err = tx.GenerationID(m.p.in.Issuer); err != nil {
			return nil, err
		}
		if err := CheckCurrent(tx, m.p.in.Issuer); err != nil {
			return nil, err
		}
	}
	id, err := tx.AddCertificate(store.NewCertificate{Certificate: m.certificate, Issuer: issuer,
		TemplateName: m.p.in.Template.Name,
		TemplateSHA:  m.p.in.Template.SHA256(), TemplateSource: m.p.in.Template.Source(), Sheet: m.plan.Digest(),
		Part: m.plan.Part, Waived: estate.Waived(m.plan.Findings)})
	if err != nil {
		return nil, err
	}
	if err := recordGeneration(e, tx, m.p, id, issuer, m.links); err != nil {
		return nil, err
	}
	sum := m.certificate.SHA256()
	made := event.Generation{Number: m.number, By: new(estate.NameOf(m.p.in.Issuer)), Template: m.p.in.Template.Name,
		Links: estate.Hashes(m.links), Suspected: m.p.suspicion, SwitchDay: estate.DayOf(m.p.day),
		Certificate: fmt.Sprintf("%x", sum), Serial: m.certificate.SerialHex(), Subject: m.certificate.Subject.String(),
		Key: fmt.Sprintf("%x", m.certificate.Key.Fingerprint()), Until: m.certificate.NotAfter.Format(time.RFC3339),
		Sheet: fmt.Sprintf("%x", m.plan.Digest()), Waived: estate.WaivedCodes(m.plan.Findings)}
	if m.p.renews != nil {
		return []event.Record{event.On(handle, event.AuthorityRenewed{Generation: made})}, nil
	}
	return []event.Record{event.On(handle, event.AuthorityCreated{Generation: made})}, nil
}

// Unchanged checks that a template is still as it was when it was planned by.
func Unchanged(e *estate.Estate, t template.Template) error {
	now, err := e.Template(t.Name)
	if err != nil {
		return err
	}
	if now.SHA256() != t.SHA256() {
		return fault.New(fault.Changed,
			"templates/%s.toml was changed while the sheet was on screen; nothing was signed: look at the sheet again",
			t.Name).On(fault.Template.Named("%s", t.Name))
	}
	return nil
}
