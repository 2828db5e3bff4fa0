// Package revoking takes certificates back, and lets those that were on hold stand again.
//
// A plan says what would fall with a certificate: where it is an authority's, every
// certificate below, and every party that loses trust. Nothing is changed until it was read.
// What was revoked is on record at once, and clients learn of it from the next list that
// is published.
package revoking

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/revocation"
)

// The acts, as the journal calls them.
const (
	RevokeAct  = "revoke"
	UnholdAct  = "unhold"
	PublishAct = "publish lists"
)

// Ask is what a person asks for.
type Ask struct {
	Names   []string // as typed
	Parties []string // all that these hold
	Reason  revocation.Reason
	Since   time.Time // since when it is to be taken as bad; zero where it is not known
	Because string
	Waivers []finding.Waiver
}

// Plan is what would be done.
type Plan struct {
	Ask        Ask
	Targets    []Target
	Dependents []Dependent // what becomes invalid with authorities
	Parties    []string    // that lose what they hold
	Findings   finding.List
	Head       journal.Head
}

// About names what is revoked: the one certificate, a generation by its name too, or how many
// there are.
func (p Plan) About() string {
	if n := len(p.Targets); n != 1 {
		return fmt.Sprintf("%d certificates", n)
	}
	return p.Targets[0].Label()
}

// ErrNothing says that all is as it should be already.
var ErrNothing = errors.New("nothing to change")

// PlanRevoke plans.
func PlanRevoke(ctx context.Context, e *estate.Estate, ask Ask) (Plan, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (Plan, error) { return plan(ctx, e, ask) })
}

func plan(ctx context.Context, e *estate.Estate, ask Ask) (Plan, error) {
	p := Plan{Ask: ask}
	head, newest, err := e.Newest(ctx)
	if err != nil {
		return p, err
	}
	p.Head = head
	now := e.Now()
	if ask.Since.After(now) {
		return p, fmt.Errorf("the moment %s is still to come: a certificate is bad since a moment that has been",
			ask.Since.Format(time.RFC3339))
	}
	var faults []error
	if err := eachStands(ctx, e, ask.Names); err != nil {
		return p, err
	}
	if p.Targets, err = targets(ctx, e, ask.Names, ask.Parties); err != nil {
		faults = append(faults, err)
	} else if len(p.Targets) == 0 {
		return p, fmt.Errorf("no certificate is meant: %w", ErrNothing)
	}
	if now.Before(newest.Add(-time.Second)) {
		p.Findings = append(p.Findings, finding.New(finding.ClockBehind,
			"The clock says %s, and the newest record is of %s.",
			now.Format(time.RFC3339), newest.Format(time.RFC3339)))
	}
	for _, t := range p.Targets {
		if err := p.ready(t, now); err != nil {
			faults = append(faults, err)
		}
	}
	if err := together(faults); err != nil {
		return p, err
	}
	if err := p.fall(ctx, e); err != nil {
		return p, err
	}
	if err := p.judge(ctx, e); err != nil {
		return p, err
	}
	p.Findings, err = p.Findings.Ranked().Waive(0, ask.Waivers)
	return p, err
}

// ready refuses what cannot be revoked, or was already.
func (p *Plan) ready(t Target, now time.Time) error {
	about := fmt.Sprintf("%s, serial %s", t.Title(), t.Serial.Short())
	if w := t.Was; w != nil && w.Released.IsZero() {
		onHold := revocation.Reason(w.Reason) == revocation.CertificateHold
		if onHold && p.Ask.Reason == revocation.CertificateHold {
			return fault.New(fault.Changed, "%s, is on hold already, since %s", about,
				w.At.Format("2006-01-02 15:04 UTC"))
		}
		if !onHold && !overrides(p.Ask.Reason, revocation.Reason(w.Reason)) {
			return fault.New(fault.Changed, "%s, was revoked already, on %s (%s): what is revoked stays so",
				about,
				w.At.Format("2006-01-02 15:04 UTC"), revocation.Reason(w.Reason).Word())
		}
	}
	if now.After(t.NotAfter) {
		return fmt.Errorf("%s, ended on %s: no client accepts it, and there is nothing to revoke", about,
			t.NotAfter.Format("2006-01-02"))
	}
	return nil
}

// overrides reports whether a certificate that is revoked for one reason may be revoked for
// another. What is on hold may be revoked permanently. That someone else has the key may be learnt
// later, and matters more than any other reason.
func overrides(now, was revocation.Reason) bool {
	return was == revocation.CertificateHold && now != was || now.Compromise() && !was.Compromise()
}

// Revoke takes the planned certificates back, all or none.
func Revoke(ctx context.Context, e *estate.Estate, p Plan) (journal.Head, error) {
	about := p.About()
	if r := p.Findings.Refusing(); len(r) > 0 {
		return journal.Head{}, &issue.Refused{About: about, Findings: r}
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		if err := p.stillMeant(tx); err != nil {
			return nil, err
		}
		told := make([]event.RevokedCertificate, 0, len(p.Targets))
		at := tx.Now().Truncate(time.Second)
		for _, t := range p.Targets {
			r := store.Revocation{Serial: t.SerialHex(), At: at, Reason: int(p.Ask.Reason), Invalid: p.Ask.Since,
				Ends: t.NotAfter, Part: t.Part}
			was, err := tx.Revoke(t.By.Authority.Handle, r, func(reason int) bool {
				return overrides(p.Ask.Reason, revocation.Reason(reason))
			})
			if err != nil {
				return nil, fmt.Errorf("%s: %w", t.Title(), err)
			}
			told = append(told, tellRevoked(t, r, was))
		}
		return []event.Record{event.On(about, event.Revoked{Revoked: told, Because: p.Ask.Because,
			Reason: p.Ask.Reason.Word(), Waived: estate.WaivedCodes(p.Findings)})}, nil
	})
}

func tellRevoked(t Target, r store.Revocation, was *store.Revocation) event.RevokedCertificate {
	certificate := "" // only the serial is known of one that is not on record
	if t.Certificate != nil {
		certificate = fmt.Sprintf("%x", t.SHA256())
	}
	out := event.RevokedCertificate{Certificate: certificate, By: t.By.Authority.Handle, Serial: r.Serial,
		At: r.At.Format(time.RFC3339Nano), Reason: r.Reason, Ends: unix(r.Ends), Part: r.Part}
	if !r.Invalid.IsZero() {
		out.Invalid = r.Invalid.UTC().Format(time.RFC3339Nano)
	}
	if was != nil {
		out.Was = store.DigestLine(was.Serial, journal.Stamp(was.At), was.Reason)
	}
	return out
}

// Release lets certificates that were on hold stand again.
func Release(ctx context.Context, e *estate.Estate, names []string, because string) ([]Target, journal.Head, error) {
	list, err := targets(ctx, e, names, nil)
	if err != nil {
		return nil, journal.Head{}, err
	}
	if err := uncompromised(ctx, e.Records, list); err != nil {
		return nil, journal.Head{}, err
	}
	for _, t := range list {
		about := fmt.Sprintf("%s, serial %s", t.Title(), t.Serial.Short())
		switch w := t.Was; {
		case w == nil:
			return nil, journal.Head{}, fmt.Errorf("%s, is not revoked", about)
		case !w.Released.IsZero():
			return nil, journal.Head{}, fmt.Errorf("%s, was taken off hold already, on %s", about,
				w.Released.Format("2006-01-02 15:04 UTC"))
		case revocation.Reason(w.Reason) != revocation.CertificateHold:
			return nil, journal.Head{}, fmt.Errorf("%s, was revoked on %s (%s), and not put on hold: that is for "+
				"good; sign a new certificate", about, w.At.Format("2006-01-02"), revocation.Reason(w.Reason).Word())
		}
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		if err := uncompromised(ctx, tx, list); err != nil {
			return nil, err
		}
		var told []event.RevokedCertificate
		var titles []string
		for _, t := range list {
			if err := tx.Release(t.By.Authority.Handle, t.SerialHex(), int(revocation.CertificateHold)); err != nil {
				return nil, fmt.Errorf("%s: %w", t.Title(), err)
			}
			told = append(told, tellReleased(t))
			titles = append(titles, t.Title())
		}
		return []event.Record{event.On(strings.Join(titles, ", "), event.Released{Released: told,
			Because: because})}, nil
	})
	return list, head, err
}

// uncompromised refuses to let certificates stand again whose key is suspected.
func uncompromised(ctx context.Context, from store.DerivedReader, list []Target) error {
	known, err := compromise.Incidents(ctx, from)
	for _, t := range list {
		for _, i := range compromise.About(known, t.Key.Fingerprint()) {
			return fault.New(fault.Changed, "%s, serial %s, stays on hold: %s", t.Title(), t.Serial.Short(),
				i.Since())
		}
	}
	return err
}

func tellReleased(t Target) event.RevokedCertificate {
	return event.RevokedCertificate{Certificate: fmt.Sprintf("%x", t.SHA256()), By: t.By.Authority.Handle,
		Serial: t.SerialHex(), At: t.Was.At.Format(time.RFC3339Nano), Reason: t.Was.Reason, Ends: unix(t.Was.Ends)}
}

func unix(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.Unix()
}

// Carry revokes in another estate the generations that are revoked in one: in a rehearsal,
// where they were made again.
func Carry(ctx context.Context, from, to *estate.Estate) error {
	h, err := from.Hierarchy(ctx)
	if err != nil {
		return err
	}
	for _, g := range estate.AllGenerations(h) {
		if g.Revoked.IsZero() || from.Now().After(g.Certificate.NotAfter) {
			continue
		}
		r, _, err := from.Records.RevocationOf(ctx, g.Issuer.Authority.Handle, g.Certificate.SerialHex())
		if err != nil {
			return err
		}
		p, err := PlanRevoke(ctx, to, Ask{Names: []string{g.Name()}, Reason: revocation.Reason(r.Reason),
			Because: "as in the estate that is rehearsed"})
		if err != nil {
			return err
		}
		if _, err := Revoke(ctx, to, p); err != nil {
			return err
		}
	}
	return nil
}
