package anchors

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/journal"
	"ironseal/pki/kit"
	"ironseal/pki/trust"
)

// What machines report is in the journal, and nowhere else: it cannot be changed there
// without being told.

const reportAct = "report roots"

// Record takes reports of kits' scripts in.
func Record(ctx context.Context, e *estate.Estate, list []kit.Report) (journal.Head, error) {
	return e.Act(ctx, func(store.Tx) ([]journal.Entry, error) {
		var out []journal.Entry
		for _, r := range list {
			out = append(out, estate.Entry(reportAct, r.Host, "platform", r.Platform, "store", r.Store, "act", r.Act,
				"sha256", r.SHA256, "missing", append([]string{}, r.Missing...), "when", r.When.UTC()))
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
	type store struct{ host, platform, store string }
	places := map[store]*Place{}
	err := e.Records.EntriesOf(ctx, reportAct, func(en journal.Entry) error {
		var r kit.Report
		if err := json.Unmarshal([]byte(en.Detail), &r); err != nil {
			return fmt.Errorf("journal J%d: %w", en.Seq, err)
		}
		key := store{en.Object, r.Platform, r.Store}
		p := places[key]
		if p == nil {
			p = &Place{Host: en.Object, Platform: r.Platform, Store: r.Store, Told: map[string]Told{}}
			places[key] = p
		}
		if at := en.At.Truncate(time.Second); r.When.After(at) { // its clock is ahead: what comes later is later
			r.When = at
		}
		if r.When.After(p.When) {
			p.When = r.When
		}
		for _, sum := range r.SHA256 {
			if !r.When.Before(p.Told[sum].When) {
				p.Told[sum] = Told{!slices.Contains(r.Missing, sum), r.When, en.Seq}
			}
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
