package overview

import (
	"context"
	"slices"
	"time"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/renewal"
	"ironseal/pki/span"
)

// publish signs the lists that are due.
func publish(words string) advice.Step { return advice.To(words, advice.PublishLists, "folder", "DIR") }

// DueWithin lists everything that ends, goes stale or should be renewed until a span from now,
// soonest first: certificates and authorities. Revocation lists whose next publication is late, and
// incidents that are open, are due now.
func DueWithin(ctx context.Context, e *estate.Estate, within span.Span) ([]renewals.Due, error) {
	out, err := renewals.DueWithin(ctx, e, within)
	if err != nil {
		return nil, err
	}
	if out, err = withoutMachines(ctx, e, out); err != nil {
		return nil, err
	}
	lists, _, err := listsOf(ctx, e)
	if err != nil {
		return nil, err
	}
	for _, l := range lists {
		late := l.Late(e)
		if !l.Unpublished() && late.After(e.Now()) { // else every list that was just published would be due
			continue
		}
		d := renewals.Due{Day: l.Until, Title: l.Title(), What: "the list goes stale", Holders: []string{},
			Next: publish("")}
		switch {
		case l.Until.IsZero():
			d.Day, d.What = e.Now(), "there is no list"
		case l.Unable != "":
			if d.What += "; its key is elsewhere"; l.Why != "" {
				d.Day, d.What = e.Now(), l.Why+"; its key is elsewhere"
			}
			d.Next = advice.To("", advice.ImportLists)
		case l.Unpublished():
			d.Day, d.What = e.Now(), "to be published: "+l.Why
		case late.Before(d.Day):
			d.Day, d.What = late, "the next list is due"
		}
		out = append(out, d)
	}
	later, err := revoking.Scheduled(ctx, e)
	if err != nil {
		return nil, err
	}
	for _, l := range later {
		if l.Waits == "" {
			out = append(out, renewals.Due{Day: l.From, Title: l.Title, Serial: l.Serial, Holders: []string{},
				What: "to be revoked: its successor is in use", Next: advice.To("", advice.RevokeReplaced)})
		}
	}
	open, err := compromise.Incidents(ctx, e.Records)
	if err != nil {
		return nil, err
	}
	for _, i := range open {
		if i.Open() {
			out = append(out, renewals.Due{Day: i.Opened, Title: i.Name, What: "an incident about " + i.About +
				" is open",
				Holders: []string{}, Next: advice.To("", advice.ShowIncident, "incident", i.Name)})
		}
	}
	slices.SortStableFunc(out, func(a, b renewals.Due) int { return a.Day.Compare(b.Day) })
	return out, nil
}

// withoutMachines leaves out what machines renew by themselves, and adds what they should have renewed and did not.
func withoutMachines(ctx context.Context, e *estate.Estate, list []renewals.Due) (out []renewals.Due, err error) {
	known, err := fleet.Enrolments(ctx, e.Records)
	if err != nil || len(known) == 0 {
		return list, err
	}
	for _, d := range list {
		renews := ""
		if d.Line != nil {
			renews = known.Renews(d.Line, e.Now())
		}
		if renews == "" {
			out = append(out, d)
		}
	}
	late, err := fleet.LateOnes(ctx, e)
	for _, c := range late {
		holders, err := e.Records.Holders(ctx, c.ID)
		if err != nil {
			return nil, err
		}
		out = append(out, renewals.Due{Day: renewal.LateFrom(c.NotBefore, c.Until), Title: c.Title, Serial: c.Serial,
			What: "its machine should have renewed it, and did not", Holders: append([]string{}, holders...),
			Next: advice.To("", advice.ShowCertificate, "certificate", cert.ShortSerial(c.Serial))})
	}
	return out, err
}

// listsOf are the lists of which there is something to tell. Before the first publication there are
// none; first then says that certificates name an address at which a list could be signed here.
func listsOf(ctx context.Context, e *estate.Estate) (lists []publishing.Due, first bool, err error) {
	p, err := publishing.PlanLists(ctx, e, publishing.Ask{})
	if err != nil {
		return nil, false, err
	}
	if !slices.ContainsFunc(p.Due, func(d publishing.Due) bool { return d.Now.Number != 0 }) {
		able := slices.ContainsFunc(p.Due, func(d publishing.Due) bool { return d.Unable == "" })
		return nil, able && e.Settings.Publication.Address != "", nil
	}
	lists = slices.DeleteFunc(p.Due, func(d publishing.Due) bool { return d.Now.Number == 0 && d.Unable != "" })
	return lists, false, nil
}

// ListLine is a revocation list in a status: one that is to be signed, or goes stale soon.
type ListLine struct {
	Title string    `json:"list"`
	Until time.Time `json:"fresh_until,omitzero"`
	Why   string    `json:"why"`
}

// revocations adds lists and incidents to a status.
func (s *Status) revocations(ctx context.Context, e *estate.Estate) error {
	s.Lists, s.Incidents = []ListLine{}, []string{}
	lists, first, err := listsOf(ctx, e)
	if s.firstLists = first; err != nil {
		return err
	}
	for _, l := range lists {
		stale := !l.Until.IsZero() && e.Now().After(l.Until)
		if l.Why != "" && l.Unable == "" || stale {
			why := l.Why
			if stale {
				why = "it is stale"
			}
			s.Lists = append(s.Lists, ListLine{l.Title(), l.Until, why})
		}
	}
	if s.Restored, err = restored(ctx, e); err != nil {
		return err
	}
	s.open, err = compromise.Incidents(ctx, e.Records)
	for _, i := range s.open {
		if i.Open() {
			s.Incidents = append(s.Incidents, i.Name)
		}
	}
	return err
}

// restored reports whether this estate was restored from a backup, and has neither imported nor signed a
// list since: what was revoked after the backup is not known yet.
func restored(ctx context.Context, e *estate.Estate) (bool, error) {
	last, there, err := e.Records.DerivedOf(ctx, event.Restorations, "")
	if err != nil || !there {
		return false, err
	}
	have, err := inventory.Known(ctx, e.Records)
	return have.Last() < last.Seq, err
}

// urgent lists what has to be done first: open incidents, lists that are due.
func (s *Status) urgent() (out advice.List) {
	if s.Restored {
		out = append(out, advice.To("learn what was revoked after the backup, from the folder that is served",
			advice.ImportLists, "file", "DIR"))
	}
	for _, i := range s.Incidents {
		out = append(out, advice.To("continue with the incident", advice.ShowIncident, "incident", i))
	}
	if len(s.Lists) > 0 {
		out = append(out, publish("sign the revocation lists that are due"))
	}
	return out
}
