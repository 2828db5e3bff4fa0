// Package overview gathers what an administrator should know today: what waits,
// what ends, what is sent and not answered, and what to do next.
package overview

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/transfer"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/span"
)

// Status is the state of the estate: what serves, what waits, what is due.
type Status struct {
	Organisation string                  `json:"organisation" doc:"whose estate it is"`
	Dir          string                  `json:"directory" doc:"where it is"`
	Counts       store.Counts            `json:"counts" doc:"how many authorities, requests and certificates there are"`
	Authorities  []AuthorityLine         `json:"authorities" doc:"each authority, its state and end"`
	Waiting      []WaitingLine           `json:"waiting" doc:"requests that wait"`
	Ending       []EndingLine            `json:"ending" doc:"certificates that end soon"`
	Sent         []SentLine              `json:"sent" doc:"requests of authorities that are not answered yet"`
	Behind       []store.GenerationCount `json:"behind" doc:"generations that were renewed, with certificates that still depend on them"`
	Down         []store.GenerationCount `json:"issuer_revoked" doc:"certificates that are invalid because an authority was revoked"`
	Lists        []ListLine              `json:"lists" doc:"revocation lists that are due"`
	Incidents    []string                `json:"incidents" doc:"open incidents"`
	open         []compromise.Incident
	firstLists   bool         // certificates name an address of lists, and none was published yet
	Restored     bool         `json:"restored" doc:"restored, and no list was imported or signed since"`
	Rehearsal    bool         `json:"rehearsal,omitempty" doc:"whether it is a rehearsal"`
	Head         journal.Head `json:"journal_head" doc:"the journal's head"`
	ClockBehind  string       `json:"clock_behind,omitempty" doc:"what the clock says, if it is behind the records"`
	Faults       []string     `json:"faults,omitempty" doc:"what is wrong"`
	Next         advice.List  `json:"-"`
}

// AuthorityLine is an authority in a status.
type AuthorityLine struct {
	Handle string          `json:"handle"`
	Until  time.Time       `json:"not_after"`
	State  lifecycle.State `json:"state"`
	Root   bool            `json:"root"`
	// where its key is elsewhere, since when it is retired, what is prepared
	Note string `json:"note,omitempty"`
}

// WaitingLine is a waiting request in a status.
type WaitingLine struct {
	Name     string    `json:"request"`
	Title    string    `json:"title"`
	Received time.Time `json:"received"`
}

// EndingLine is a certificate that ends soon.
type EndingLine struct {
	Title  string          `json:"title"`
	Serial string          `json:"serial"`
	Until  time.Time       `json:"not_after"`
	State  lifecycle.State `json:"state"`
}

func noteOn(e *estate.Estate, a *hierarchy.Authority) string {
	switch {
	case a.External():
		return "its key is elsewhere"
	case a.Retired.IsZero() && e.Settings.Storage.OnServer() && a.Current() != nil &&
		!e.Keys.Has(a.Current().Certificate.Key):
		return "its key is not at this machine"
	case !a.Retired.IsZero():
		return "retired since " + a.Retired.Format("2006-01-02")
	case a.Prepared() != nil:
		return fmt.Sprintf("g%d waits for %s", a.Prepared().Number, a.Prepared().SwitchDay.Format("2006-01-02"))
	}
	return ""
}

// SentLine is an authority's request that is at a parent elsewhere.
type SentLine struct {
	Handle string    `json:"authority"`
	Parent string    `json:"parent,omitempty"`
	Made   time.Time `json:"sent"`
}

// AfterSigning is the next step after a signature: the folder for the receiver that was
// named, the answer that a transfer takes back, or else the file.
func AfterSigning(sheet *signing.Sheet) advice.Step {
	switch {
	case sheet.For != "":
		return advice.To("hand it over", advice.HandOver, "certificate", fmt.Sprintf("R%d", sheet.Record.Number),
			"receiver", sheet.For)
	case transfer.IsSender(sheet.Record.Sender):
		return advice.To("when all of that folder is signed, send the answer", advice.AnswerTransfer, "out", "ANSWER")
	}
	return advice.To("export it", advice.ExportCertificate, "certificate", fmt.Sprintf("R%d", sheet.Record.Number),
		"with", "issuers")
}

// issuerRevoked counts the certificates that were signed by generations which were revoked, or are below
// one.
func issuerRevoked(ctx context.Context, e *estate.Estate, now time.Time) ([]store.GenerationCount, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	down := map[string]bool{}
	for _, g := range estate.AllGenerations(h) {
		if g.RevokedAbove() != nil {
			down[g.Name()] = true
		}
	}
	if len(down) == 0 {
		return []store.GenerationCount{}, nil
	}
	list, err := e.Records.CountCurrent(ctx, now)
	return slices.DeleteFunc(list, func(b store.GenerationCount) bool { return !down[b.Generation] }), err
}

// Dependents is what to do about certificates that an earlier generation signed: they hold,
// and their machines move when they are renewed.
func Dependents(b store.GenerationCount, open []compromise.Incident) advice.Step {
	for _, i := range open {
		if i.Open() && i.About == b.Generation {
			return advice.To(fmt.Sprintf("the incident %s is open: replace what %s signed", i.Name, b.Generation),
				advice.ShowIncident, "incident", i.Name)
		}
	}
	verb := "still depend"
	if b.Certificates == 1 {
		verb = "still depends"
	}
	return advice.To(fmt.Sprintf("%s %s on %s, which was renewed", span.Count(b.Certificates, "certificate"), verb,
		b.Generation), advice.ListCertificates, "authority", b.Generation)
}

// Counts tells how many records of each kind there are.
func Counts(ctx context.Context, e *estate.Estate) (store.Counts, error) {
	return e.Records.Count(ctx)
}

// Of looks at everything that an administrator should know today.
func Of(ctx context.Context, e *estate.Estate) (Status, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (Status, error) { return of(ctx, e) })
}

func of(ctx context.Context, e *estate.Estate) (Status, error) {
	s := Status{Organisation: e.Settings.Organisation.Name, Dir: e.Dir, Authorities: []AuthorityLine{},
		Waiting: []WaitingLine{}, Ending: []EndingLine{}, Next: advice.List{}}
	var err error
	if s.Counts, err = e.Records.Count(ctx); err != nil {
		return s, err
	}
	var newest time.Time
	if s.Head, newest, err = e.Records.Newest(ctx); err != nil {
		return s, err
	}
	now := e.Now()
	if now.Before(newest.Add(-time.Second)) {
		s.ClockBehind = fmt.Sprintf("this machine's clock says %s, and the newest record is of %s",
			now.Format(time.RFC3339), newest.Format(time.RFC3339))
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return s, err
	}
	for _, a := range h {
		g := a.Current()
		if g == nil {
			continue
		}
		s.Authorities = append(s.Authorities, AuthorityLine{a.Handle, g.Certificate.NotAfter, e.StateOfGeneration(g),
			g.IsRoot(), noteOn(e, a)})
		if !a.External() && !e.Settings.Storage.OnServer() && !e.Keys.Has(g.Certificate.Key) && a.Retired.IsZero() {
			s.Faults = append(s.Faults, fmt.Sprintf("the key of %s is missing: restore it from a backup", g.Label()))
		}
	}
	if err := s.pending(ctx, e, now); err != nil {
		return s, err
	}
	_, faults := e.Templates()
	for _, f := range faults {
		s.Faults = append(s.Faults, f.Error())
	}
	if err := s.revocations(ctx, e); err != nil {
		return s, err
	}
	s.Next = append(s.urgent(), later(e, h, s)...)
	return s, nil
}

// How many certificates that end soon a status shows, and at how many it looks.
const (
	mostEnding = 10
	mostLooked = 500
)

// pending gathers what waits, what ends and what is sent.
func (s *Status) pending(ctx context.Context, e *estate.Estate, now time.Time) error {
	waiting, err := e.Records.Requests(ctx, lifecycle.Waiting)
	if err != nil {
		return err
	}
	for _, r := range waiting {
		s.Waiting = append(s.Waiting, WaitingLine{fmt.Sprintf("R%d", r.Number), r.Title, r.Received})
	}
	known, err := fleet.Enrolments(ctx, e.Records)
	if err != nil {
		return err
	}
	if err := e.EachLine(ctx, store.LineAsk{Ends: true, From: now.AddDate(0, 0, -30), To: e.Settings.ExpiringFrom(now),
		Leaves: true, Serving: true, Limit: mostLooked}, func(c *estate.CertificateLine) error {
		if !c.OneUse() && !c.State.Rejected() && len(s.Ending) < mostEnding && known.Renews(c, now) != fleet.Itself {
			s.Ending = append(s.Ending, EndingLine{c.Title, c.Serial, c.Until, c.State})
		}
		return nil
	}); err != nil {
		return err
	}
	if s.Behind, err = e.Records.CountSuperseded(ctx, now); err != nil {
		return err
	}
	if s.Down, err = issuerRevoked(ctx, e, now); err != nil {
		return err
	}
	s.Behind = slices.DeleteFunc(s.Behind, func(b store.GenerationCount) bool { // what is invalid is reported as that
		return slices.ContainsFunc(s.Down, func(d store.GenerationCount) bool { return d.Generation == b.Generation })
	})
	s.Sent, s.Rehearsal = []SentLine{}, e.Rehearsal
	open, err := e.Records.Applications(ctx)
	if err != nil {
		return err
	}
	for _, a := range open {
		s.Sent = append(s.Sent, SentLine{a.Handle, a.Parent, a.Made})
	}
	return nil
}

// later is what can be done when nothing is urgent.
func later(e *estate.Estate, h hierarchy.Hierarchy, s Status) advice.List {
	var out advice.List
	switch {
	case len(h) == 0 && len(s.Sent) == 0:
		return advice.List{advice.To("make the root", advice.CreateAuthority, "authority", "root")}
	case len(h) == 1 && h[0].Signs() && h[0].Current().IsRoot() && s.Counts.Certificates == 0:
		out = append(out, advice.To("make an authority for everyday work below the root", advice.CreateAuthority,
			"authority", "services", "parent", h[0].Handle))
	case s.Counts.Requests == 0:
		out = append(out, advice.To("receive the first request", advice.ReceiveRequest),
			advice.To("or draft one for a host", advice.DraftRequest, "name", "HOST"))
	}
	for _, a := range s.Sent {
		out = append(out, advice.To("import the answer for "+a.Handle, advice.ImportAuthority, "authority", a.Handle))
	}
	for _, a := range h {
		if g := a.Current(); g != nil && !g.Revoked.IsZero() && !a.External() && a.Retired.IsZero() &&
			(a.Parent == nil || a.Parent.Signs()) {
			step := renewals.RenewStep(a)
			step.Words = a.Handle + " is revoked: renew it with another key"
			out = append(out, step)
		}
		if p := a.Prepared(); p != nil && !p.SwitchDay.After(e.Now()) {
			out = append(out, advice.To("the switch day of "+a.Handle+" has come", advice.SwitchChangeOver, "authority",
				a.Handle))
		}
	}
	for _, b := range s.Behind {
		out = append(out, Dependents(b, s.open))
	}
	if len(s.Waiting) > 0 {
		out = append(out, advice.To("look at the request that waits longest", advice.ShowRequest, "request",
			s.Waiting[0].Name))
		if slices.ContainsFunc(h, (*hierarchy.Authority).Signs) {
			out = append(out, advice.To("and sign it", advice.Sign, "request", s.Waiting[0].Name))
		}
	}
	if s.firstLists && s.Counts.Certificates > 0 {
		out = append(out, publish("publish the revocation lists that the certificates name"))
	}
	if s.Counts.Certificates > 0 && len(s.Waiting) == 0 {
		out = append(out, advice.To("export the root for machines that must trust it", advice.ExportAuthority,
			"authority", h[0].Handle))
	}
	return out
}
