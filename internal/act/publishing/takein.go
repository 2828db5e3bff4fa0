package publishing

import (
	"context"
	"errors"
	"fmt"
	"os"

	"ironseal/internal/act/revoking"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/failure"
	"ironseal/internal/records"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
	"ironseal/pki/revocation"
)

// TakeIn takes in lists of authorities whose keys are in another estate. Each must be signed
// by its authority, be newer than the one that is known, and be whole.
func TakeIn(ctx context.Context, e *estate.Estate, lists [][]byte) (Done, error) {
	var out Done
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return out, err
	}
	have, err := Known(ctx, e)
	if err != nil {
		return out, err
	}
	if err := os.MkdirAll(Folder(e), 0o700); err != nil {
		return out, fmt.Errorf("%s: %w", Folder(e), disk.Plain(err))
	}
	var files []string
	var news []revoking.News
	undo := func(err error) error {
		for _, f := range files {
			err = errors.Join(err, e.World.Disk.Remove(f))
		}
		return err
	}
	for _, der := range lists {
		i, learned, err := examine(ctx, e, h, have, der)
		if err != nil {
			return out, undo(err)
		}
		if err := e.World.Disk.New(kept(e, i), der, 0o644); err != nil && !errors.Is(err, disk.ErrExists) {
			return out, undo(err)
		} else if err == nil {
			files = append(files, kept(e, i))
		}
		out.Lists = append(out.Lists, i)
		news = append(news, learned...)
	}
	out.News = revoking.Words(news)
	out.Head, err = e.Act(ctx, func(tx *records.Tx) ([]journal.Entry, error) {
		if err := still(ctx, tx, out.Lists); err != nil {
			return nil, err
		}
		told, err := revoking.Record(tx, news, "a list of its authority tells of it")
		return append(told, estate.Entry(TakeInAct, "lists", "lists", out.Lists)), err
	})
	if err != nil && !errors.Is(err, records.ErrUncertain) {
		return out, undo(err)
	}
	return out, err
}

// examine checks one list, and compares it with what is on record.
func examine(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy, have Lists, der []byte) (Item,
	[]revoking.News,
	error) {
	l, err := revocation.ReadList(der)
	if err != nil {
		return Item{}, nil, err
	}
	i, err := itemOf(h, have, l, func(i Item) bool {
		_, err := os.Lstat(kept(e, i))
		return err != nil
	})
	if err != nil {
		return i, nil, err
	}
	if why := l.Fresh(e.Now()); why != "" && e.Now().After(i.This) {
		return i, nil, fmt.Errorf("the list of %s: %s: ask for a newer one", i.List, why)
	}
	news, err := revoking.Learn(ctx, e, h.Generation(i.List), l)
	return i, news, err
}

// still refuses lists that became older than what is known meanwhile.
func still(ctx context.Context, tx *records.Tx, lists []Item) error {
	newest := map[scope]int64{}
	err := tx.EntriesOf(ctx, TakeInAct, func(en journal.Entry) error {
		told, err := listsOf(en)
		for _, i := range told {
			newest[i.scope()] = max(newest[i.scope()], i.Number)
		}
		return err
	})
	for _, i := range lists {
		if err == nil && newest[i.scope()] > i.Number {
			err = failure.Of(failure.ErrChanged, "a list of %s with the number %d was taken in meanwhile", i.List,
				newest[i.scope()])
		}
	}
	return err
}

// itemOf finds whose list it is, and checks it.
func itemOf(h hierarchy.Hierarchy, have Lists, l *revocation.List, missing func(Item) bool) (Item, error) {
	for _, a := range h {
		for _, g := range a.Generations {
			if !l.Issuer.Equal(g.Certificate.Subject) || l.VerifiedBy(g.Certificate.Key) != nil {
				continue
			}
			switch {
			case !a.Elsewhere:
				return Item{}, fmt.Errorf("the list was signed by %s, whose key is here: it is not taken in; "+
					"publish with: "+
					"ironseal revocations publish", a.Handle)
			case g.TakenBack() != nil:
				return Item{}, fmt.Errorf("the list was signed by %s, which is revoked on record since %s: whoever has "+
					"its key can sign such a list", g.Label(), g.TakenBack().Revoked.Format("2006-01-02"))
			case l.Number == nil || !l.Number.IsInt64() || l.NextUpdate.IsZero():
				return Item{}, fmt.Errorf("the list of %s has no number, or does not say when the next one is due",
					a.Handle)
			case l.Base != nil || l.Scoped:
				return Item{}, fmt.Errorf("the list of %s is not whole: it is a delta, or about some "+
					"certificates only", a.Handle)
			}
			seal := l.Seal()
			i := Item{List: g.ListName(), Number: l.Number.Int64(), This: l.ThisUpdate, Next: l.NextUpdate,
				Entries: l.Count, Seal: seal, Mark: seal[:16]}
			for _, known := range have.newest[i.scope()] {
				if known.Number >= i.Number && !known.Is(l) {
					return i, fmt.Errorf("the list of %s has the number %d, and %d is known already: it is an "+
						"older one", a.Handle,
						i.Number, known.Number)
				} else if known.Is(l) && !missing(known) { // after a restored backup it may be
					return i, failure.Of(failure.ErrChanged, "the list %d of %s was taken in already", i.Number,
						a.Handle)
				}
			}
			return i, nil
		}
	}
	return Item{}, fmt.Errorf("the list of %s was signed by no authority that is on record", l.Issuer)
}

// TakeInCarried takes in those of lists that a courier brought which are of use here: of
// authorities whose keys are elsewhere, and not known already.
func TakeInCarried(ctx context.Context, e *estate.Estate, lists [][]byte) (Done, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil || len(lists) == 0 {
		return Done{}, err
	}
	have, err := Known(ctx, e)
	if err != nil {
		return Done{}, err
	}
	var useful [][]byte
	for _, der := range lists {
		l, err := revocation.ReadList(der)
		if err != nil {
			return Done{}, err
		}
		if i, err := itemOf(h, have, l, func(Item) bool { return false }); err == nil && !e.Now().After(i.Next) {
			useful = append(useful, der)
		}
	}
	if len(useful) == 0 {
		return Done{}, nil
	}
	return TakeIn(ctx, e, useful)
}
