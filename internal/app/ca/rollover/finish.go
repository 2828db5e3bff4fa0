package rollover

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ironseal/internal/app/parties"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/pki/trust"
)

// Gone are the roots that stood above earlier generations of an authority and on which nothing
// hangs any more: machines may forget them.
func Gone(ctx context.Context, e *estate.Estate, handle string) (gone []trust.Anchor, err error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	g, err := estate.FindGeneration(h, handle)
	if err != nil {
		return nil, err
	}
	own, err := anchors.Set(ctx, e, trust.Own)
	if err != nil {
		return nil, err
	}
	var still []string
	var seen trust.Set
	for _, one := range g.Authority.Generations {
		root := top(one)
		switch {
		case seen.Find(root.Certificate) != nil:
			continue
		case own.Find(root.Certificate) == nil:
			gone = append(gone, trust.Anchor{Certificate: root.Certificate, From: root.Name(),
				Purposes: trust.Purposes()})
		case one != g.Authority.Current():
			still = append(still, root.Name())
		}
		seen.Anchors = append(seen.Anchors, trust.Anchor{Certificate: root.Certificate})
	}
	if len(gone) == 0 && len(still) > 0 {
		return nil, fmt.Errorf("authority %s: something valid still depends on %s, or it signs: nothing is to be "+
			"taken out yet",
			handle, strings.Join(still, ", "))
	}
	if len(gone) == 0 {
		return nil, fmt.Errorf("authority %s: no root above it has been left", handle)
	}
	return gone, nil
}

// Finish packs kits by whose scripts parties forget the roots that are gone: for each on the
// platforms that are on record of it. The files in them are named as those of the set that
// the party holds, so that it is those that are removed.
func Finish(ctx context.Context, e *estate.Estate, name, dir string, replace bool) ([]anchors.Packed, error) {
	list, err := parties.List(ctx, e)
	if err != nil {
		return nil, err
	}
	s, err := planned(ctx, e.Records, name)
	if err != nil {
		return nil, err
	}
	var gone []trust.Anchor
	if s == nil {
		gone, err = Gone(ctx, e, name)
	} else {
		gone, err = s.gone(ctx, e)
	}
	if err != nil {
		return nil, err
	}
	var asks []anchors.PackAsk
	for _, x := range list {
		if x.Closed != "" || len(x.Platforms) == 0 || s != nil && !s.movedOne(x.Name) {
			continue
		}
		given := x.Sets
		if s != nil {
			given = []string{s.From} // its files have the name of the set that was left
		}
		for _, name := range given {
			set := trust.Set{Name: name, Title: "roots that were left", Anchors: gone}
			asks = append(asks, anchors.PackAsk{Set: set, Party: x.Name, Platforms: x.Platforms, Replace: replace,
				Dir: filepath.Join(dir, x.Name), Leaving: true})
		}
	}
	return anchors.PackAll(ctx, e, asks)
}

// gone are the anchors that a change-over from a set to another has left, once nothing on
// record that serves depends on them.
func (s *Sets) gone(ctx context.Context, e *estate.Estate) ([]trust.Anchor, error) {
	if !s.Switched {
		return nil, fmt.Errorf("trust set %s: it has not been switched to %s yet", s.From, s.To)
	}
	old, err := anchors.Set(ctx, e, s.From)
	if err != nil {
		return nil, err
	}
	next, err := anchors.Set(ctx, e, s.To)
	if err != nil {
		return nil, err
	}
	leave, _ := differences(old, next)
	p := Progress{Parties: []trust.PartyReadiness{{Party: "whoever has moved"}}}
	if p.all, err = parties.List(ctx, e); err != nil {
		return nil, err
	}
	if err := p.judgeLeaving(ctx, e, leave); err != nil {
		return nil, err
	}
	if len(p.Breaks) > 0 {
		b := p.Breaks[0]
		return nil, fmt.Errorf("trust set %s: of %s %s: nothing is to be taken out yet", s.From,
			strings.Join(b.Servers[:min(3, len(b.Servers))], ", "), b.Why)
	}
	if len(leave) == 0 {
		return nil, fmt.Errorf("trust set %s: no anchor of it has been left", s.From)
	}
	return leave, nil
}

func (s *Sets) movedOne(party string) bool {
	return slices.ContainsFunc(s.moved, func(m event.Moved) bool { return m.Party == party })
}
