package authorities

import (
	"context"
	"fmt"
	"time"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
)

// Retire ends an authority's signing. It continues with revocation until the last
// certificate that it issued ends.
func Retire(ctx context.Context, e *estate.Estate, handle, because string, destroy bool) (last time.Time,
	head journal.Head,
	err error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return last, head, err
	}
	g, err := estate.FindGeneration(h, handle)
	if err != nil {
		return last, head, err
	}
	a := g.Authority
	if last, err = e.Records.LastOf(ctx, a.Handle); err != nil {
		return last, head, err
	}
	if err := noIncident(ctx, e.Records, a); err != nil {
		return last, head, err
	}
	if destroy {
		return last, head, destroyKeys(ctx, e, a, last, because)
	}
	if !a.Retired.IsZero() {
		return last, head, fmt.Errorf("authority %s: it was retired already, on %s", a.Handle,
			a.Retired.Format("2006-01-02"))
	}
	if err := noneBelow(h, a); err != nil {
		return last, head, err
	}
	head, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		if err := stillRetirable(ctx, tx, a.Handle); err != nil {
			return nil, err
		}
		return []event.Record{event.On(a.Handle, event.AuthorityRetired{Because: because,
			Last: stampOrNone(last)})}, tx.Retire(a.Handle, tx.Now())
	})
	return last, head, err
}

// ReinstateAct is what the journal calls the undoing of a retirement.
const ReinstateAct = "reinstate authority"

// Reinstate undoes a retirement. An authority whose key was destroyed, or that is below one that signs no
// more, stays retired.
func Reinstate(ctx context.Context, e *estate.Estate, handle, because string) (head journal.Head, err error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return head, err
	}
	if err := reinstatable(e, h, handle); err != nil {
		return head, err
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := tx.Hierarchy()
		if err != nil {
			return nil, err
		}
		if err := reinstatable(e, now, handle); err != nil {
			return nil, fault.New(fault.Changed, "the record changed meanwhile: %w", err)
		}
		return []event.Record{event.On(handle, event.AuthorityReinstated{Because: because})}, tx.Reinstate(handle)
	})
}

func reinstatable(e *estate.Estate, h hierarchy.Hierarchy, handle string) error {
	g, err := estate.FindGeneration(h, handle)
	if err != nil {
		return err
	}
	a := g.Authority
	switch {
	case a.Retired.IsZero():
		return fmt.Errorf("authority %s: it is not retired", a.Handle)
	case !a.External() && !e.Keys.Has(g.Certificate.Key):
		return fmt.Errorf("authority %s: its key was destroyed, so that it signs nothing any more", a.Handle)
	case g.RevokedAbove() != nil:
		return fmt.Errorf("authority %s: %s was revoked: renew that first", a.Handle, g.RevokedAbove().Label())
	case e.Now().After(g.Certificate.NotAfter):
		return fmt.Errorf("authority %s: its certificate ended on %s", a.Handle,
			g.Certificate.NotAfter.Format("2006-01-02"))
	case a.Parent != nil && !a.Parent.Retired.IsZero():
		return fmt.Errorf("authority %s: %s above it is retired: reinstate that first", a.Handle, a.Parent.Handle)
	}
	return nil
}

// noIncident refuses to end an authority while an incident is open about one of its keys: the
// replacements need it.
func noIncident(ctx context.Context, from store.DerivedReader, a *hierarchy.Authority) error {
	list, err := compromise.Incidents(ctx, from)
	for _, g := range a.Generations {
		for _, i := range compromise.About(list, g.Certificate.Key.Fingerprint()) {
			if err == nil && i.Open() {
				err = fault.New(fault.Changed, "authority %s: the incident %s about %s is open, and what it affects "+
					"needs replacements", a.Handle, i.Name, g.Name()).
					On(fault.Authority.Named("%s", a.Handle)).Then(advice.To("finish it first", advice.ShowIncident,
					"incident", i.Name))
			}
		}
	}
	return err
}

// stillRetirable asks again, inside the act, what was asked before: an authority below that signs, or
// an incident, may have come meanwhile.
func stillRetirable(ctx context.Context, tx store.Tx, handle string) error {
	h, err := tx.Hierarchy()
	if err != nil {
		return err
	}
	a := h.Find(handle)
	if !a.Retired.IsZero() {
		return fault.New(fault.Changed, "authority %s was retired meanwhile", handle)
	}
	if err := noneBelow(h, a); err != nil {
		return err
	}
	return noIncident(ctx, tx, a)
}

// noneBelow refuses while an authority right below one signs.
func noneBelow(h hierarchy.Hierarchy, a *hierarchy.Authority) error {
	for _, b := range h.Below(a) {
		if b.Signs() && b.Parent == a {
			return fault.New(fault.Refused, "authority %s: %s is still below it and signs: retire that first", a.Handle,
				b.Handle).
				On(fault.Authority.Named("%s", a.Handle)).
				Then(advice.To("or renew it under another", advice.RenewAuthority, "authority", b.Handle, "parent",
					"HANDLE"))
		}
	}
	return nil
}

// destroyKeys removes a retired authority's keys, once nothing that it issued is
// valid any more. That it will be done is on record before it is done.
func destroyKeys(ctx context.Context, e *estate.Estate, a *hierarchy.Authority, last time.Time, because string) error {
	switch {
	case a.Retired.IsZero():
		return fmt.Errorf("authority %s: it still signs: retire it first", a.Handle)
	case last.After(e.Now()):
		return fmt.Errorf("authority %s: the last certificate that it issued ends on %s; until then its key is "+
			"needed for revocation", a.Handle, last.Format("2006-01-02"))
	}
	for _, g := range a.Generations {
		k := g.Certificate.Key
		if !e.Keys.Has(k) {
			continue
		}
		if _, err := e.Act(ctx, func(store.Tx) ([]event.Record, error) {
			return []event.Record{event.On(g.Name(), event.KeyDestroyed{Key: fmt.Sprintf("%x", k.Fingerprint()),
				Because: because})}, nil
		}); err != nil {
			return err
		}
		if err := e.Keys.Destroy(k); err != nil {
			return fmt.Errorf("authority %s: %w", g.Label(), err)
		}
	}
	return nil
}
