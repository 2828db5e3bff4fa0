package renewals

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ironseal/internal/app/requests/signing"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/client"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/path"
)

// Change is the state of one authority's change-over.
type Change struct {
	Handle   string    `json:"authority"`
	Old      string    `json:"old"`
	New      string    `json:"new"`
	Day      time.Time `json:"switch_day"`
	OldEnds  time.Time `json:"old_ends"`
	Prepared []string  `json:"prepared"` // certificates that wait for the day
	Missing  []string  `json:"missing"`  // certificates that serve and have none prepared
	Losing   []Losing  `json:"losing"`   // clients that would be lost on the day
}

// Losing is a kind of client that accepts what serves today and would refuse what is prepared
// in its place.
type Losing struct {
	Certificate string `json:"certificate"`
	client.Answer
}

// ChangeOf is the state of an authority's change-over.
func ChangeOf(ctx context.Context, e *estate.Estate, handle string) (Change, error) {
	g, old, err := changing(ctx, e, handle)
	if err != nil {
		return Change{}, err
	}
	out := Change{Handle: handle, Old: old.Name(), New: g.Name(), Day: g.SwitchDay, OldEnds: old.Certificate.NotAfter,
		Prepared: []string{}, Missing: []string{}}
	waiting, err := e.ReadCertificates(e.Records.CertificatesOf(ctx, handle, g.Number))
	if err != nil {
		return out, err
	}
	serving, err := servingBefore(ctx, e, g)
	if err != nil {
		return out, err
	}
	today := map[int64]estate.CertificateRecord{}
	for _, c := range serving {
		today[c.Record.ID] = c
	}
	out.Losing = []Losing{}
	kinds := client.All()
	for _, c := range waiting {
		out.Prepared = append(out.Prepared, c.Title())
		if was, ok := today[c.Record.Replaces]; ok {
			out.Losing = append(out.Losing, losing(e, kinds, was, old, c, g)...)
		}
	}
	missing, err := unprepared(ctx, e, g)
	for _, c := range missing {
		out.Missing = append(out.Missing, c.Title())
	}
	return out, err
}

// losing compares, kind by kind, what serves with what is prepared in its place, each as a
// client judges it that holds the root of either.
func losing(e *estate.Estate, kinds []client.Kind, was estate.CertificateRecord, by *hierarchy.Generation,
	c estate.CertificateRecord,
	prepared *hierarchy.Generation) (out []Losing) {
	judged := func(c estate.CertificateRecord, g *hierarchy.Generation) path.Verdict {
		chain := []*cert.Certificate{c.Certificate}
		line := g.Line()
		for _, up := range line[:len(line)-1] {
			chain = append(chain, up.Certificate)
		}
		return client.Presented(chain, []*cert.Certificate{line[len(line)-1].Certificate}, path.Question{Now: e.Now()})
	}
	for _, a := range client.Losing(kinds, judged(was, by), judged(c, prepared)) {
		out = append(out, Losing{Certificate: c.Title(), Answer: a})
	}
	return out
}

// unprepared lists the certificates that serve and have none prepared in their
// place.
func unprepared(ctx context.Context, e *estate.Estate, prepared *hierarchy.Generation) ([]estate.CertificateRecord,
	error) {
	waiting, err := e.Records.CertificatesOf(ctx, prepared.Authority.Handle, prepared.Number)
	if err != nil {
		return nil, err
	}
	ready := map[int64]bool{}
	for _, c := range waiting {
		ready[c.Replaces] = true
	}
	serving, err := servingBefore(ctx, e, prepared)
	return slices.DeleteFunc(serving, func(c estate.CertificateRecord) bool { return ready[c.Record.ID] }), err
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
		return nil, nil, fault.New(fault.NotFound, "authority %s: nothing is prepared",
			handle).On(fault.Authority.Named("%s", handle)).
			Then(advice.To("renew it, or apply elsewhere, with a switch day", advice.SetSwitchDay))
	}
	return prepared, g.Authority.Current(), nil
}

// servingBefore lists the certificates of end entities that the generations
// before one signed and that still serve.
func servingBefore(ctx context.Context, e *estate.Estate,
	prepared *hierarchy.Generation) ([]estate.CertificateRecord, error) {
	var out []estate.CertificateRecord
	for _, g := range prepared.Authority.Generations {
		if g == prepared {
			break
		}
		list, err := e.ReadCertificates(e.Records.CertificatesOf(ctx, g.Authority.Handle, g.Number))
		if err != nil {
			return nil, err
		}
		for _, c := range list {
			if !c.IsAuthority() && !c.OneUse() && (c.State == lifecycle.Valid || c.State == lifecycle.Expiring) {
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
	return estate.Snapshot(ctx, e, func(e *estate.Estate) ([]signing.Planned, error) {
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
	return planAll(ctx, e, todo, ReissueAsk{Waivers: waivers}, g)
}

// Switch lets the prepared generation, and what it signed, serve from now on.
// Before the switch day it needs early. waived is what stood against it, by code, with the
// reasons.
// still is asked again inside the act, and may refuse; nil where nothing is to be asked.
func Switch(ctx context.Context, e *estate.Estate, handle string, early bool, waived map[finding.Code]string,
	still func(snapshot *estate.Estate) error) (
	*hierarchy.Generation, journal.Head, error) {
	g, old, err := changing(ctx, e, handle)
	if err != nil {
		return nil, journal.Head{}, err
	}
	if e.Now().Before(g.SwitchDay) && !early {
		return nil, journal.Head{},
			fault.New(fault.Refused, "authority %s: the switch day is %s: wait for it", handle,
				g.SwitchDay.Format("2006-01-02")).
				On(fault.Authority.Named("%s", handle)).Then(advice.To("or switch before it", advice.SwitchEarly))
	}
	if err := serves(g); err != nil {
		return nil, journal.Head{}, err
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		h, err := tx.Hierarchy()
		if err != nil {
			return nil, err
		}
		now := h.Generation(g.Name())
		if now == nil || now.SwitchDay.IsZero() {
			return nil, fault.New(fault.Changed, "%s does not wait for its switch day any more", g.Label())
		}
		err = serves(now)
		if err == nil && still != nil {
			err = still(e.InTx(tx))
		}
		if err != nil {
			return nil, err
		}
		return []event.Record{event.On(handle, event.Switched{From: old.Name(), To: g.Name(), Waived: waived})}, tx.
			Activate(g)
	})
	return g, head, err
}

// serves refuses a generation that is to sign, where its key may be compromised or it was revoked. An
// incident that is over does not make a key sound again.
func serves(g *hierarchy.Generation) error {
	up := g.RevokedAbove()
	switch {
	case g.Stopped != "":
		return fault.New(fault.Changed, "%s grants nothing: %s", g.Label(), g.Stopped).On(fault.Authority.Named("%s",
			g.Name())).
			Then(advice.To("it signs again only where that was a false alarm", advice.ListIncidents))
	case up == g:
		return fault.New(fault.Changed, "%s was revoked on %s: what is revoked stays so", g.Label(),
			g.Revoked.Format("2006-01-02"))
	case up != nil:
		return fault.New(fault.Changed, "%s is below %s, which was revoked on %s", g.Label(), up.Label(),
			up.Revoked.Format("2006-01-02"))
	}
	return nil
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
		return nil, journal.Head{}, fault.New(fault.BadInput,
			"the new switch day is missing, or has passed").Then(advice.To("give it", advice.SetSwitchDay))
	case !day.Before(old.Certificate.NotAfter):
		return nil, journal.Head{}, fmt.Errorf("switch day %s: %s ends before it, on %s", day.Format("2006-01-02"),
			old.Label(), old.Certificate.NotAfter.Format("2006-01-02"))
	}
	if err := serves(old); err != nil {
		return nil, journal.Head{}, fmt.Errorf("authority %s: there is no way back: %w", handle, err)
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		h, err := tx.Hierarchy()
		if err != nil {
			return nil, err
		}
		a := h.Find(handle)
		if a.Prepared() != nil || a.Current().Number != g.Number {
			return nil, fault.New(fault.Changed, "authority %s was renewed or switched meanwhile", handle)
		}
		if err := serves(h.Generation(old.Name())); err != nil {
			return nil, err
		}
		return []event.Record{event.On(handle, event.SwitchedBack{From: g.Name(), To: old.Name(),
				Until: estate.DayOf(day)})},
			tx.Postpone(g, day)
	})
	return old, head, err
}
