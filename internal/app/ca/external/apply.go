// Package external is for authorities and certificates that others sign.
//
// An application is a request for an authority's certificate whose key is here;
// an answer is what came back for it, or for a host's request. Adopting imports
// an authority that exists already, with its key or without, together with the
// authorities above it and the link certificates between their generations.
// Nothing is imported on its own word: a path must lead to a root that is on
// record or that the person gives, and the answer must fit what was asked.
package external

import (
	"context"
	"crypto"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/revoke/evidence"
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
	"ironseal/pki/path"
	"ironseal/pki/renewal"
	"ironseal/pki/request"
)

// ApplyAsk is what a person asks for when sending an authority's request to a
// parent that is elsewhere.
type ApplyAsk struct {
	Handle  string
	Parent  string // what the parent is called here; "" to take its common name
	Subject *dn.Name
	Key     key.Kind
	KeyIn   string // where the key is held, such as "agent:SHA256:..."; "" to make one here
	SameKey bool
	Day     time.Time // a switch day: the answer is kept, unused, until then
}

// Applied is a request that was made and is recorded as sent.
type Applied struct {
	Application store.Application
	Request     *request.Request
	Renews      *hierarchy.Generation // nil for a new authority
}

// Apply makes the key and the request of an authority whose parent is elsewhere.
// The parent is another estate, or an outside authority.
func Apply(ctx context.Context, e *estate.Estate, ask ApplyAsk) (Applied, journal.Head, error) {
	var out Applied
	if err := hierarchy.ValidHandle(ask.Handle); err != nil {
		return out, journal.Head{}, err
	}
	if ask.Parent != "" {
		if err := hierarchy.ValidHandle(ask.Parent); err != nil {
			return out, journal.Head{}, err
		}
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return out, journal.Head{}, err
	}
	subject, kind, err := applicant(ctx, e, h, &ask, &out)
	if err != nil {
		return out, journal.Head{}, err
	}
	signer, keep, err := applicantKey(ctx, e, ask, kind, out.Renews)
	if err != nil {
		return out, journal.Head{}, err
	}
	der, err := request.Draft(subject, ext.Set{ext.Basic{Authority: true, PathLength: -1}.Extension(),
		(ext.KeyCertSign | ext.CRLSign).Extension()}, signer, e.Env.Random)
	if err != nil {
		return out, journal.Head{}, fmt.Errorf("authority %s: %w", ask.Handle, err)
	}
	if out.Request, err = request.Read(der); err != nil {
		return out, journal.Head{}, err
	}
	undo, err := keep()
	if err != nil {
		return out, journal.Head{}, fmt.Errorf("authority %s: %w", ask.Handle, err)
	}
	out.Application = store.Application{Handle: ask.Handle, Parent: ask.Parent, DER: der, Made: e.Env.Now(),
		SwitchDay: ask.Day}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		if err := authorities.CheckKey(e, ask.Handle, out.Request.Key); err != nil {
			return nil, err
		}
		sum := out.Request.SHA256()
		return []event.Record{event.On(ask.Handle, event.Applied{Request: fmt.Sprintf("%x", sum), Subject: subject.
			String(),
			Parent: ask.Parent, Key: fmt.Sprintf("%x", out.Request.Key.Fingerprint()), SwitchDay: estate.
				DayOf(ask.Day)})}, tx.AddApplication(out.Application, out.Request.Key.Fingerprint())
	})
	if err != nil && !errors.Is(err, store.ErrUncertain) { // then the key may be on record
		err = errors.Join(err, undo())
	}
	return out, head, err
}

// applicant decides the subject and the kind of key, and checks that the
// authority may apply at all.
func applicant(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy, ask *ApplyAsk,
	out *Applied) (subject dn.Name,
	kind key.Kind, err error) {
	open, err := e.Records.Applications(ctx)
	if err != nil {
		return subject, "", err
	}
	for _, a := range open {
		if a.Handle == ask.Handle {
			return subject, "", fault.New(fault.Refused, "authority %s: a request is sent already, since %s",
				ask.Handle, a.Made.Format("2006-01-02")).
				On(fault.Authority.Named("%s", ask.Handle)).
				Then(advice.To("import its answer", advice.ImportAuthority, "authority", ask.Handle),
					advice.To("or write it out again", advice.Again), advice.To("or withdraw it", advice.Withdraw))
		}
	}
	if kind = ask.Key; kind == "" {
		kind = key.Kind(e.Settings.Defaults.AuthorityKey)
	}
	a := h.Find(ask.Handle)
	if a == nil {
		if ask.SameKey {
			return subject, "", fmt.Errorf("authority %s: it does not exist yet, so it has no key to keep", ask.Handle)
		}
		subject, err = authorities.SubjectOf(e, authorities.Ask{Handle: ask.Handle, Subject: ask.Subject})
		return subject, kind, err
	}
	g := a.Current()
	switch {
	case g == nil || a.External():
		return subject, "", fmt.Errorf("authority %s: %w", ask.Handle, authorities.ErrExternal)
	case !a.Retired.IsZero():
		return subject, "", fmt.Errorf("authority %s: it is retired", ask.Handle)
	case !ask.Day.IsZero() && !ask.Day.Before(g.Certificate.NotAfter):
		return subject, "", fmt.Errorf("switch day %s: %s ends before it, on %s: choose an earlier day",
			ask.Day.Format("2006-01-02"), g.Label(), g.Certificate.NotAfter.Format("2006-01-02"))
	case !ask.Day.IsZero() && !ask.Day.After(e.Now()):
		return subject, "", fmt.Errorf("switch day %s: it has passed", ask.Day.Format("2006-01-02"))
	case ask.Subject != nil && !ask.Subject.Equal(g.Certificate.Subject):
		return subject, "", fmt.Errorf("authority %s: its subject stays %s; an authority of another name is another "+
			"authority", ask.Handle, g.Certificate.Subject)
	}
	out.Renews = g
	if ask.Key == "" && slices.Contains(key.Kinds(), g.Certificate.Key.Kind) {
		kind = g.Certificate.Key.Kind
	}
	return g.Certificate.Subject, kind, nil
}

// applicantKey makes a key, or opens the one that there is. keep writes it, and
// returns what takes it back.
func applicantKey(ctx context.Context, e *estate.Estate, ask ApplyAsk, kind key.Kind,
	renews *hierarchy.Generation) (crypto.Signer, func() (func() error, error), error) {
	nothing := func() error { return nil }
	if ask.SameKey {
		own, err := e.Keys.Open(ctx, renews.Certificate.Key, ask.Handle, keystore.ForOwnRequest)
		return own, func() (func() error, error) { return nothing, nil }, err
	}
	fresh, secret, err := authorities.NewKey(ctx, e, ask.Handle, kind, ask.KeyIn)
	if err != nil {
		return nil, nil, err
	}
	return fresh.Signer(), func() (func() error, error) {
		defer clear(secret)
		return func() error { return e.Keys.Remove(fresh) }, e.Keys.Keep(fresh, secret)
	}, nil
}

// AppliedBefore gives the request that an authority has sent, to write it out
// again.
func AppliedBefore(ctx context.Context, e *estate.Estate, handle string) (Applied, error) {
	a, err := Sent(ctx, e, handle)
	if err != nil {
		return Applied{}, err
	}
	r, err := request.Read(a.DER)
	return Applied{Application: a, Request: r}, err
}

// WithdrawApplication ends an application without an answer.
func WithdrawApplication(ctx context.Context, e *estate.Estate, handle string) (journal.Head, error) {
	a, err := Sent(ctx, e, handle)
	if err != nil {
		return journal.Head{}, err
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		return []event.Record{event.On(handle, event.ApplicationWithdrawn{Request: fmt.Sprintf("%x",
				sha256.Sum256(a.DER))})},
			tx.CloseApplication(a.ID)
	})
}

// Sent finds the application of an authority that waits for its answer.
func Sent(ctx context.Context, e *estate.Estate, handle string) (store.Application, error) {
	open, err := e.Records.Applications(ctx)
	if err != nil {
		return store.Application{}, err
	}
	for _, a := range open {
		if a.Handle == handle {
			return a, nil
		}
	}
	return store.Application{}, fault.New(fault.NotFound,
		"authority %s: no request of it is sent", handle).On(fault.Authority.Named("%s", handle)).
		Then(advice.To("make one", advice.ApplyAuthority, "authority", handle, "file", "FILE"))
}

// AuthorityAnswer is the answer of a parent elsewhere, checked.
type AuthorityAnswer struct {
	Application store.Application
	Certificate *cert.Certificate
	Path        []*cert.Certificate // above it, the anchor last
	Findings    finding.List
	Verdict     path.Verdict
	given       []*cert.Certificate // everything that came
	anchors     []*cert.Certificate // roots that the person gave in trust
	waivers     []finding.Waiver
	renews      *hierarchy.Generation
}

// MatchAuthority finds the answer to an application among certificates, and
// checks it against what was sent. anchors are roots that the person gives in
// trust; roots on record are trusted already.
func MatchAuthority(ctx context.Context, e *estate.Estate, handle string, list, anchors []*cert.Certificate,
	waivers []finding.Waiver) (AuthorityAnswer, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (AuthorityAnswer, error) {
		return matchAuthority(ctx, e,
			handle, list, anchors, waivers)
	})
}

func matchAuthority(ctx context.Context, e *estate.Estate, handle string, list, anchors []*cert.Certificate,
	waivers []finding.Waiver) (AuthorityAnswer, error) {
	var out AuthorityAnswer
	app, err := Sent(ctx, e, handle)
	if err != nil {
		return out, err
	}
	out.Application, out.given, out.anchors, out.waivers = app, list, anchors, waivers
	r, err := request.Read(app.DER)
	if err != nil {
		return out, fmt.Errorf("the application of %s on record cannot be parsed: %w", handle, err)
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return out, err
	}
	out.Certificate = answerAmong(list, r)
	asked := renewal.Answered{Certificate: out.Certificate, Key: r.Key, Subject: r.Subject, Now: e.Now(),
		Grants: authorities.Grants(e, handle, false)}
	if a := h.Find(handle); a != nil {
		out.renews, asked.Depth = a.Current(), h.Depth(a)
		if app.SwitchDay.IsZero() {
			asked.Old = out.renews.Certificate.NotAfter
		}
	}
	out.Findings = renewal.AnswerTo(asked)
	roots, others, err := e.Roots(ctx)
	if err != nil {
		return out, err
	}
	q, err := evidence.Acted(ctx, e, path.Question{Anchors: append(roots, anchors...), Now: e.Now()})
	if err != nil {
		return out, err
	}
	out.Verdict = path.Verify(out.Certificate, append(append([]*cert.Certificate{}, list...), others...), q)
	for _, f := range out.Verdict.Reasons() {
		if f.Code == finding.UnknownAnchor {
			f = f.WithNext(advice.To("if you trust that root, compare its check code with its keeper and give it",
				advice.GiveAnchor))
		}
		out.Findings = append(out.Findings, f)
	}
	for _, s := range out.Verdict.Steps[1:] {
		out.Path = append(out.Path, s.Certificate)
	}
	out.Findings = append(out.Findings, e.RehearsalFindings(append([]*cert.Certificate{out.Certificate},
		out.Path...))...)
	out.Findings, err = out.Findings.Ranked().Waive(0, waivers)
	return out, err
}

// answerAmong picks the certificate that a file of answers is about: the one
// with the key that was sent, else the one with the subject, else the leaf.
func answerAmong(list []*cert.Certificate, r *request.Request) *cert.Certificate {
	for _, fits := range []func(*cert.Certificate) bool{
		func(c *cert.Certificate) bool { return key.Same(c.Key, r.Key) },
		func(c *cert.Certificate) bool { return c.Subject.Equal(r.Subject) },
	} {
		if i := slices.IndexFunc(list, fits); i >= 0 {
			return list[i]
		}
	}
	return path.LeafOf(list)
}

// AcceptAuthority imports an answer that a person agreed to, with the certificates
// above it.
func AcceptAuthority(ctx context.Context, e *estate.Estate, a AuthorityAnswer) (*hierarchy.Generation, journal.Head,
	error) {
	handle := a.Application.Handle
	if r := a.Findings.Refusing(); len(r) > 0 {
		return nil, journal.Head{}, &issue.Refused{About: "authority " + handle, Findings: r}
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, journal.Head{}, err
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := matchAuthority(ctx, e.InTx(tx), handle, a.given, a.anchors, a.waivers)
		if err := still("authority "+handle, now.Findings, err); err != nil {
			return nil, err
		}
		if err := errors.Join(tx.CloseApplication(a.Application.ID), authorities.CheckKey(e, handle, a.Certificate.Key),
			authorities.CheckFree(tx, handle, a.Certificate)); err != nil {
			return nil, err
		}
		up := importing{e: e, tx: tx, h: h, given: a.given}
		parent, issuer, err := up.above(a.Path, a.Application.Parent)
		if err != nil {
			return nil, err
		}
		id, err := tx.AddCertificate(store.NewCertificate{Certificate: a.Certificate, Issuer: issuer,
			Waived: estate.Waived(a.Findings)})
		if err != nil {
			return nil, err
		}
		if a.renews == nil {
			_, err = tx.AddAuthority(store.NewAuthority{Handle: handle, Parent: parent, Certificate: id,
				Issuer: issuer})
		} else {
			_, err = tx.AddGeneration(handle, parent, len(a.renews.Authority.Generations), id, issuer,
				a.Application.SwitchDay)
		}
		if err == nil {
			err = up.links()
		}
		sum := a.Certificate.SHA256()
		return []event.Record{event.On(handle, event.AnswerImported{Certificate: fmt.Sprintf("%x", sum),
			Serial: a.Certificate.SerialHex(), Issuer: a.Certificate.Issuer.String(), Parent: parent, Above: up.told,
			Links: estate.Hashes(up.linked), SwitchDay: estate.DayOf(a.Application.SwitchDay),
			Until: a.Certificate.NotAfter.Format(time.RFC3339), Waived: estate.WaivedCodes(a.Findings)})}, err
	})
	if err != nil {
		return nil, head, fmt.Errorf("authority %s: %w", handle, err)
	}
	g, err := newestGeneration(ctx, e, handle)
	return g, head, err
}

func newestGeneration(ctx context.Context, e *estate.Estate, handle string) (*hierarchy.Generation, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	a := h.Find(handle)
	if a == nil {
		return nil, fmt.Errorf("authority %s: %w", handle, fault.NotFound)
	}
	return a.Generations[len(a.Generations)-1], nil
}
