package renewals

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/hierarchy"
	"ironseal/pki/lifecycle"
	"ironseal/pki/renewal"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// Forecast computes what the authorities grant and when they must be renewed.
func Forecast(ctx context.Context, e *estate.Estate, horizon span.Span, only string) (renewal.Report, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (renewal.Report, error) {
		return forecast(ctx, e, horizon,
			only)
	})
}

func forecast(ctx context.Context, e *estate.Estate, horizon span.Span, only string) (renewal.Report, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return renewal.Report{}, err
	}
	if only != "" {
		if _, err := e.Template(only); err != nil {
			return renewal.Report{}, err
		}
	}
	outside, err := outside(ctx, e, h)
	if err != nil {
		return renewal.Report{}, err
	}
	templates, _ := e.Templates() // one that cannot be parsed is reported by estate status
	return renewal.Forecast(renewal.Question{Hierarchy: h, Templates: templates, Now: e.Now(), Horizon: horizon,
		Only: only, Outside: outside}), nil
}

// outside lists the authorities that were signed here for other estates and still
// serve: the newest of each subject.
func outside(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy) ([]renewal.Outside, error) {
	var sums [][]byte
	if err := e.Records.EachTemplate(ctx, func(sum []byte, name string, source []byte) {
		// the record is complete in itself
		t, err := template.Parse(name, []byte(strings.Replace(string(source), "based-on", "# based-on", 1)), nil)
		if err == nil && t.Makes == template.Authority {
			sums = append(sums, sum)
		}
	}); err != nil {
		return nil, err
	}
	list, err := e.ReadCertificates(e.Records.AuthoritiesByTemplates(ctx, sums))
	if err != nil {
		return nil, err
	}
	newest := map[string]renewal.Outside{}
	for _, c := range list {
		g := h.Generation(c.Record.Issuer)
		if g == nil || !c.IsAuthority() || c.State != lifecycle.Valid && c.State != lifecycle.Expiring {
			continue
		}
		if o, ok := newest[c.Subject.Folded()]; !ok || c.NotAfter.After(o.Certificate.NotAfter) {
			newest[c.Subject.Folded()] = renewal.Outside{Title: c.Title(), Certificate: c.Certificate,
				Parent: g.Authority}
		}
	}
	var out []renewal.Outside
	for _, k := range slices.Sorted(maps.Keys(newest)) {
		out = append(out, newest[k])
	}
	return out, nil
}

// Due is one thing that ends or should be done by a day.
type Due struct {
	Day     time.Time   `json:"day" doc:"when"`
	What    string      `json:"what" doc:"what happens on that day, in words"`
	Title   string      `json:"title" doc:"of what"`
	Serial  string      `json:"serial,omitempty" doc:"the certificate's serial number, in hex"`
	Holders []string    `json:"held_by" doc:"who is known to hold it"`
	Next    advice.Step `json:"-"`

	Line *estate.CertificateLine `json:"-"` // of a certificate of an end entity
}

// DueWithin lists everything that ends or should be renewed until a span from now,
// soonest first. What ended more than 30 days ago is left out.
func DueWithin(ctx context.Context, e *estate.Estate, within span.Span) ([]Due, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) ([]Due, error) { return dueWithin(ctx, e, within) })
}

func dueWithin(ctx context.Context, e *estate.Estate, within span.Span) ([]Due, error) {
	now := e.Now()
	until := within.After(now)
	report, err := Forecast(ctx, e, span.Span{}, "")
	if err != nil {
		return nil, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	out := []Due{}
	for _, a := range report.Acts {
		if !a.Day.After(until) {
			what := "should be renewed by this day: " + a.Why
			if a.Overdue {
				what = "should have been renewed: " + a.Why
			}
			d := Due{Day: a.Day, What: what, Title: a.Handle}
			if a.Outside {
				d.Next = advice.To("its estate sends the request for its renewal", advice.ListRequests)
			} else {
				d.Next = RenewStep(h.Find(a.Handle))
			}
			out = append(out, d)
		}
	}
	for _, a := range h {
		for _, g := range a.Generations {
			switch end := g.Certificate.NotAfter; {
			case !g.Revoked.IsZero(): // no one accepts it, and it need not be renewed for its end
			case !g.SwitchDay.IsZero() && !g.SwitchDay.After(until) && g.Idle() == "":
				out = append(out, Due{Day: g.SwitchDay, What: "switch day", Title: g.Name(),
					Next: advice.To("", advice.SwitchChangeOver, "authority", a.Handle)})
			case !end.After(until) && end.After(now.AddDate(0, 0, -30)):
				out = append(out, Due{Day: end, What: "ends", Title: g.Name(), Serial: g.Certificate.SerialHex(),
					Next: advice.To("", advice.Forecast)})
			}
		}
	}
	leaves, err := leavesEnding(ctx, e, until)
	if err != nil {
		return nil, err
	}
	out = append(out, leaves...)
	open, err := e.Records.Applications(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range open {
		out = append(out, Due{Day: a.Made, What: "sent, and not answered yet", Title: a.Handle,
			Holders: []string{a.Parent}, Next: advice.To("", advice.ImportAuthority, "authority", a.Handle)})
	}
	return inOrder(out), nil
}

func inOrder(list []Due) []Due {
	for i := range list {
		if list[i].Holders == nil {
			list[i].Holders = []string{}
		}
	}
	slices.SortStableFunc(list, func(a, b Due) int { return a.Day.Compare(b.Day) })
	return list
}

// leavesEnding lists the certificates of end entities that end until a moment, with
// who holds them.
func leavesEnding(ctx context.Context, e *estate.Estate, until time.Time) (out []Due, err error) {
	now := e.Now()
	list, err := e.Ending(ctx, now.AddDate(0, 0, -30), until)
	if err != nil {
		return nil, err
	}
	list = slices.DeleteFunc(list, func(c estate.CertificateLine) bool { return c.OneUse() })
	ids := make([]int64, len(list))
	for i := range list {
		ids[i] = list[i].ID
	}
	holders, err := e.Records.HoldersAmong(ctx, ids)
	if err != nil {
		return nil, err
	}
	out = make([]Due, 0, len(list))
	for i := range list {
		c := &list[i]
		d := Due{Day: c.Until, What: "ends", Title: c.Title, Serial: c.Serial, Holders: holders[c.ID], Line: c,
			Next: advice.To("", advice.RenewCertificate, "certificate", cert.ShortSerial(c.Serial))}
		if c.State == lifecycle.Expired {
			d.What = "ended"
		}
		out = append(out, d)
	}
	return out, nil
}

// RenewStep is how an authority is renewed from here: by its own key, by a
// request to a parent elsewhere, or by whoever holds its key.
func RenewStep(a *hierarchy.Authority) advice.Step {
	switch {
	case a.External():
		return advice.To("once it was renewed where its key is", advice.AdoptAuthority, "authority", a.Handle, "file",
			"FILE")
	case a.Parent != nil && a.Parent.External():
		return advice.To("", advice.ApplyAuthority, "authority", a.Handle, "file", "FILE")
	}
	return advice.To("", advice.RenewAuthority, "authority", a.Handle)
}

// CalendarOf writes what is due as calendar entries.
func CalendarOf(list []Due, now time.Time, spell func(advice.Step) string) []byte {
	var events []renewal.Event
	for _, d := range list {
		text := "Do: " + spell(d.Next)
		if len(d.Holders) > 0 {
			text += "\nHeld by: " + strings.Join(d.Holders, ", ")
		}
		events = append(events, renewal.Event{Day: d.Day, Summary: fmt.Sprintf("%s: %s", d.Title, d.What), Text: text,
			Key: d.Title + "\x00" + d.Serial + "\x00" + d.What})
	}
	return renewal.Calendar(events, now)
}
