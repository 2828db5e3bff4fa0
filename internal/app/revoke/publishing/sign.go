package publishing

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
)

// Done is what was signed.
type Done struct {
	Lists []event.List
	Head  journal.Head
}

// signing is a publication under way.
type signing struct {
	Plan
	e     *estate.Estate
	made  []event.List
	files []string
	after map[string]int64 // the number before, by handle
	next  map[string]int64 // the number to give, by handle
}

// mostPlans bounds how often a publication is planned again because others record meanwhile.
const mostPlans = 20

// Sign signs the planned lists, keeps them, and puts them on record. Nothing of it is
// released yet. Where others signed lists or revoked meanwhile, it plans again: no one agreed to single lists, and the
// newer plan says more.
func Sign(ctx context.Context, e *estate.Estate, p Plan) (Done, error) {
	for tried := 1; ; tried++ {
		done, err := signOnce(ctx, e, p)
		if !errors.Is(err, fault.Changed) || tried == mostPlans {
			return done, err
		}
		if tried > 2 { // others publish as well: whoever waits longest is not always the same
			time.Sleep(rand.N(time.Duration(tried) * 20 * time.Millisecond))
		}
		if p, err = PlanLists(ctx, e, p.Ask); err != nil {
			return Done{}, err
		}
	}
}

func signOnce(ctx context.Context, e *estate.Estate, p Plan) (Done, error) {
	s := signing{Plan: p, e: e, after: map[string]int64{}, next: map[string]int64{}}
	list := p.Signs()
	if len(list) == 0 {
		return Done{}, nil
	}
	if err := disk.OwnDir(inventory.Folder(e)); err != nil {
		return Done{}, err
	}
	over, err := e.UnderWay(inventory.Folder(e))
	if err != nil {
		return Done{}, err
	}
	defer over()
	for len(list) > 0 { // a generation at a time: its key is opened once
		n := 1
		for n < len(list) && list[n].Generation == list[0].Generation {
			n++
		}
		if err := s.generation(ctx, list[0].Generation, list[:n]); err != nil {
			return Done{}, errors.Join(err, s.undo())
		}
		list = list[n:]
	}
	head, err := s.record(ctx)
	if err != nil {
		if errors.Is(err, store.ErrUncertain) {
			return Done{}, err
		}
		return Done{}, errors.Join(fmt.Errorf("nothing was published: %w: run it again", err), s.undo())
	}
	return Done{Lists: s.made, Head: head}, sweep(ctx, e)
}

func (s *signing) undo() (err error) {
	for _, f := range s.files {
		err = errors.Join(err, s.e.Env.Disk.Remove(f))
	}
	return err
}

// generation signs all lists of one generation.
func (s *signing) generation(ctx context.Context, g *hierarchy.Generation, list []Due) error {
	a := g.Authority
	if err := s.number(ctx, a); err != nil {
		return err
	}
	if err := s.e.Env.Step(estate.StepPlanned); err != nil {
		return err
	}
	signer, err := s.e.Keys.Open(ctx, g.Certificate.Key, a.Handle, keystore.ForList)
	if err != nil {
		return err
	}
	defer signer.Close()
	if err := s.e.Env.Step(estate.StepOpened); err != nil {
		return err
	}
	number := s.next[a.Handle]
	last := number
	for _, d := range list {
		for i := range s.Ask.Ahead + 1 {
			n, err := s.one(ctx, signer, d, i, number)
			if err != nil {
				return fmt.Errorf("%s: %w", d.Title(), err)
			}
			last = max(last, n)
		}
	}
	s.next[a.Handle] = last + 1
	return nil
}

// number finds the number of an authority's next lists.
func (s *signing) number(ctx context.Context, a *hierarchy.Authority) error {
	if _, known := s.after[a.Handle]; known {
		return nil
	}
	last, err := s.e.Records.ListNumber(ctx, a.Handle)
	s.after[a.Handle], s.next[a.Handle] = last, revocation.NextNumber(last, s.now)
	return err
}

// one signs one list of a scope: the one for now, or the i-th ahead.
func (s *signing) one(ctx context.Context, signer keystore.Opened, d Due, i int, number int64) (int64, error) {
	g := d.Generation
	life, _ := inventory.Lives(s.e, g)
	if !s.Ask.Life.IsZero() {
		life = s.Ask.Life
	}
	this := s.now
	for range i {
		this = s.step(life).After(this)
	}
	number += int64(i) // by the order of signing, and not by the date that each is for
	item := event.List{List: g.Name(), Part: d.Part, Number: number, This: this, Next: s.end(g, life.After(this))}
	draft := revocation.Draft{Issuer: g.Certificate.Subject, KeyID: keyID(g.Certificate), Number: number, This: this,
		Next: item.Next}
	if d.Part > 0 {
		scope, err := s.scopeOf(ctx, d)
		if err != nil {
			return 0, err
		}
		draft.Scope = &scope
	}
	base := s.e.Settings.Publication.Address
	var delta *changes
	if s.e.Settings.Publication.Delta && d.Part == 0 && base != "" {
		draft.Freshest = []string{revocation.Address(base, revocation.DeltaFile(g.Name()))}
		if old, ok := s.baseOf(d, i); ok {
			delta = &changes{base: old}
		}
	}
	if err := s.whole(ctx, signer, d, &item, draft, delta); err != nil {
		return 0, err
	}
	if delta != nil {
		return number, s.delta(signer, *delta, item, draft)
	}
	return number, nil
}

// scopeOf is what a part is about: every address that certificates of it name. Where the publication
// address has moved, earlier certificates name the earlier one, and a list that did not would count for
// nothing to their clients.
func (s *signing) scopeOf(ctx context.Context, d Due) (distpoint.Scope, error) {
	places, err := s.e.Records.Addresses(ctx)
	if err != nil {
		return distpoint.Scope{}, err
	}
	var named []string
	if base := s.e.Settings.Publication.Address; base != "" {
		named = append(named, revocation.Address(base, revocation.ListFile(d.Generation.Name(), d.Part)))
	}
	for _, p := range places {
		g := s.h.Generation(p.Generation)
		if p.Kind == store.ListAddress && p.Part == d.Part && g != nil && g.ListName() == d.Generation.Name() &&
			!slices.Contains(named, p.Address) {
			named = append(named, p.Address)
		}
	}
	if len(named) == 0 || len(named) > distpoint.Most {
		return distpoint.Scope{}, fmt.Errorf("its certificates name %d addresses; a part has 1 to %d", len(named),
			distpoint.Most)
	}
	scope := distpoint.Scope{Reasons: distpoint.AllReasons}
	for _, a := range named {
		scope.Names = append(scope.Names, distpoint.Name{URI: a})
	}
	return scope, nil
}

// step is from one list that is signed ahead to the next: three quarters of a life, so that
// there is time to put the next one in its place.
func (s *signing) step(life span.Span) span.Span {
	if !s.Ask.Step.IsZero() {
		return s.Ask.Step
	}
	days := int(life.After(s.now).Sub(s.now).Hours() / 24 * 3 / 4)
	step, err := span.Parse(fmt.Sprintf("%dd", max(days, 1)))
	if err != nil {
		return life
	}
	return step
}

// end bounds a list's life by that of the newest certificate for the key that signs it.
func (s *signing) end(g *hierarchy.Generation, next time.Time) time.Time {
	last := g.Certificate.NotAfter
	for _, o := range g.Authority.Generations {
		if hierarchy.SameList(o, g) && o.Certificate.NotAfter.After(last) {
			last = o.Certificate.NotAfter
		}
	}
	if next.After(last) {
		return last
	}
	return next
}

func keyID(c *cert.Certificate) []byte {
	if c.SubjectKey != nil {
		return c.SubjectKey
	}
	return c.Key.Identifier()
}

// whole signs and keeps a list with all its entries: those of the list before and what came
// since, or, where that list is not there or the records count another number, all of them
// from the records. The records are counted meanwhile, since that takes as long as signing.
func (s *signing) whole(ctx context.Context, signer keystore.Opened, d Due, item *event.List,
	draft revocation.Draft, delta *changes) error {
	if d.Now.Number != 0 { // what ended before the last list was dated stood on it after its end (section 3.3)
		item.Cut = d.Now.This.Unix()
	}
	count := func() (int, error) {
		return s.e.Records.CountListed(ctx, d.Generation.Authority.Handle, asPart(d), time.Unix(item.Cut, 0))
	}
	for _, how := range []struct{ rebuild, still bool }{{false, false}, {true, false}, {true, true}} {
		counted := make(chan error, 1)
		var want int
		read := reading{rebuild: how.rebuild}
		if how.still { // others revoke all the time: what is listed and what is counted are of one moment
			read.count = &want
			counted <- nil
		} else {
			go func() {
				var err error
				want, err = count()
				counted <- err
			}()
		}
		pieces, err := s.entries(ctx, d, item, delta, read)
		if err == nil && pieces != nil {
			err = s.keep(draft, item, pieces, signer)
		}
		if err := errors.Join(err, <-counted); err != nil {
			return err
		}
		if pieces != nil && item.Entries == want {
			return nil
		}
		if pieces != nil { // the list before does not fit, or someone revoked meanwhile
			if err := s.drop(); err != nil {
				return err
			}
		}
	}
	return fmt.Errorf("what is revoked changes while it is listed: %w: run it again", fault.Changed)
}

// drop takes back the list that was kept last.
func (s *signing) drop() error {
	last := s.files[len(s.files)-1]
	s.files, s.made = s.files[:len(s.files)-1], s.made[:len(s.made)-1]
	return s.e.Env.Disk.Remove(last)
}

// keep signs a list, reads it back, and writes it into the estate's folder. The disk takes the
// entries while they are hashed.
func (s *signing) keep(draft revocation.Draft, item *event.List, pieces [][]byte, signer keystore.Opened) error {
	mark := make([]byte, 8)
	if _, err := io.ReadFull(s.e.Env.Random, mark); err != nil {
		return err
	}
	item.Mark = hex.EncodeToString(mark)
	file := inventory.File(s.e, *item)
	err := s.e.Env.Disk.NewWhile(file, 0o644, func(early func([]byte, int)) ([]byte, error) {
		der, err := draft.Sign(pieces, signer, s.e.Env.Random, early)
		if err != nil {
			return nil, err
		}
		if err := s.e.Env.Step(estate.StepSigned); err != nil {
			return nil, err
		}
		l, err := revocation.Skim(der)
		if err != nil || l.Number == nil || l.Number.Int64() != item.Number {
			return nil, errors.Join(err, errors.New("the list that was signed does not read as it was meant"))
		}
		proof, err := hex.DecodeString(item.Proof)
		item.ContentDigest = l.DigestBy(proof)
		return der, err
	})
	if err == nil {
		s.files, s.made = append(s.files, file), append(s.made, *item)
	}
	return err
}

// reading says how entries are read.
type reading struct {
	rebuild bool // all of them from the records
	count   *int // where to count them at the same moment; nil where that is done elsewhere
}

// entries gives the encoded entries of a list; nil where the list before cannot be used and it
// was not asked to make it again. What a delta tells is read at the same moment: whoever holds its base
// and the delta knows just what the list tells.
func (s *signing) entries(ctx context.Context, d Due, item *event.List, delta *changes, how reading) (pieces [][]byte,
	err error) {
	err = s.e.View(ctx, func(snapshot *estate.Estate) (err error) {
		b := building{e: snapshot, d: d, item: item, hash: revocation.NewProof()}
		if _, item.Gone, err = snapshot.Records.LastRevocation(ctx, d.Generation.Authority.Handle,
			asPart(d)); err != nil {
			return err
		}
		if how.count != nil {
			if *how.count, err = snapshot.Records.CountListed(ctx, d.Generation.Authority.Handle, asPart(d),
				time.Unix(item.Cut, 0)); err != nil {
				return err
			}
		}
		if how.rebuild {
			pieces, err = b.rebuild(ctx)
		} else {
			pieces, err = b.onward(ctx)
		}
		item.Proof = hex.EncodeToString(b.hash.Sum(nil))
		if err == nil && delta != nil {
			err = delta.read(ctx, snapshot, d, *item)
		}
		return err
	})
	return pieces, err
}

// changes are the outcome of certificates since a base list.
type changes struct {
	base    event.List
	entries []byte
	n       int
}

// read reads them, as the records are at one moment.
func (c *changes) read(ctx context.Context, snapshot *estate.Estate, d Due, whole event.List) (err error) {
	b := building{e: snapshot, d: d, item: &event.List{Cut: whole.Cut}}
	if c.entries, c.n, err = b.rows(ctx, c.base.Through, nil, 0); err != nil {
		return err
	}
	gone := store.RevocationFilter{Handle: d.Generation.Authority.Handle, Part: -1, Released: true}
	return snapshot.Records.EachRevocation(ctx, gone, func(r store.Revocation) (err error) {
		if !r.Released.After(c.base.Gone) {
			return nil
		}
		c.n++
		e := entryOf(r)
		e.At, e.Reason = r.Released, revocation.RemoveFromCRL
		c.entries, err = revocation.AppendEntry(c.entries, e)
		return err
	})
}

// asPart is how the records are asked for a list's certificates: the whole list has all parts.
func asPart(d Due) int {
	if d.Part == 0 {
		return -1
	}
	return d.Part
}

// baseOf is the list that a delta adds to: the oldest that someone may still hold and call
// fresh, so that everybody who holds any list can use the delta.
func (s *signing) baseOf(d Due, ahead int) (event.List, bool) {
	var base event.List
	for _, i := range s.have.All(d.scope()) {
		if !i.Delta && !i.Next.Before(s.now) && !i.This.After(s.now) && (base.Number == 0 || i.Number < base.Number) {
			base = i
		}
	}
	return base, base.Number != 0 && ahead == 0
}

// delta signs what changed since a base, under the number of the whole list (section 5.2.4).
func (s *signing) delta(signer keystore.Opened, c changes, whole event.List, draft revocation.Draft) error {
	draft.Base, draft.Freshest = c.base.Number, nil
	item := event.List{List: whole.List, Delta: true, Number: whole.Number, Base: c.base.Number, This: whole.This,
		Next: whole.Next, Cut: whole.Cut, Gone: whole.Gone, Entries: c.n}
	proof := revocation.NewProof()
	proof.Write(c.entries)
	item.Proof = hex.EncodeToString(proof.Sum(nil))
	return s.keep(draft, &item, [][]byte{c.entries}, signer)
}

// record puts all that was signed on record.
func (s *signing) record(ctx context.Context) (journal.Head, error) {
	return s.e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		var told []event.ListNumber
		for _, a := range s.h {
			handle := a.Handle
			if _, ours := s.after[handle]; !ours {
				continue
			}
			number := s.next[handle] - 1
			if err := tx.NumberList(handle, s.after[handle], number); err != nil {
				return nil, err
			}
			told = append(told, event.ListNumber{By: handle, After: s.after[handle], Number: number})
		}
		return []event.Record{event.On("lists", event.ListsSigned{Authorities: told, Lists: s.made})}, nil
	})
}

// sweep removes the lists that no one needs any more: superseded ones, and those of acts that
// were cut off.
func sweep(ctx context.Context, e *estate.Estate) error {
	have, err := inventory.Known(ctx, e.Records)
	if err != nil {
		return err
	}
	needed := map[string]bool{}
	for _, i := range have.Needed(e.Now()) {
		needed[filepath.Base(inventory.File(e, i))] = true
	}
	files, err := os.ReadDir(inventory.Folder(e))
	if err != nil {
		return fmt.Errorf("%s: %w", inventory.Folder(e), disk.Explain(err))
	}
	for _, f := range files {
		info, err := f.Info()
		if err != nil || !f.Type().IsRegular() || needed[f.Name()] || !strings.HasSuffix(f.Name(), ".crl") ||
			time.Since(info.ModTime()) < settled { // someone may be about to put it on record
			continue
		}
		if err := e.Env.Disk.Remove(filepath.Join(inventory.Folder(e), f.Name())); err != nil && !errors.Is(err,
			os.ErrNotExist) {
			return err
		}
	}
	return nil
}

// settled is how old a list must be before it counts as left behind.
const settled = 10 * time.Minute
