package authorities

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"time"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/renewal"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// RenewAsk is what a person asks for when renewing an authority. What is left
// empty is proposed.
type RenewAsk struct {
	Handle    string
	SameKey   bool
	Key       key.Kind // another kind for the new key
	KeyIn     string   // where the new key is held, such as "agent:SHA256:..."; "" to make one here
	Lifetime  span.Span
	Template  string
	Suspicion string    // what is suspected of the key
	Day       time.Time // the switch day before which it does not sign; zero to sign at once
	Under     string    // another authority above than before; "" for the same
	Waivers   []finding.Waiver
}

// RenewalPlan is a renewal as it will be made.
type RenewalPlan struct {
	Planned
	Old     *hierarchy.Generation
	SameKey bool
	Reasons []renewal.Reason
	Levels  []renewal.Level
	Links   bool // link certificates will be made
	// Unlinked says that there would be link certificates, and that none are made since the earlier
	// key may be compromised.
	Unlinked bool
	Then     []string // what must be brought where
}

// ErrExternal says that an act needs a key that is not in this estate.
var ErrExternal = errors.New("its key is not in this estate")

// PlanRenewal plans the next generation of an authority.
func PlanRenewal(ctx context.Context, e *estate.Estate, ask RenewAsk) (RenewalPlan, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (RenewalPlan, error) { return planRenewal(ctx, e, ask) })
}

func planRenewal(ctx context.Context, e *estate.Estate, ask RenewAsk) (RenewalPlan, error) {
	out := RenewalPlan{SameKey: ask.SameKey}
	var newest time.Time
	var err error
	if out.Head, newest, err = e.Newest(ctx); err != nil { // before the clock: others keep recording
		return out, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return out, err
	}
	a := h.Find(ask.Handle)
	if a == nil {
		_, err := estate.FindGeneration(h, ask.Handle)
		return out, err
	}
	if out.Old, err = renewable(e, h, a, ask); err != nil {
		return out, err
	}
	in, err := renewalInput(ctx, e, h, a, out.Old, ask)
	if err != nil {
		return out, err
	}
	out.Ask = Ask{Handle: ask.Handle, Key: in.KeyKind, KeyIn: ask.KeyIn, Waivers: ask.Waivers}
	if in.Issuer != nil {
		out.Ask.Under = in.Issuer.Authority.Handle
	}
	if ask.Lifetime.IsZero() {
		usual := renewal.UsualLife(out.Old.Authority)
		p := hierarchy.Proposed{Span: usual, Why: "as long as before"}
		if end := hierarchy.Life(estate.LineOf(in.Issuer), in.Now, 0, usual); end.CutBy != nil {
			p = hierarchy.Propose(estate.LineOf(in.Issuer), in.Now, usual, in.Grants)
		}
		out.Proposed, in.Amend.Lifetime = &p, p.Span
	}
	in.Newest = newest
	out.in, out.renews, out.sameKey, out.day = in, out.Old, ask.SameKey, ask.Day
	if out.Plan, err = issue.New(in); err != nil {
		return out, err
	}
	out.suspicion = ask.Suspicion
	root := out.Old.IsRoot() && in.Issuer == nil && !ask.SameKey
	out.Links = out.linked()
	out.Unlinked = root && out.compromised()
	if out.Plan.Findings, err = append(out.Plan.Findings, out.renewalFindings(h)...).Ranked().Waive(0,
		ask.Waivers); err != nil {
		return out, err
	}
	templates, _ := e.Templates()
	until := out.Plan.Draft.NotAfter
	out.Levels = renewal.Levels(h, templates, out.Old, until, in.Now, ask.SameKey)
	out.Then = afterRenewal(h, out)
	out.Reasons, err = reasons(ctx, e, out, ask)
	return out, err
}

// reasons weighs the same key against a new one.
func reasons(ctx context.Context, e *estate.Estate, p RenewalPlan, ask RenewAsk) ([]renewal.Reason, error) {
	revoked, err := e.Records.CountRevoked(ctx, ask.Handle)
	if err != nil {
		return nil, err
	}
	known, err := compromise.Keys(ctx, e.Records)
	return renewal.Weigh(renewal.Evidence{Generation: p.Old, Now: p.in.Now, Suspicion: ask.Suspicion,
		Compromise: known[p.Old.Certificate.Key.Fingerprint()].Message, Revoked: revoked, Template: p.in.Template}), err
}

// renewable checks that an authority can be renewed here at all.
func renewable(e *estate.Estate, h hierarchy.Hierarchy, a *hierarchy.Authority, ask RenewAsk) (*hierarchy.Generation,
	error) {
	old := a.Current()
	switch {
	case old == nil:
		return nil, fmt.Errorf("authority %s: it has no certificate yet", a.Handle)
	case !a.Retired.IsZero():
		return nil, fmt.Errorf("authority %s: it was retired on %s and is not renewed", a.Handle,
			a.Retired.Format("2006-01-02"))
	case a.External():
		return nil, fault.New(fault.Refused, "authority %s: %w: renew it where its key is", a.Handle,
			ErrExternal).On(fault.Authority.Named("%s", a.Handle)).
			Then(advice.To("then import the new certificate", advice.AdoptAuthority, "authority", a.Handle, "file",
				"FILE"))
	case a.Prepared() != nil:
		return nil, fmt.Errorf("authority %s: %s waits for its switch day, %s: switch to it, or drop it, first",
			a.Handle, a.Prepared().Label(), a.Prepared().SwitchDay.Format("2006-01-02"))
	case ask.SameKey && ask.KeyIn != "":
		return nil, fmt.Errorf("authority %s: with the same key there is no other place for it", a.Handle)
	case ask.SameKey && ask.Key != "":
		return nil, fmt.Errorf("authority %s: with the same key the kind of key cannot change", a.Handle)
	case !ask.Day.IsZero() && !ask.Day.After(e.Now()):
		return nil, fmt.Errorf("switch day %s: it has passed", ask.Day.Format("2006-01-02"))
	case !ask.Day.IsZero() && !ask.Day.Before(old.Certificate.NotAfter):
		return nil, fmt.Errorf("switch day %s: %s ends before it, on %s: choose an earlier day",
			ask.Day.Format("2006-01-02"), old.Label(), old.Certificate.NotAfter.Format("2006-01-02"))
	case ask.SameKey && (!old.Revoked.IsZero() || old.Stopped != ""):
		return nil, keptKey(a.Handle, "its key may be compromised (%s): renew it with a new key", old.Mark())
	case ask.SameKey && ask.Suspicion != "":
		return nil, keptKey(a.Handle, "a key that is suspected cannot be kept")
	case ask.Under == "" && a.Parent != nil && a.Parent.External():
		return nil, fault.New(fault.Refused, "authority %s: %s is above it, and %w", a.Handle, a.Parent.Handle,
			ErrExternal).On(fault.Authority.Named("%s", a.Handle)).
			Then(advice.To("send a request there", advice.ApplyAuthority, "authority", a.Handle, "file", "FILE"))
	}
	return old, nil
}

func renewalInput(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy, a *hierarchy.Authority,
	old *hierarchy.Generation, ask RenewAsk) (issue.Input, error) {
	in := issue.Input{Handle: a.Handle, Others: h, Now: e.Now(), BeginsBefore: e.Settings.BeginsBefore(),
		Rehearse: e.Rehearsal,
		Subject:  old.Certificate.Subject}
	var err error
	if in.KeyKind, err = kindAsked(ctx, e, ask.Key, Ask{Key: ask.Key, KeyIn: ask.KeyIn}); err != nil {
		return in, err
	}
	switch {
	case ask.Under != "":
		if in.Issuer, err = estate.FindGeneration(h, ask.Under); err != nil {
			return in, err
		}
	case a.Parent != nil:
		in.Issuer = a.Parent.Current()
	}
	if in.Template, err = templateOf(ctx, e, old, ask.Template, in.Issuer == nil); err != nil {
		return in, err
	}
	if ask.SameKey {
		in.SameKey, in.KeyKind, in.KeyID = &old.Certificate.Key, old.Certificate.Key.Kind, old.Certificate.SubjectKey
	} else if in.KeyKind == "" {
		in.KeyKind, err = key.ParseKind(string(old.Certificate.Key.Kind))
		if err != nil || !in.Template.TakesKey(in.KeyKind, old.Certificate.Key.Bits) {
			in.KeyKind = key.Kind(e.Settings.Defaults.AuthorityKey)
		}
	}
	in.Amend = issue.Amendments{Lifetime: ask.Lifetime, Permit: old.Certificate.Constraints,
		Unlimited: old.Certificate.Basic.PathLength < 0}
	if n := old.Certificate.Basic.PathLength; n >= 0 {
		in.Amend.PathLength = &n
	}
	in.Grants = Grants(e, a.Handle, in.Issuer == nil)
	in.Published, in.Part, err = Published(ctx, e, in.Issuer)
	return in, err
}

// templateOf reads the template by which a generation was made, as it is today.
func templateOf(ctx context.Context, e *estate.Estate, g *hierarchy.Generation, name string,
	root bool) (t template.Template,
	err error) {
	if name == "" {
		rec, err := e.Records.CertificateOf(ctx, g.Authority.Handle, g.Number)
		if err != nil {
			return t, err
		}
		name = rec.Template
	}
	if name == "" || root != (name == "root-authority") &&
		(name == "root-authority" || name == "intermediate-authority") {
		if name = "intermediate-authority"; root {
			name = "root-authority"
		}
	}
	return e.Template(name)
}

func (p RenewalPlan) renewalFindings(h hierarchy.Hierarchy) finding.List {
	var out finding.List
	until, old := p.Plan.Draft.NotAfter, p.Old.Certificate
	if i := p.in.Issuer; i != nil {
		end, by := renewal.EndOf(i.Line())
		if grants := p.in.Grants; !grants.IsZero() && grants.After(p.in.Now).After(end) {
			out = append(out, finding.New(finding.ParentEnding, "%s ends on %s, before the %s that %s grants are over.",
				by.Label(), end.Format("2006-01-02"), grants.Words(), p.Ask.Handle).
				WithNext(advice.To("renew "+by.Authority.Handle+" first", advice.RenewAuthority, "authority",
					by.Authority.Handle, "cascade", "")))
		}
	}
	if until.Before(old.NotAfter) || p.SameKey && !until.After(old.NotAfter) { // a new key is a gain on its own
		out = append(out, finding.New(finding.NoGain, "It would end on %s; what there is ends on %s.",
			until.Format("2006-01-02"), old.NotAfter.Format("2006-01-02")))
	}
	if p.Links {
		out = append(out, renewal.LinkFindings(h, p.Old)...)
	}
	return out
}

// afterRenewal says what has to be brought where once the renewal is made.
func afterRenewal(h hierarchy.Hierarchy, p RenewalPlan) []string {
	var out []string
	handle := p.Ask.Handle
	switch {
	case p.Unlinked:
		out = append(out, fmt.Sprintf("The key of %s may be compromised, so there are no link certificates: the "+
			"new root "+
			"does not vouch for the old one, and the old key signs nothing but its own list. Machines that hold only "+
			"the old root refuse what the new one signs. Install the new root on them, then remove the old one.",
			p.Old.Label()))
	case p.Links:
		out = append(out, fmt.Sprintf("Install the new root on every machine that trusts %s, before %s. Until then "+
			"servers send the link certificate, for which the old root vouches.", p.Old.Label(),
			p.Old.Certificate.NotAfter.Format("2006-01-02")))
	case p.Old.IsRoot():
		out = append(out, fmt.Sprintf("Machines that hold %s accept everything until %s. Install the new certificate "+
			"on them before that day.", p.Old.Label(), p.Old.Certificate.NotAfter.Format("2006-01-02")))
	}
	if len(p.in.Template.Publish.Issuers) > 0 {
		out = append(out, "Publish the new certificate where the templates say that the issuer's is: "+
			p.in.Template.Publish.Issuers[0])
	}
	if below := h.Below(h.Find(handle)); len(below) > 0 {
		out = append(out, fmt.Sprintf("Then renew what is below, in order: %s.", handles(below)))
	} else {
		out = append(out, "Certificates that are signed from now on need the new certificate in their chain; those "+
			"signed before keep the old one.")
	}
	if !p.SameKey {
		out = append(out, "Publish, and copy the new HANDLE.lists.pem to the servers that check clients, and reload "+
			"them. Do this before the first client uses a certificate of the new key: a server without its list "+
			"refuses every client.")
	}
	return out
}

func handles(list []*hierarchy.Authority) string {
	text := ""
	for i, a := range list {
		if i > 0 {
			text += ", "
		}
		text += a.Handle
	}
	return text
}

// Behind lists the authorities below one that are still to be renewed after it,
// in order.
func Behind(ctx context.Context, e *estate.Estate, handle string) ([]string, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	g, err := estate.FindGeneration(h, handle)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, a := range renewal.Behind(h, g.Authority) {
		out = append(out, a.Handle)
	}
	return out, nil
}

// Renew makes the next generation that was planned.
func Renew(ctx context.Context, e *estate.Estate, p RenewalPlan) (*hierarchy.Generation, journal.Head, error) {
	return Create(ctx, e, p.Planned)
}

// withOldKey opens the key of the generation that is renewed.
func withOldKey(ctx context.Context, e *estate.Estate, p Planned, purpose keystore.Purpose) (keystore.Opened, error) {
	return e.Keys.Open(ctx, p.renews.Certificate.Key, p.renews.Name(), purpose)
}

// linked makes the link certificates between an old root and the new one.
func linked(e *estate.Estate, p Planned, renewed *cert.Certificate, oldSigner, newSigner crypto.Signer) (byOld,
	byNew *cert.Certificate, err error) {
	first, second, err := renewal.Links(p.renews.Certificate, renewed, p.in.Now, p.in.BeginsBefore)
	if err != nil {
		return nil, nil, err
	}
	if byOld, err = Drafted(e, first, oldSigner); err != nil {
		return nil, nil, fmt.Errorf("link certificate: %w", err)
	}
	if byNew, err = Drafted(e, second, newSigner); err != nil {
		return nil, nil, fmt.Errorf("link certificate: %w", err)
	}
	return byOld, byNew, nil
}

// Drafted signs a draft that follows from certificates on record and needs no plan;
// in a rehearsal it is marked.
func Drafted(e *estate.Estate, d cert.Draft, signer crypto.Signer) (*cert.Certificate, error) {
	if e.Rehearsal {
		d.Extensions = append(d.Extensions, cert.RehearsalMark())
	}
	var err error
	if d.Serial, err = issue.Serial(e.Env.Random); err != nil {
		return nil, err
	}
	der, err := d.Sign(signer, e.Env.Random)
	if err != nil {
		return nil, err
	}
	return cert.Read(der)
}

// recordGeneration records what CreateAuthority made: a new authority, or the
// next generation of one, with its links.
func recordGeneration(e *estate.Estate, tx store.Tx, p Planned, certificate, issuer int64,
	links []*cert.Certificate) error {
	if p.renews == nil {
		_, err := tx.AddAuthority(store.NewAuthority{Handle: p.Ask.Handle, Parent: p.Ask.Under,
			Certificate: certificate, Issuer: issuer})
		return err
	}
	id, err := tx.AddGeneration(p.Ask.Handle, p.Ask.Under, len(p.renews.Authority.Generations), certificate, issuer,
		p.day)
	if err != nil || len(links) == 0 {
		return err
	}
	old, err := tx.AnyGenerationID(p.renews)
	if err != nil {
		return err
	}
	for i, by := range []int64{old, id} {
		link, err := tx.AddCertificate(store.NewCertificate{Certificate: links[i], Issuer: by})
		if err != nil {
			return err
		}
		if err := tx.AddLink(link, by, []int64{id, old}[i]); err != nil {
			return err
		}
	}
	return nil
}

func stampOrNone(t time.Time) string {
	if t.IsZero() {
		return "none was issued"
	}
	return t.Format(time.RFC3339)
}

// keptKey refuses to keep a key.
func keptKey(handle, format string, args ...any) error {
	return fault.New(fault.Refused, "authority %s: "+format, append([]any{handle}, args...)...).
		On(fault.Authority.Named("%s", handle)).Then(advice.To("leave this out", advice.DropSameKey))
}
