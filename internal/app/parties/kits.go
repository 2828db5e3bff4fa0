package parties

import (
	"context"
	"path/filepath"
	"slices"

	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/pki/trust"
)

// Everybody stands for every party of which a platform is on record.
const Everybody = "all"

// Kits says which kits parties take, by their platforms and sets where ask and sets name none. One party that was named
// takes them in the directory itself. Of several, each has a folder there. None are the parties that have no platform.
func Kits(ctx context.Context, e *estate.Estate, names []string, ask anchors.PackAsk, sets []string) (
	asks []anchors.PackAsk, none []string, err error) {
	list, err := takers(ctx, e, names)
	if err != nil {
		return nil, nil, err
	}
	known := map[string]trust.Set{}
	for _, p := range list {
		one := ask
		one.Party = p.Name
		if len(list) > 1 || names[0] == Everybody {
			one.Dir = filepath.Join(ask.Dir, p.Name)
		}
		if len(one.Platforms) == 0 {
			one.Platforms = p.Platforms
		}
		if len(one.Platforms) == 0 {
			none = append(none, p.Name)
			continue
		}
		for _, name := range setsOf(p, sets) {
			if _, read := known[name]; !read {
				if known[name], err = anchors.Set(ctx, e, name); err != nil {
					return nil, nil, err
				}
			}
			one.Set = known[name]
			asks = append(asks, one)
		}
	}
	return asks, none, nil
}

// setsOf are the sets that were named, else those of the party, else the estate's own roots.
func setsOf(p trust.Party, named []string) []string {
	switch {
	case len(named) > 0:
		return named
	case len(p.Sets) > 0:
		return p.Sets
	}
	return []string{trust.Own}
}

func takers(ctx context.Context, e *estate.Estate, names []string) ([]trust.Party, error) {
	if len(names) == 1 && names[0] == Everybody {
		return List(ctx, e)
	}
	var out []trust.Party
	for _, name := range names {
		p, err := Find(ctx, e, name)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(out, func(o trust.Party) bool { return o.Name == p.Name }) { // one that was named twice
			out = append(out, p)
		}
	}
	return out, nil
}
