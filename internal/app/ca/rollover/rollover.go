// Package rollover moves anchors over the parties that must trust them: who has to learn a
// new root before the first certificate under it is served, who has, and what would break if
// it were switched now.
//
// What parties hold is taken from the reports of kits' scripts, from looks at endpoints and from what
// someone confirmed. Every store and every endpoint of a party must hold a root. Nothing is assumed of a
// party of which nothing is known.
package rollover

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/client"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/path"
	"ironseal/pki/trust"
)

// Progress is what was done in a change-over and what is left, party by party.
type Progress struct {
	renewals.Change
	Learn   []string               `json:"learn"`   // titles of the roots that parties must hold before the switch
	Parties []trust.PartyReadiness `json:"parties"` // those that must trust what changes
	Breaks  []trust.Break          `json:"breaks"`  // what would fail if it were switched now
	Unknown []string               `json:"unknown"` // for which nothing is prepared: their effect is unknown
	Sets    *Sets                  `json:"sets"`    // of a change from a set to another; nil for an authority's

	needs []trust.Anchor
	sets  map[string]trust.Set
	all   []trust.Party
}

// Of is the progress of an authority's change-over.
func Of(ctx context.Context, e *estate.Estate, handle string) (Progress, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (Progress, error) { return of(ctx, e, handle) })
}

func of(ctx context.Context, e *estate.Estate, handle string) (p Progress, err error) {
	p.begin()
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return p, err
	}
	if s, err := planned(ctx, e.Records, handle); err != nil {
		return p, err
	} else if s != nil {
		return ofSets(ctx, e, s)
	}
	if _, err := estate.FindGeneration(h, handle); err != nil && slices.Contains(e.DataNames("set"), handle) {
		return p, none(handle)
	}
	if p.Change, err = renewals.ChangeOf(ctx, e, handle); err != nil {
		return p, err
	}
	old, prepared := h.Generation(p.Old), h.Generation(p.New)
	was, will := top(old), top(prepared)
	if was.Certificate.SHA256() == will.Certificate.SHA256() {
		return p, nil // the root stays: no one has to learn anything
	}
	p.needs = []trust.Anchor{{Certificate: will.Certificate, From: will.Name(), Purposes: trust.Purposes()}}
	p.Learn = append(p.Learn, will.Certificate.Title())
	if err := p.stand(ctx, e, was); err != nil {
		return p, err
	}
	if len(p.Parties) > 0 {
		p.Unknown = append(slices.Clone(p.Missing), unmoved(h, old)...)
	}
	return p, p.judge(ctx, e, old, prepared)
}

// unmoved are the authorities below a generation that will be left which have nothing below another yet.
func unmoved(h hierarchy.Hierarchy, old *hierarchy.Generation) (out []string) {
	for _, a := range h {
		if g := a.Generations[len(a.Generations)-1]; g.Issuer == old && g.RevokedAbove() == nil && a.Retired.IsZero() {
			out = append(out, g.Certificate.Title())
		}
	}
	return out
}

// begin has empty lists, which JSON tells from none.
func (p *Progress) begin() {
	p.Learn, p.Parties, p.Breaks, p.Unknown = []string{}, []trust.PartyReadiness{}, []trust.Break{}, []string{}
}

func top(g *hierarchy.Generation) *hierarchy.Generation {
	line := g.Line()
	return line[len(line)-1]
}

// stand gathers the parties that trust the root that is left, and how each stands.
func (p *Progress) stand(ctx context.Context, e *estate.Estate, was *hierarchy.Generation) (err error) {
	if p.all, err = parties.List(ctx, e); err != nil {
		return err
	}
	known, err := evidence(ctx, e)
	if err != nil {
		return err
	}
	p.sets = map[string]trust.Set{}
	for _, x := range p.all {
		if relies, err := p.relies(ctx, e, x, was.Certificate); err != nil {
			return err
		} else if relies {
			p.Parties = append(p.Parties, x.Assess(p.needs, known[x.Name]))
		}
	}
	return nil
}

// relies reports whether a party must hold a set in which a root is.
func (p *Progress) relies(ctx context.Context, e *estate.Estate, x trust.Party, root *cert.Certificate) (bool, error) {
	for _, name := range x.Sets {
		set, read := p.sets[name]
		if !read {
			var err error
			if set, err = anchors.Set(ctx, e, name); err != nil {
				return false, fmt.Errorf("party %s: %w", x.Name, err)
			}
			p.sets[name] = set
		}
		if set.Find(root) != nil {
			return true, nil
		}
	}
	return false, nil
}

// judge holds what is prepared for every server against what every party is known to hold.
func (p *Progress) judge(ctx context.Context, e *estate.Estate, old, prepared *hierarchy.Generation) error {
	waiting, err := e.ReadCertificates(e.Records.CertificatesOf(ctx, p.Handle, prepared.Number))
	if err != nil {
		return err
	}
	var above []*cert.Certificate
	for _, g := range prepared.Line() {
		above = append(above, g.Certificate)
	}
	refused := map[string]*trust.Break{}
	var order []string
	for _, like := range alike(p.Parties) {
		anchors := []*cert.Certificate{top(old).Certificate}
		if like[0].State == trust.Ready {
			anchors = append(anchors, above[len(above)-1])
		}
		for _, c := range waiting {
			if c.IsAuthority() {
				continue
			}
			chain := append([]*cert.Certificate{c.Certificate}, above[:len(above)-1]...)
			v := client.Presented(chain, anchors, path.Question{Now: e.Now()})
			if v.Valid {
				continue
			}
			why := v.Reasons()[0].Message
			if like[0].State != trust.Ready {
				why = "they are not known to hold " + strings.Join(like[0].Lacks, ", ")
			}
			server, err := p.server(ctx, e, c)
			if err != nil {
				return err
			}
			k := like[0].Party + "\x00" + why
			if refused[k] == nil {
				refused[k] = &trust.Break{Clients: names(like), Why: why}
				order = append(order, k)
			}
			if !slices.Contains(refused[k].Servers, server) {
				refused[k].Servers = append(refused[k].Servers, server)
			}
		}
	}
	for _, k := range order {
		p.Breaks = append(p.Breaks, *refused[k])
	}
	return nil
}

// alike puts those parties together that refuse the same: there may be thousands.
func alike(list []trust.PartyReadiness) (out [][]trust.PartyReadiness) {
	at := map[string]int{}
	for _, x := range list {
		k := strings.Join(x.Lacks, "\x00")
		if x.State == trust.Ready {
			k = "ready"
		}
		n, there := at[k]
		if !there {
			n = len(out)
			at[k], out = n, append(out, nil)
		}
		out[n] = append(out[n], x)
	}
	return out
}

func names(list []trust.PartyReadiness) (out []string) {
	for _, x := range list {
		out = append(out, x.Party)
	}
	return out
}

// server is the party that holds a certificate, else whom it is for.
func (p *Progress) server(ctx context.Context, e *estate.Estate, c estate.CertificateRecord) (string, error) {
	ids := []int64{c.Record.ID, c.Record.Replaces}
	for _, id := range ids {
		holders, err := e.Records.Holders(ctx, id)
		if err != nil {
			return "", err
		}
		for _, x := range p.all {
			if slices.Contains(holders, x.Name) {
				return x.Name, nil
			}
		}
	}
	return c.Title(), nil
}

// ReadyOn is the day on which each party that is ready was last known to be.
func (p Progress) ReadyOn() (out []time.Time) {
	for _, x := range p.Parties {
		if day, err := time.Parse("2006-01-02", x.When); err == nil && x.State == trust.Ready {
			out = append(out, day)
		}
	}
	return out
}

// Findings says which parties are not ready for the switch.
func (p Progress) Findings() (out finding.List) {
	for _, x := range p.Parties {
		switch x.State {
		case trust.NotReady, trust.Unknown:
			out = append(out, finding.New(finding.PartyNotReady, "%s is not known to hold %s.", x.Party,
				strings.Join(x.Lacks, ", ")))
		case trust.Closed:
			out = append(out, finding.New(finding.PartyClosed, "%s cannot learn %s: %s.", x.Party,
				strings.Join(x.Lacks, ", "), x.Why))
		}
	}
	return out
}

// Switch lets the prepared generation serve, unless a party that must trust it is not ready
// and that is not waived.
func Switch(ctx context.Context, e *estate.Estate, handle string, early bool, waivers []finding.Waiver) (
	*hierarchy.Generation, journal.Head, error) {
	p, err := Of(ctx, e, handle)
	if err != nil {
		return nil, journal.Head{}, err
	}
	list, err := p.Findings().Waive(0, waivers)
	if err != nil {
		return nil, journal.Head{}, err
	}
	if bad := list.Refusing(); len(bad) > 0 {
		return nil, journal.Head{}, &issue.Refused{About: "authority " + handle, Findings: bad}
	}
	return renewals.Switch(ctx, e, handle, early, estate.WaivedCodes(list), func(snapshot *estate.Estate) error {
		return stillReady(ctx, snapshot, "authority "+handle, handle, waivers)
	})
}

// stillReady asks again, inside the act, whether the parties are ready: a report may have come meanwhile.
func stillReady(ctx context.Context, e *estate.Estate, about, name string, waivers []finding.Waiver) error {
	now, err := of(ctx, e, name)
	if err != nil {
		return err
	}
	list, err := now.Findings().Waive(0, waivers)
	if bad := list.Refusing(); err == nil && len(bad) > 0 {
		err = fault.New(fault.Changed, "what is known of the parties changed meanwhile: %w",
			&issue.Refused{About: about, Findings: bad})
	}
	return err
}

// Confirm records that parties hold the roots that a change-over needs.
func Confirm(ctx context.Context, e *estate.Estate, handle string, names []string, why string) (journal.Head, error) {
	p, err := Of(ctx, e, handle)
	if err != nil {
		return journal.Head{}, err
	}
	if len(p.needs) == 0 {
		return journal.Head{}, fmt.Errorf("authority %s: its root stays: no client has to learn another", handle)
	}
	var sums []string
	for _, a := range p.needs {
		sums = append(sums, fmt.Sprintf("%x", a.Certificate.SHA256()))
	}
	var entries []event.Record
	for _, n := range names {
		if !slices.ContainsFunc(p.Parties, func(s trust.PartyReadiness) bool { return s.Party == n }) {
			if _, err := parties.Find(ctx, e, n); err != nil {
				return journal.Head{}, err
			}
			return journal.Head{}, fmt.Errorf("party %s: it need not hold the roots of %s: it has no set with them", n,
				handle)
		}
		entries = append(entries, event.On(n, event.RootsConfirmed{Authority: handle, SHA256: sums, Why: why}))
	}
	return e.Act(ctx, func(store.Tx) ([]event.Record, error) { return entries, nil })
}

// Step is one step of a plan, in the order that is safe.
type Step struct {
	By   string      `json:"by"`   // the last day; "" where it follows the one before
	What string      `json:"what"` // in words
	Whom []string    `json:"whom"` // parties, or certificates
	Next advice.Step `json:"-"`    // the act that does it; none for what is done elsewhere
}

// Plan says who must get what by when.
func (p Progress) Plan(now time.Time) (out []Step) {
	day := p.Day.Format("2006-01-02")
	add := func(by, what string, next advice.Step, whom []string) {
		if len(whom) > 0 {
			out = append(out, Step{By: by, What: what, Whom: whom, Next: next})
		}
	}
	var learn, closed []string
	for _, x := range p.Parties {
		switch x.State {
		case trust.NotReady, trust.Unknown:
			learn = append(learn, x.Party)
		case trust.Closed:
			closed = append(closed, x.Party)
		}
	}
	before := p.Day.AddDate(0, 0, -7)
	if before.Before(now) {
		before = now
	}
	add(before.Format("2006-01-02"), "bring "+strings.Join(p.Learn,
		", ")+" onto these machines, beside the root that they have", advice.To("", advice.PlanChangeOver, "authority",
		p.Handle, "folder", "DIR"), learn)
	add(day, "these cannot install a root and will refuse the new chains: replace or except them", advice.Step{},
		closed)
	add(day, "sign a certificate for each of these, for use from the switch day", advice.To("",
		advice.PrepareChangeOver, "authority", p.Handle), p.Missing)
	add(day, "on the switch day: switch, then hand these over", advice.To("", advice.SwitchChangeOver, "authority",
		p.Handle), p.Prepared)
	var trusting []string
	for _, x := range p.Parties {
		trusting = append(trusting, x.Party)
	}
	add(p.OldEnds.Format("2006-01-02"), "remove the earlier root, once nothing below it is in use",
		advice.To("", advice.FinishChangeOver, "authority", p.Handle, "folder", "DIR"), trusting)
	return out
}

// Kits packs for every party that has to learn, on the platforms that are on record of it, the
// sets in which the new root is beside the old.
func (p Progress) Kits(ctx context.Context, e *estate.Estate, dir string, replace bool) (out []anchors.Packed,
	untold []string, err error) {
	var asks []anchors.PackAsk
	for _, s := range p.Parties {
		if s.State == trust.Ready || s.State == trust.Closed {
			continue
		}
		x := p.all[slices.IndexFunc(p.all, func(x trust.Party) bool { return x.Name == s.Party })]
		if len(x.Platforms) == 0 {
			untold = append(untold, x.Name)
			continue
		}
		for _, name := range x.Sets {
			set := p.sets[name]
			for _, a := range p.needs {
				if set.Find(a.Certificate) == nil {
					set.Anchors = append(slices.Clone(set.Anchors), a)
				}
			}
			asks = append(asks, anchors.PackAsk{Set: set, Party: x.Name, Platforms: x.Platforms, Replace: replace,
				Dir: filepath.Join(dir, x.Name)})
		}
	}
	out, err = anchors.PackAll(ctx, e, asks)
	return out, untold, err
}
