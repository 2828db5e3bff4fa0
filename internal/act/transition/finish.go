package transition

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"ironseal/internal/act/parties"
	"ironseal/internal/act/trusting"
	"ironseal/internal/estate"
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
	own, err := trusting.Set(ctx, e, trust.Own)
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
		return nil, fmt.Errorf("authority %s: something valid still hangs on %s, or it signs: nothing is to be "+
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
func Finish(ctx context.Context, e *estate.Estate, handle, dir string, replace bool) (out []trusting.Packed,
	err error) {
	gone, err := Gone(ctx, e, handle)
	if err != nil {
		return nil, err
	}
	list, err := parties.List(ctx, e)
	if err != nil {
		return nil, err
	}
	for _, x := range list {
		if x.Closed != "" || len(x.Platforms) == 0 {
			continue
		}
		for _, name := range x.Sets {
			set := trust.Set{Name: name, Title: "to be taken out: sh trust.sh remove", Anchors: gone}
			more, err := trusting.Pack(ctx, e, trusting.PackAsk{Set: set, Platforms: x.Platforms, Replace: replace,
				Dir: filepath.Join(dir, x.Name), Expired: true})
			if err != nil {
				return out, err
			}
			out = append(out, more...)
		}
	}
	return out, nil
}
