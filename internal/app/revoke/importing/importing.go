// Package importing imports revocation lists that were not signed by this estate as it is now: those of
// an authority whose key is elsewhere, and those of our own keys that no one wrote down here, as after a
// backup was restored.
//
// What such a list tells of certificates is as good as a revocation here: its authority signed it. It
// counts whatever the list's number: an older list does not replace a newer one, and what it
// revokes permanently is recorded all the same.
package importing

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
	"ironseal/pki/revocation"
)

// Taken is the outcome of the lists.
type Taken struct {
	Lists  []event.List // that are served from now on, or at their time
	Known  []event.List // that were imported before; a file that was missing is there again
	Passed []string     // in words: lists that are not served, and why
	News   []string     // in words: what they tell of certificates on record
	Head   journal.Head // zero where nothing had to be recorded
}

// offer is one list that is examined.
type offer struct {
	der  []byte
	list *revocation.List
	by   *hierarchy.Generation
	item event.List
}

// accepting is an import under way.
type accepting struct {
	e     *estate.Estate
	h     hierarchy.Hierarchy
	have  inventory.Lists
	out   Taken
	news  []revoking.News
	aside []event.List // too old to be served, and on record
	files []string
}

// Lists takes lists in. Each must be signed by an authority on record and be whole. One that is not newer
// than what is known, or stale, is reported. That is an error where it tells nothing and is not one of our own.
func Lists(ctx context.Context, e *estate.Estate, lists [][]byte) (Taken, error) {
	a, offers, err := begin(ctx, e, lists)
	if err != nil {
		return Taken{}, err
	}
	for _, o := range offers {
		if err := a.take(ctx, o); err != nil {
			return a.out, errors.Join(err, a.undo())
		}
	}
	out, err := a.finish(ctx)
	if ours := slices.ContainsFunc(offers, func(o offer) bool { return !o.by.Authority.External() }); err == nil &&
		!ours &&
		len(out.Passed) > 0 && len(out.Lists)+len(out.Known)+len(out.News) == 0 {
		err = errors.New(out.Passed[0])
	}
	return out, err
}

// Carried imports those of lists that a transfer brought which are of use here. What is passed over is
// told, each with why.
func Carried(ctx context.Context, e *estate.Estate, lists [][]byte) (Taken, error) {
	if len(lists) == 0 {
		return Taken{}, nil
	}
	var usable [][]byte
	var passed []string
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return Taken{}, err
	}
	have, err := inventory.Known(ctx, e.Records)
	if err != nil {
		return Taken{}, err
	}
	for _, der := range lists {
		o, err := offered(h, der)
		switch {
		case err != nil:
			passed = append(passed, err.Error())
		case o.by.Authority.External():
			usable = append(usable, der)
		default:
			said := "a list of " + o.by.Label() + ", whose key is here"
			if _, known := have.Find(o.list); !known {
				said += ", and it is not on record: import it"
			}
			passed = append(passed, said)
		}
	}
	a, offers, err := begin(ctx, e, usable)
	if err != nil {
		return Taken{}, err
	}
	a.out.Passed = passed
	for _, o := range offers {
		if err := a.take(ctx, o); err != nil {
			return a.out, errors.Join(err, a.undo())
		}
	}
	return a.finish(ctx)
}

func begin(ctx context.Context, e *estate.Estate, lists [][]byte) (*accepting, []offer, error) {
	a := &accepting{e: e}
	var err error
	if a.h, err = e.Hierarchy(ctx); err != nil {
		return nil, nil, err
	}
	if a.have, err = inventory.Known(ctx, e.Records); err != nil {
		return nil, nil, err
	}
	var offers []offer
	for _, der := range lists {
		o, err := offered(a.h, der)
		if err != nil {
			return nil, nil, err
		}
		offers = append(offers, o)
	}
	slices.SortStableFunc(offers, func(x, y offer) int { // parts first: they know where a certificate stands
		if (x.item.Part == 0) != (y.item.Part == 0) {
			return y.item.Part - x.item.Part
		}
		return int(min(1, max(-1, x.item.Number-y.item.Number)))
	})
	if err := disk.OwnDir(inventory.Folder(e)); err != nil {
		return nil, nil, err
	}
	return a, offers, nil
}

// offered finds whose list it is, and refuses one that no client could use.
func offered(h hierarchy.Hierarchy, der []byte) (offer, error) {
	o := offer{der: der}
	var err error
	if o.list, err = revocation.ReadList(der); err != nil {
		return o, err
	}
	l := o.list
	if o.by = inventory.SignedBy(h, l); o.by == nil {
		return o, fmt.Errorf("the list of %s was signed by no authority that is on record", l.Issuer)
	}
	name := o.by.Label()
	up := o.by.RevokedAbove()
	for _, n := range l.Scope.Names {
		o.item.Part = max(o.item.Part, revocation.PartAt(n.URI, o.by.ListName()))
	}
	switch {
	case o.by.Authority.External() && up != nil:
		return o, fmt.Errorf("the list was signed by %s, which is revoked on record since %s: whoever has its key "+
			"can sign such a list", name, up.Revoked.Format("2006-01-02"))
	case l.Number == nil || !l.Number.IsInt64() || l.NextUpdate.IsZero():
		return o, fmt.Errorf("the list of %s has no number, or does not say when the next one is due", name)
	case l.Base != nil || l.Scoped && (o.by.Authority.External() || o.item.Part == 0):
		return o, fmt.Errorf("the list of %s is not whole: it is a delta, or about some certificates only", name)
	}
	digest := l.ContentDigest()
	o.item.List, o.item.Number, o.item.This, o.item.Next = o.by.ListName(), l.Number.Int64(), l.ThisUpdate, l.NextUpdate
	o.item.Entries, o.item.ContentDigest, o.item.Mark = l.Count, digest, digest[:16]
	return o, nil
}

// farthest is how far beyond the time in seconds the number of a list of ours may be: ten years. Numbers are
// seconds, or follow the last; nothing follows the greatest.
const farthest = 10 * 366 * 24 * 60 * 60

// take decides what becomes of one list.
func (a *accepting) take(ctx context.Context, o offer) error {
	i := o.item
	if known, there := a.have.Find(o.list); there {
		if a.out.Known = append(a.out.Known, known); known.Aside {
			return nil
		}
		return a.keep(known, o.der)
	}
	if !o.by.Authority.External() && i.Number > a.e.Now().Unix()+farthest {
		return fmt.Errorf("the list of %s has the number %d, far beyond those that are given here: its numbers would "+
			"have no successors: find out who signed it, and move it out of the folder", o.by.Label(), i.Number)
	}
	news, err := revoking.Learn(ctx, a.e, o.by, o.list)
	if err != nil {
		return err
	}
	newer := a.newer(i)
	stale := a.e.Now().After(i.Next)
	lasting := lasting(news)
	if !stale {
		if i.Over, err = a.over(i, o.list); err != nil {
			return err
		}
		i.Over = i.Over || o.by.Authority.External() && newer > 0 && !i.This.After(a.e.Now()) && a.stand(lasting)
	}
	var forgotten []revoking.Target
	if !stale && o.by.Authority.External() {
		if forgotten, err = revoking.Forgotten(ctx, a.e, o.by, o.list); err != nil {
			return err
		}
	}
	switch {
	case len(forgotten) > 0:
		a.pass("the list %d of %s leaves out what it had revoked: %s: its estate is an older copy, or another party "+
			"has its key. Bring its newest list from here there, and import it there",
			i.Number,
			o.by.Label(), labels(forgotten))
	case !stale && (i.Over || newer == 0):
		return a.serve(i, o.der, news)
	case stale:
		a.pass("the list %d of %s is stale since %s: ask for a newer one", i.Number, o.by.Label(),
			i.Next.Format("2006-01-02 15:04 UTC"))
	default:
		a.pass("the list of %s has the number %d, and %d is known already: it is an older one", o.by.Label(), i.Number,
			newer)
	}
	if len(lasting) > 0 {
		a.pass("what that list revokes is put on record, and the newest list of %s lacks it: ask for a new one",
			o.by.Label())
	}
	a.news = append(a.news, lasting...)
	if len(forgotten) == 0 { // a folder that holds one which is not on record is not replaced
		i.Aside = true
		a.aside = append(a.aside, i)
	}
	return nil
}

// newer is the number of a list in whose place this one could be served at no time; 0 for none. A list that
// was signed ahead waits for its time, and replaces no other before.
func (a *accepting) newer(i event.List) (number int64) {
	for _, o := range slices.Concat(a.have.InForce(i.Scope()), a.out.Lists) {
		if o.Scope() == i.Scope() && o.Number >= i.Number && (!o.This.After(i.This) || !o.This.After(a.e.Now())) {
			number = max(number, o.Number)
		}
	}
	return number
}

// over reports whether a list replaces lists with higher numbers: it was signed after the one that
// is served, by an estate that did not know the numbers which it had given out before, as after a restore,
// and revokes what one of them does not. What revokes more is never dropped.
func (a *accepting) over(i event.List, l *revocation.List) (bool, error) {
	now, served := a.have.At(i.Scope(), a.e.Now())
	if served && i.This.Before(now.This) || i.This.After(a.e.Now()) {
		return false, nil
	}
	for _, o := range a.have.InForce(i.Scope()) {
		if o.Number < i.Number {
			continue
		}
		if more, err := a.more(o, l); more || err != nil {
			return more, err
		}
	}
	return false, nil
}

// more reports whether a list revokes permanently what another one does not.
func (a *accepting) more(o event.List, l *revocation.List) (bool, error) {
	was, err := inventory.Read(a.e, o)
	if errors.Is(err, fs.ErrNotExist) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	told := map[string]bool{}
	if err := was.Each(func(en revocation.Entry) error {
		told[revocation.Key(en.Serial)] = en.Reason != revocation.CertificateHold
		return nil
	}); err != nil {
		return false, err
	}
	more := false
	err = l.Each(func(en revocation.Entry) error {
		more = more || en.Reason != revocation.CertificateHold && !told[revocation.Key(en.Serial)]
		return nil
	})
	return more, err
}

// stand reports whether a list tells of the end of a certificate that has not ended on its own: a newer list
// that was imported leaves it out, which no list may (RFC 5280 section 3.3).
func (a *accepting) stand(news []revoking.News) bool {
	return slices.ContainsFunc(news, func(n revoking.News) bool { return !n.Unknown && n.NotAfter.After(a.e.Now()) })
}

// labels names a few.
func labels(list []revoking.Target) string {
	const most = 3
	var out []string
	for _, t := range list[:min(most, len(list))] {
		out = append(out, t.Label()+", serial "+t.Serial.Short())
	}
	if len(list) > most {
		out = append(out, fmt.Sprintf("%d more", len(list)-most))
	}
	return strings.Join(out, "; ")
}

func (a *accepting) pass(format string, args ...any) {
	a.out.Passed = append(a.out.Passed, fmt.Sprintf(format, args...))
}

// lasting are the news that hold whatever came later: what is on hold may have been released since.
func lasting(news []revoking.News) []revoking.News {
	return slices.DeleteFunc(slices.Clone(news), func(n revoking.News) bool {
		return n.Back || n.Entry.Reason == revocation.CertificateHold
	})
}

func (a *accepting) serve(i event.List, der []byte, news []revoking.News) error {
	a.out.Lists = append(a.out.Lists, i)
	a.news = append(a.news, news...)
	return a.keep(i, der)
}

// keep writes a list into the estate's folder, unless it is there.
func (a *accepting) keep(i event.List, der []byte) error {
	err := a.e.Env.Disk.New(inventory.File(a.e, i), der, 0o644)
	if errors.Is(err, disk.ErrExists) {
		return nil
	}
	if err == nil {
		a.files = append(a.files, inventory.File(a.e, i))
	}
	return err
}

func (a *accepting) undo() (err error) {
	for _, f := range a.files {
		err = errors.Join(err, a.e.Env.Disk.Remove(f))
	}
	return err
}

// finish records what was imported and learnt.
func (a *accepting) finish(ctx context.Context) (Taken, error) {
	a.out.News = revoking.Words(a.news)
	if len(a.out.Lists)+len(a.news)+len(a.aside) == 0 {
		return a.out, nil // a file that was missing is no matter for the journal
	}
	head, err := a.e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := inventory.Known(ctx, tx)
		if err == nil && now.Last() != a.have.Last() {
			err = fault.New(fault.Changed, "another list was signed or imported meanwhile: run it again")
		}
		if err != nil {
			return nil, err
		}
		told, err := revoking.Record(tx, a.news, "a list of its authority includes it")
		if err != nil {
			return nil, err
		}
		if err := a.through(tx); err != nil {
			return nil, err
		}
		numbers, err := a.number(tx)
		return append(told, event.On("lists", event.ListsImported{Lists: slices.Concat(a.out.Lists, a.aside),
			Authorities: numbers})), err
	})
	if a.out.Head = head; err != nil && !errors.Is(err, store.ErrUncertain) {
		return a.out, errors.Join(err, a.undo())
	}
	return a.out, err
}

// through notes up to which revocation on record the lists of authorities elsewhere tell: all that is on
// record of such an authority came from its lists.
func (a *accepting) through(tx store.Tx) error {
	for n := range a.out.Lists {
		i := &a.out.Lists[n]
		by := a.h.Generation(i.List).Authority
		if !by.External() {
			continue
		}
		last, _, err := tx.Reads().LastRevocation(tx.Context(), by.Handle, -1)
		if err != nil {
			return err
		}
		i.Through = last
	}
	return nil
}

// number lets the numbers of our own lists continue behind those that came.
func (a *accepting) number(tx store.Tx) ([]event.ListNumber, error) {
	highest := map[string]int64{}
	for _, i := range slices.Concat(a.out.Lists, a.aside) {
		g := a.h.Generation(i.List)
		if !g.Authority.External() {
			highest[g.Authority.Handle] = max(highest[g.Authority.Handle], i.Number)
		}
	}
	told := []event.ListNumber{}
	for _, auth := range a.h {
		number, ours := highest[auth.Handle]
		if !ours {
			continue
		}
		after, err := tx.Reads().ListNumber(tx.Context(), auth.Handle)
		if err != nil {
			return nil, err
		}
		if number <= after {
			continue
		}
		if err := tx.NumberList(auth.Handle, after, number); err != nil {
			return nil, err
		}
		told = append(told, event.ListNumber{By: auth.Handle, After: after, Number: number})
	}
	return told, nil
}
