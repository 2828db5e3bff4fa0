package rollover

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"ironseal/internal/app/parties"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/trust"
)

// A change-over from one trust set to another is planned, switched and cancelled in the
// journal: what was last said of a set counts.

// Sets is a change-over from a set to another.
type Sets struct {
	From     string    `json:"from"`
	To       string    `json:"to"`
	Day      time.Time `json:"day"`
	Switched bool      `json:"switched"`

	moved []event.Moved // when it was switched
}

// planned finds the change-over of a set; nil if none exists.
func planned(ctx context.Context, from store.DerivedReader, set string) (*Sets, error) {
	en, there, err := from.DerivedOf(ctx, event.ChangeOvers, set)
	if err != nil || !there {
		return nil, err
	}
	told, err := event.As[event.ChangeOverSwitched](en) // a plan has the same fields
	if err != nil {
		return nil, err
	}
	if told.Moved == nil { // an earlier version told the names alone
		for _, name := range told.Parties {
			told.Moved = append(told.Moved, event.Moved{Party: name})
		}
	}
	return &Sets{From: set, To: told.To, Day: told.Day, Switched: en.Act == told.Act(), moved: told.Moved}, nil
}

// PlanSets records that the parties of one set will hold another from a day on.
func PlanSets(ctx context.Context, e *estate.Estate, from, to string, day time.Time) (journal.Head, error) {
	old, err := anchors.Set(ctx, e, from)
	if err != nil {
		return journal.Head{}, err
	}
	next, err := anchors.Set(ctx, e, to)
	if err != nil {
		return journal.Head{}, err
	}
	if leave, learn := differences(old, next); len(leave)+len(learn) == 0 {
		return journal.Head{}, fmt.Errorf("trust set %s: %s has the same anchors: there is nothing to change over",
			from, to)
	}
	if !day.After(e.Now()) {
		return journal.Head{}, fmt.Errorf("switch day %s: it has passed: give one that is to come",
			day.Format("2006-01-02"))
	}
	if end, which := firstEnd(old, next); !end.IsZero() && !day.Before(end) {
		return journal.Head{}, fmt.Errorf("switch day %s: %s ends before it, on %s", day.Format("2006-01-02"), which,
			end.Format("2006-01-02"))
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		if p, err := planned(ctx, tx, from); err != nil {
			return nil, err
		} else if p != nil && !p.Switched {
			return nil, fault.New(fault.Refused, "trust set %s: a change-over to %s is planned already", from, p.To).
				On(fault.TrustSet.Named("%s", from)).Then(advice.To("cancel it", advice.BackChangeOver, "authority",
				from))
		}
		return []event.Record{event.On(from, event.ChangeOverPlanned{To: to, Day: day.UTC()})}, nil
	})
}

// differences are the anchors that leave and those that come.
func differences(old, next trust.Set) (leave, learn []trust.Anchor) {
	for _, a := range old.Anchors {
		if next.Find(a.Certificate) == nil {
			leave = append(leave, a)
		}
	}
	for _, a := range next.Anchors {
		if old.Find(a.Certificate) == nil {
			learn = append(learn, a)
		}
	}
	return leave, learn
}

// firstEnd is when the first of the anchors that leave ends.
func firstEnd(old, next trust.Set) (end time.Time, which string) {
	leave, _ := differences(old, next)
	for _, a := range leave {
		if c := a.Certificate; end.IsZero() || c.NotAfter.Before(end) {
			end, which = c.NotAfter, c.Title()
		}
	}
	return end, which
}

// ofSets tells how a change-over from a set to another stands.
func ofSets(ctx context.Context, e *estate.Estate, s *Sets) (p Progress, err error) {
	p.begin()
	p.Sets = s
	old, err := anchors.Set(ctx, e, s.From)
	if err != nil {
		return p, err
	}
	next, err := anchors.Set(ctx, e, s.To)
	if err != nil {
		return p, err
	}
	p.Handle, p.Old, p.New, p.Day = s.From, s.From, s.To, s.Day
	p.Prepared, p.Missing = []string{}, []string{}
	p.OldEnds, _ = firstEnd(old, next)
	var leave []trust.Anchor
	leave, p.needs = differences(old, next)
	for _, a := range p.needs {
		p.Learn = append(p.Learn, a.Certificate.Title())
	}
	known, err := evidence(ctx, e)
	if err != nil {
		return p, err
	}
	if p.all, err = parties.List(ctx, e); err != nil {
		return p, err
	}
	p.sets = map[string]trust.Set{s.From: old}
	for _, x := range p.all {
		if slices.Contains(x.Sets, s.From) {
			p.Parties = append(p.Parties, x.Assess(p.needs, known[x.Name]))
		}
	}
	return p, p.judgeLeaving(ctx, e, leave)
}

// judgeLeaving looks for servers on record whose certificates depend on an anchor that leaves:
// whoever has moved refuses them.
func (p *Progress) judgeLeaving(ctx context.Context, e *estate.Estate, leave []trust.Anchor) error {
	if len(p.Parties) == 0 {
		return nil
	}
	gone := trust.Set{Anchors: leave}
	hang := map[string][]string{} // servers, by the title of the anchor
	for _, server := range p.all {
		certificates, err := e.ReadCertificates(e.Records.CertificatesHeldBy(ctx, server.Name))
		if err != nil {
			return err
		}
		for _, c := range certificates {
			if !c.State.Serves() || c.IsAuthority() {
				continue
			}
			line, err := e.Line(ctx, c)
			if err != nil {
				return err
			}
			if len(line) == 0 || gone.Find(line[len(line)-1]) == nil {
				continue
			}
			if root := line[len(line)-1].Title(); !slices.Contains(hang[root], server.Name) {
				hang[root] = append(hang[root], server.Name)
			}
		}
	}
	for _, root := range slices.Sorted(maps.Keys(hang)) {
		p.Breaks = append(p.Breaks, trust.Break{Clients: names(p.Parties), Servers: hang[root],
			Why: "what they serve depends on " + root + ", which leaves the set"})
	}
	return nil
}

// SwitchSets moves every party from the one set to the other, unless one is not ready and that
// is not waived, all in one act.
func SwitchSets(ctx context.Context, e *estate.Estate, set string, early bool,
	waivers []finding.Waiver) (moved []string,
	head journal.Head, err error) {
	p, err := Of(ctx, e, set)
	if err != nil {
		return nil, head, err
	}
	list, err := p.Findings().Waive(0, waivers)
	if err != nil {
		return nil, head, err
	}
	if bad := list.Refusing(); len(bad) > 0 {
		return nil, head, &issue.Refused{About: "trust set " + set, Findings: bad}
	}
	if e.Now().Before(p.Day) && !early {
		return nil, head, fault.New(fault.Refused, "trust set %s: the switch day is %s: wait for it", set,
			p.Day.Format("2006-01-02")).
			On(fault.TrustSet.Named("%s", set)).Then(advice.To("or switch before it", advice.SwitchEarly))
	}
	head, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := planned(ctx, tx, set)
		if err != nil {
			return nil, err
		}
		if now == nil || now.Switched || now.To != p.New {
			return nil, fault.New(fault.Changed, "the change-over of %s was changed meanwhile", set)
		}
		if err := stillReady(ctx, e.InTx(tx), "trust set "+set, set, waivers); err != nil {
			return nil, err
		}
		entries, moves, err := parties.Move(ctx, tx, set, p.New)
		moved = []string{}
		for _, m := range moves {
			moved = append(moved, m.Party)
		}
		if err == nil && !slices.Equal(moved, names(p.Parties)) {
			return nil, fault.New(fault.Changed, "the parties that hold %s were changed meanwhile", set)
		}
		return append(entries, event.On(set, event.ChangeOverSwitched{To: p.New, Day: p.Day, Parties: moved,
			Moved:  moves,
			Waived: estate.WaivedCodes(list)})), err
	})
	return moved, head, err
}

// BackSets takes a change-over back: one that is planned is forgotten, and from one that was
// switched the parties that were moved go back.
func BackSets(ctx context.Context, e *estate.Estate, set string) (moved []string, head journal.Head, err error) {
	head, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := planned(ctx, tx, set)
		if err != nil {
			return nil, err
		}
		if now == nil {
			return nil, none(set)
		}
		var entries []event.Record
		if now.Switched {
			if entries, moved, err = parties.MoveBack(ctx, tx, now.To, set, now.moved); err != nil {
				return nil, err
			}
		}
		return append(entries, event.On(set, event.ChangeOverCancelled{Parties: append([]string{}, moved...)})), nil
	})
	return moved, head, err
}

func none(name string) error {
	return fault.New(fault.NotFound, "%s: no change-over is planned of a trust set with this name, and it is not "+
		"an authority with a prepared generation", name).
		Then(advice.To("plan one", advice.PlanChangeOver, "authority", "SET", "to", "SET", "day", advice.Asked))
}
