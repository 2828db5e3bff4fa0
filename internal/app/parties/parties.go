// Package parties keeps who holds certificates of ours and who must trust a set: machines,
// devices and people.
//
// Parties are in the journal, and nowhere else: what was last said of each is what counts.
// So nothing about them can be changed without being told, and there is no second truth.
package parties

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/probe"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/strict"
	"ironseal/pki/trust"
)

// List reads all parties, by name.
func List(ctx context.Context, e *estate.Estate) ([]trust.Party, error) {
	known, err := all(ctx, e.Records)
	var out []trust.Party
	for _, p := range known {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b trust.Party) int { return strings.Compare(a.Name, b.Name) })
	return out, err
}

// Entry is a party, and since when it is on record.
type Entry struct {
	trust.Party
	Seq   int64     // the entry of the journal that put it there
	After time.Time // when another party of its name was removed; zero for never
}

// Has reports whether an endpoint is on record of the party.
func (p Entry) Has(endpoint string) bool { return slices.Contains(p.Endpoints, endpoint) }

// All reads all parties, by name, with since when each is on record.
func All(ctx context.Context, e *estate.Estate) (map[string]Entry, error) {
	return entered(ctx, e.Records)
}

func entered(ctx context.Context, from store.DerivedReader) (map[string]Entry, error) {
	out, gone := map[string]Entry{}, map[string]time.Time{}
	if err := from.Derived(ctx, event.PartiesGone, func(name string, en journal.Entry) error {
		gone[name] = en.At.Truncate(time.Second)
		return nil
	}); err != nil {
		return nil, err
	}
	if err := from.Derived(ctx, event.PartiesSince, func(name string, en journal.Entry) error {
		out[name] = Entry{Seq: en.Seq, After: gone[strings.ToLower(name)]}
		return nil
	}); err != nil {
		return nil, err
	}
	return out, from.Derived(ctx, event.Parties, func(name string, en journal.Entry) error {
		told, err := event.As[event.PartyKept](en)
		p := out[name]
		p.Party = told.Party
		out[name] = p
		return err
	})
}

func all(ctx context.Context, from store.DerivedReader) (map[string]trust.Party, error) {
	known, err := entered(ctx, from)
	out := map[string]trust.Party{}
	for name, p := range known {
		out[name] = p.Party
	}
	return out, err
}

// Find finds a party by its name.
func Find(ctx context.Context, e *estate.Estate, name string) (trust.Party, error) {
	known, err := all(ctx, e.Records)
	if err != nil {
		return trust.Party{}, err
	}
	if p, ok := known[name]; ok {
		return p, nil
	}
	hint := ""
	if near := strict.Nearest(name, slices.Sorted(maps.Keys(known))); near != "" {
		hint = fmt.Sprintf(": did you mean %q?", near)
	}
	return trust.Party{}, fault.New(fault.NotFound, "no party is called %q%s", name, hint).On(fault.Party.Named("%s",
		name)).
		Then(advice.To("see them", advice.ListParties)) // there may be thousands
}

// Check says what is wrong with a party: with itself, or with what it names.
func Check(e *estate.Estate, p trust.Party) error {
	if err := p.Check(); err != nil {
		return err
	}
	fail := func(err error) error { return fmt.Errorf("party %s: %w", p.Name, err) }
	for _, typed := range p.Endpoints {
		if _, err := probe.ParseTarget(typed); err != nil {
			return fail(err)
		}
	}
	for _, name := range p.Platforms {
		if _, err := anchors.Platform(e, name); err != nil {
			return fail(err)
		}
	}
	for _, name := range p.Sets {
		if sets := e.DataNames("set"); name != trust.Own && !slices.Contains(sets, name) {
			return fail(fmt.Errorf("no trust set is called %q; there are: %s", name,
				strings.Join(append([]string{trust.Own}, sets...), ", ")))
		}
	}
	if p.Receiver != "" {
		if _, err := e.Receiver(p.Receiver); err != nil {
			return fail(err)
		}
	}
	if p.Template != "" {
		if _, err := e.Template(p.Template); err != nil {
			return fail(err)
		}
	}
	return nil
}

// Add puts parties on record that are not there yet, all or none.
func Add(ctx context.Context, e *estate.Estate, list []trust.Party) (journal.Head, error) {
	return keep(ctx, e, list, func(p trust.Party, there bool) error {
		if there {
			return fault.New(fault.Refused, "party %s is there already", p.Name).On(fault.Party.Named("%s", p.Name)).
				Then(advice.To("change it", advice.ChangeParty, "party", p.Name))
		}
		return nil
	})
}

// Import puts parties on record, and changes those that are there to what the table says.
// Those that are as it says stay as they are.
func Import(ctx context.Context, e *estate.Estate, list []trust.Party) (journal.Head, error) {
	return keep(ctx, e, list, func(trust.Party, bool) error { return nil })
}

// Change replaces a party, unless it was changed meanwhile.
func Change(ctx context.Context, e *estate.Estate, before, after trust.Party) (journal.Head, error) {
	if err := Check(e, after); err != nil {
		return journal.Head{}, err
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		known, err := all(ctx, tx)
		if err != nil {
			return nil, err
		}
		if now, ok := known[before.Name]; !ok || !reflect.DeepEqual(now, before) {
			return nil, fault.New(fault.Changed, "party %s was changed meanwhile", before.Name)
		}
		return []event.Record{kept(after)}, nil
	})
}

// ErrNothing says that everything is as it should be already.
var ErrNothing = errors.New("nothing to change")

func keep(ctx context.Context, e *estate.Estate, list []trust.Party,
	may func(p trust.Party, there bool) error) (journal.Head, error) {
	for _, p := range list {
		if err := Check(e, p); err != nil {
			return journal.Head{}, err
		}
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		known, err := all(ctx, tx)
		if err != nil {
			return nil, err
		}
		lower := map[string]string{}
		for name := range known {
			lower[strings.ToLower(name)] = name
		}
		var entries []event.Record
		for _, p := range list {
			p = filled(p)
			now, there := known[p.Name]
			if other, clash := lower[strings.ToLower(p.Name)]; clash && !there {
				return nil, fmt.Errorf("party %s: %s is there already: machines write their names in either case, so "+
					"their reports could be mistaken for each other: choose another name", p.Name, other)
			}
			lower[strings.ToLower(p.Name)] = p.Name
			if err := may(p, there); err != nil {
				return nil, err
			}
			if there && reflect.DeepEqual(now, p) {
				continue
			}
			entries = append(entries, kept(p))
		}
		if len(entries) == 0 {
			return nil, ErrNothing
		}
		return entries, nil
	})
}

// filled has empty lists if none exist, as those have that were read.
func filled(p trust.Party) trust.Party {
	strict.Fill(&p)
	return p
}

// kept is the event that puts a party on record as it is now.
func kept(p trust.Party) event.Record { return event.On(p.Name, event.PartyKept{Party: filled(p)}) }

// CopyTo puts the parties of one estate on record in another, as they are: for a rehearsal,
// where a change-over can be practised over them.
func CopyTo(ctx context.Context, from, to *estate.Estate) error {
	list, err := List(ctx, from)
	if err != nil || len(list) == 0 {
		return err
	}
	_, err = to.Act(ctx, func(store.Tx) ([]event.Record, error) {
		var entries []event.Record
		for _, p := range list {
			entries = append(entries, kept(p))
		}
		return entries, nil
	})
	return err
}

// Move lets all parties that hold one set hold another in its place, inside an act. It gives the entries of
// that, and who was moved.
func Move(ctx context.Context, tx store.Tx, from, to string) (entries []event.Record, moved []event.Moved, err error) {
	known, err := all(ctx, tx)
	if err != nil {
		return nil, nil, err
	}
	moved = []event.Moved{}
	for _, name := range slices.Sorted(maps.Keys(known)) {
		p := known[name]
		if !slices.Contains(p.Sets, from) {
			continue
		}
		m := event.Moved{Party: name, Before: p.Sets, After: inPlace(p.Sets, from, to)}
		p.Sets = m.After
		entries, moved = append(entries, kept(p)), append(moved, m)
	}
	return entries, moved, nil
}

// MoveBack undoes moves, inside an act. A party whose sets were not changed since gets back just what it
// had; of another the one set takes the other's place again. Those that are on record no more are left out.
func MoveBack(ctx context.Context, tx store.Tx, from, to string, moves []event.Moved) (entries []event.Record,
	moved []string, err error) {
	known, err := all(ctx, tx)
	if err != nil {
		return nil, nil, err
	}
	moved = []string{}
	for _, m := range moves {
		p, there := known[m.Party]
		switch {
		case there && m.Before != nil && slices.Equal(p.Sets, m.After):
			p.Sets = m.Before
		case there && slices.Contains(p.Sets, from):
			p.Sets = inPlace(p.Sets, from, to)
			if slices.Contains(m.Before, from) { // it held both
				p.Sets = append(p.Sets, from)
			}
		default:
			continue
		}
		entries, moved = append(entries, kept(p)), append(moved, m.Party)
	}
	return entries, moved, nil
}

// inPlace has one name in place of another, once.
func inPlace(list []string, from, to string) []string {
	out := []string{}
	for _, name := range list {
		if name == from {
			name = to
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Remove takes parties out. What they hold stays on record.
func Remove(ctx context.Context, e *estate.Estate, names []string) (journal.Head, error) {
	for _, n := range names {
		if _, err := Find(ctx, e, n); err != nil {
			return journal.Head{}, err
		}
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		known, err := all(ctx, tx)
		if err != nil {
			return nil, err
		}
		var entries []event.Record
		for _, n := range names {
			if _, ok := known[n]; !ok {
				return nil, fault.New(fault.Changed, "party %s was removed meanwhile", n)
			}
			delete(known, n)
			entries = append(entries, event.On(n, event.PartyRemoved{}))
		}
		return entries, nil
	})
}
