package anchors

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/journal"
	"ironseal/pki/kit"
	"ironseal/pki/trust"
)

// Record takes reports of kits' scripts in.
func Record(ctx context.Context, e *estate.Estate, list []kit.Report) (journal.Head, error) {
	return e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		var out []event.Record
		for _, r := range list {
			out = append(out, event.On(r.Host, event.RootsReported{Platform: r.Platform, Store: r.Store, Done: r.Act,
				SHA256: r.SHA256, Missing: append([]string{}, r.Missing...), When: r.When.UTC()}))
		}
		return out, nil
	})
}

// Place is a store of a machine, by what was last reported of it.
type Place struct {
	Host, Platform, Store string
	When                  time.Time
	Told                  map[string]Told // by SHA-256, in hex
}

// Told is what a store last told of one root.
type Told struct {
	Has  bool
	When time.Time // as the machine says, and no later than it was recorded
	Seq  int64     // the entry of the journal
}

// Places are the stores of all machines that reported, by host. A report that is older than
// another of the same store and root counts for nothing.
func Places(ctx context.Context, e *estate.Estate) ([]Place, error) {
	places := map[string]*Place{}
	err := e.Records.Derived(ctx, event.Reports, func(name string, en journal.Entry) error {
		r, err := event.As[event.RootsReported](en)
		if err != nil {
			return err
		}
		store := event.ReportName(en.Object, r.Platform, r.Store, "")
		p := places[store]
		if p == nil {
			p = &Place{Host: en.Object, Platform: r.Platform, Store: r.Store, Told: map[string]Told{}}
			places[store] = p
		}
		switch sum := strings.TrimPrefix(name, store); sum {
		case "":
			p.When = r.Moment(en)
		default:
			p.Told[sum] = Told{!slices.Contains(r.Missing, sum), r.Moment(en), en.Seq}
		}
		return nil
	})
	var out []Place
	for _, p := range places {
		out = append(out, *p)
	}
	slices.SortFunc(out, func(a, b Place) int {
		return strings.Compare(a.Host+"\x00"+a.Platform+"\x00"+a.Store, b.Host+"\x00"+b.Platform+"\x00"+b.Store)
	})
	return out, err
}

// Lacks are the titles of the anchors of a set that a store has not, by the last report.
func (p Place) Lacks(set trust.Set) (out []string) {
	for _, a := range set.Anchors {
		if !p.Told[fmt.Sprintf("%x", a.Certificate.SHA256())].Has {
			out = append(out, a.Certificate.Title())
		}
	}
	return out
}
