// Package incidents leads from the suspicion that a key is known to someone else to the
// point where nothing depends on it any more.
//
// An incident is in the journal: when it was opened, about what, and what was affected
// then. Everything else is worked out from the records each time: whether the replacements
// are there, who has them, whether the old was revoked and published, and what endpoints
// were seen to serve. So it continues wherever it was left, whoever does the work, and no step
// is done because someone said so.
package incidents

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
	"ironseal/pki/key"
)

// Find finds an incident by its number, or the one that is open about a certificate or an
// authority.
func Find(ctx context.Context, e *estate.Estate, name string) (compromise.Incident, error) {
	list, err := compromise.Incidents(ctx, e.Records)
	if err != nil {
		return compromise.Incident{}, err
	}
	for _, i := range slices.Backward(list) {
		handle, _, _ := strings.Cut(i.About, ".g")
		if strings.EqualFold(i.Name, name) || i.Open() && (i.About == name || i.Authority && handle == name) {
			return i, nil
		}
	}
	return compromise.Incident{}, fault.New(fault.NotFound, "no incident is called %q", name).
		On(fault.Incident.Named("%s", name)).Then(advice.To("see them", advice.ListIncidents))
}

// Open opens an incident. Whatever has the key grants nothing from that moment.
func Open(ctx context.Context, e *estate.Estate, name, because string) (compromise.Incident, journal.Head, error) {
	var out compromise.Incident
	if strings.TrimSpace(because) == "" {
		return out, journal.Head{}, fault.New(fault.BadInput, "no reason is given").Then(advice.To("say what is "+
			"suspected", advice.Because))
	}
	t, err := revoking.FindToEnd(ctx, e, name)
	if err != nil {
		return out, journal.Head{}, err
	}
	out = compromise.Incident{About: t.Title(), Serial: t.SerialHex(), Because: because,
		Certificate: fmt.Sprintf("%x", t.SHA256()), Key: fmt.Sprintf("%x", t.Key.Fingerprint())}
	if g := t.Generation; g != nil {
		out.About, out.Authority = g.Name(), true
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		known, err := compromise.Incidents(ctx, tx)
		if err != nil {
			return nil, err
		}
		for _, i := range known {
			if i.Open() && i.Key == out.Key {
				return nil, fault.New(fault.Changed, "the incident %s about %s, which has the same key, is open "+
					"since %s", i.Name, i.About,
					i.Opened.Format("2006-01-02")).On(fault.Incident.Named("%s", i.Name)).
					Then(advice.To("continue with it", advice.ShowIncident, "incident", i.Name))
			}
		}
		h, err := tx.Hierarchy() // it may have been renewed with the same key since it was found
		if err != nil {
			return nil, err
		}
		out.Name, out.Opened, out.Who = fmt.Sprintf("I%d", len(known)+1), tx.Now(), e.Env.Actor.Name
		names := []string{}
		for _, g := range withKey(h, t.Key) {
			if err := tx.Stop(g, "incident "+out.Name); err != nil {
				return nil, err
			}
			names = append(names, g.Name())
		}
		return []event.Record{event.On(out.Name, event.IncidentOpened{About: out.About, Serial: out.Serial,
			Authority: out.Authority, Certificate: out.Certificate, Key: out.Key, Because: because,
			Stopped: names})}, nil
	})
	return out, head, err
}

// withKey are the generations of all authorities that have a key.
func withKey(h hierarchy.Hierarchy, k key.Public) (out []*hierarchy.Generation) {
	for _, g := range estate.AllGenerations(h) {
		if key.Same(g.Certificate.Key, k) {
			out = append(out, g)
		}
	}
	return out
}

// Ending says how an incident ends.
type Ending struct {
	Because    string
	Unfinished bool // though steps are left
	FalseAlarm bool // the key was never lost: it may be used again
}

// Close closes an incident. What is not done yet must be passed over knowingly. The key stays
// suspected, and what has it grants nothing, unless this was a false alarm and every other incident
// about the key was one too.
func Close(ctx context.Context, e *estate.Estate, p Progress, how Ending) (journal.Head, error) {
	if strings.TrimSpace(how.Because) == "" {
		return journal.Head{}, fault.New(fault.BadInput, "no reason is given").Then(advice.To("say how it ended",
			advice.Because))
	}
	if !p.Open() {
		return journal.Head{}, fmt.Errorf("incident %s was closed already, on %s", p.Name,
			p.Closed.Format("2006-01-02"))
	}
	left := p.Undone()
	if len(left) > 0 && !how.Unfinished && !how.FalseAlarm {
		return journal.Head{}, &Unfinished{p.Name, left}
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		known, err := compromise.Incidents(ctx, tx)
		if err != nil {
			return nil, err
		}
		others := compromise.About(known, p.target.Key.Fingerprint())
		if !slices.ContainsFunc(others, func(i compromise.Incident) bool { return i.Name == p.Name && i.Open() }) {
			return nil, fault.New(fault.Changed, "incident %s was closed meanwhile", p.Name)
		}
		again := []string{}
		if how.FalseAlarm && len(others) == 1 {
			if again, err = letGo(tx, p.target.Key); err != nil {
				return nil, err
			}
		}
		return []event.Record{event.On(p.Name, event.IncidentClosed{Because: how.Because, Left: append([]string{},
			left...),
			FalseAlarm: &how.FalseAlarm, GrantAgain: again})}, nil
	})
}

// letGo lets the generations with a key grant again, those left out that were revoked.
func letGo(tx store.Tx, k key.Public) ([]string, error) {
	again := []string{}
	h, err := tx.Hierarchy()
	if err != nil {
		return nil, err
	}
	for _, g := range withKey(h, k) {
		if g.Stopped == "" || !g.Revoked.IsZero() {
			continue
		}
		if err := tx.Stop(g, ""); err != nil {
			return nil, err
		}
		again = append(again, g.Name())
	}
	return again, nil
}

// Unfinished says which steps of an incident are not done.
type Unfinished struct {
	Name string
	Left []string
}

func (u *Unfinished) Error() string {
	return fmt.Sprintf("incident %s: not done yet: %s", u.Name, strings.Join(u.Left, ", "))
}

// Unwrap gives the refusal, and how to continue.
func (u *Unfinished) Unwrap() error {
	return fault.New(fault.Refused, "the incident is not finished").On(fault.Incident.Named("%s", u.Name)).
		Then(advice.To("continue", advice.ShowIncident, "incident", u.Name))
}
