// Package inventory knows which revocation lists there are, and which of them are to be served.
//
// They are in the journal alone; the lists themselves lie in the estate's folder "lists", one file a
// list. Of several lists about the same certificates the newest state wins by what it says: by its
// number, whatever file or transfer it came in, and in whatever order. Lists that were signed ahead wait
// beside it for their time, unless a list that was signed after them takes it earlier.
package inventory

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
)

// Is reports whether a list is this one.
func Is(i event.List, l *revocation.List) bool {
	if i.ContentDigest == "" {
		return fmt.Sprintf("%x", l.SHA256()) == i.SHA256
	}
	return l.ContentDigest() == i.ContentDigest
}

// Lists are the revocation lists on record.
type Lists struct {
	state  map[event.Scope][]event.List // those that are served, now or later, the lowest number first
	all    map[event.Scope][]event.List // every one
	aside  []event.List                 // those that came too late to be served; what they tell is on record
	placed map[event.Scope]int64        // the highest number that was written into any folder
	folder map[string]placings          // what a folder holds, as its last entry tells
	last   int64                        // the entry of the journal that tells of the newest
}

// placings are the numbers of the lists that a folder holds.
type placings map[event.Scope]int64

// Known reads from the records which lists there are.
func Known(ctx context.Context, from store.DerivedReader) (Lists, error) {
	out := Lists{state: map[event.Scope][]event.List{}, all: map[event.Scope][]event.List{},
		placed: map[event.Scope]int64{}, folder: map[string]placings{}}
	if err := from.Derived(ctx, event.Lists, func(_ string, en journal.Entry) error {
		told, err := event.As[event.ListsSigned](en) // imported lists have the same fields
		for _, l := range told.Lists {
			l.Seq = en.Seq
			out.add(l)
		}
		return err
	}); err != nil {
		return out, err
	}
	if err := from.Derived(ctx, event.Placements, func(_ string, en journal.Entry) error {
		told, err := event.As[event.ListsPlaced](en)
		for _, l := range told.Lists {
			out.placed[l.Scope()] = max(out.placed[l.Scope()], l.Number)
		}
		return err
	}); err != nil {
		return out, err
	}
	return out, from.Derived(ctx, event.Folders, func(dir string, en journal.Entry) error {
		told, err := event.As[event.ListsPlaced](en)
		now := placings{}
		for _, l := range told.Lists {
			now[l.Scope()] = l.Number
		}
		out.folder[dir] = now
		return err
	})
}

// add adds one more list.
func (l *Lists) add(i event.List) {
	s := i.Scope()
	l.last = max(l.last, i.Seq)
	if i.Aside {
		l.aside = append(l.aside, i)
		return
	}
	l.all[s] = append(l.all[s], i)
	if i.Over {
		l.state[s] = nil
	}
	l.state[s] = inForce(append(l.state[s], i))
}

// inForce leaves out the lists that a newer one replaces: one with a higher number, from the
// moment of its date on.
func inForce(list []event.List) (out []event.List) {
	slices.SortStableFunc(list, func(a, b event.List) int { return int(min(1, max(-1, a.Number-b.Number))) })
	for _, i := range slices.Backward(list) {
		if len(out) == 0 || i.This.Before(out[len(out)-1].This) {
			out = append(out, i)
		}
	}
	slices.Reverse(out)
	return out
}

// At is the list of a scope that is to be served at a moment; false if none exists.
func (l Lists) At(s event.Scope, now time.Time) (best event.List, found bool) {
	for _, i := range l.state[s] {
		if !i.This.After(now) {
			best, found = i, true
		}
	}
	return best, found
}

// Scopes are those of which there is any list, in order.
func (l Lists) Scopes() []event.Scope {
	return slices.SortedFunc(maps.Keys(l.state), func(a, b event.Scope) int {
		if a.Part != b.Part {
			return a.Part - b.Part
		}
		return strings.Compare(fmt.Sprint(a), fmt.Sprint(b))
	})
}

// Served are the lists that are to be served at a moment.
func (l Lists) Served(now time.Time) (out []event.List) {
	for _, s := range l.Scopes() {
		if i, ok := l.At(s, now); ok {
			out = append(out, i)
		}
	}
	return out
}

// Last is the entry of the journal that tells of the newest list; 0 for none.
func (l Lists) Last() int64 { return l.last }

// Needed are the lists that are to be served at a moment or later.
func (l Lists) Needed(now time.Time) (out []event.List) {
	for _, s := range l.Scopes() {
		current, _ := l.At(s, now)
		for _, i := range l.state[s] {
			if i.Number == current.Number || i.This.After(now) {
				out = append(out, i)
			}
		}
	}
	return out
}

// Ahead is how many lists of a scope wait for their time.
func (l Lists) Ahead(s event.Scope, now time.Time) (n int) {
	for _, i := range l.state[s] {
		if i.This.After(now) {
			n++
		}
	}
	return n
}

// Ends is until when a scope is fresh, by the last list that was signed.
func (l Lists) Ends(s event.Scope) (end time.Time) {
	for _, i := range l.state[s] {
		if i.Next.After(end) {
			end = i.Next
		}
	}
	return end
}

// All are the lists of a scope that are on record, older ones too.
func (l Lists) All(s event.Scope) []event.List { return l.all[s] }

// InForce are the lists of a scope that are served, now or later, the lowest number first.
func (l Lists) InForce(s event.Scope) []event.List { return l.state[s] }

// Find finds the record of a list; false where no one wrote it down.
func (l Lists) Find(list *revocation.List) (event.List, bool) {
	if list.Number == nil || !list.Number.IsInt64() {
		return event.List{}, false
	}
	is := func(i event.List) bool { return i.Number == list.Number.Int64() && Is(i, list) }
	for _, some := range l.all {
		if n := slices.IndexFunc(some, is); n >= 0 {
			return some[n], true
		}
	}
	if n := slices.IndexFunc(l.aside, is); n >= 0 {
		return l.aside[n], true
	}
	return event.List{}, false
}

// Untold says why clients of a generation cannot know of a revocation on record yet; "" where a list
// that tells of it was put in place.
func (l Lists) Untold(by *hierarchy.Generation, revocation int64) string {
	s := event.Scope{List: by.ListName()}
	telling := int64(0) // the number of the first list that tells of it
	for _, i := range l.all[s] {
		if i.Through >= revocation && (telling == 0 || i.Number < telling) {
			telling = i.Number
		}
	}
	switch {
	case telling == 0:
		return "no list of " + by.Label() + " includes it yet"
	case l.placed[s] < telling:
		return "the list of " + by.Label() + " that includes it was not written into a folder yet"
	}
	return ""
}

// Placed reports whether the last entry about a folder tells that it holds just these lists.
func (l Lists) Placed(dir string, lists []event.List) bool {
	now := placings{}
	for _, i := range lists {
		now[i.Scope()] = i.Number
	}
	return maps.Equal(now, l.folder[dir])
}

// Folder is where the lists of an estate lie.
func Folder(e *estate.Estate) string { return filepath.Join(e.Dir, "lists") }

// File is the file in which a list is kept. What is on its way onto record, or was cut off on
// it, never has the name of another.
func File(e *estate.Estate, i event.List) string {
	return filepath.Join(Folder(e), fmt.Sprintf("%s.%d.%s.crl", strings.TrimSuffix(i.Title(), ".crl"), i.Number,
		i.Mark))
}

// Read reads a list that is kept, and proves that it is the one on record. The entries of one whose content is on
// record are proved by that alone, and are not counted.
func Read(e *estate.Estate, i event.List) (*revocation.List, error) {
	if _, err := os.Lstat(File(e, i)); err != nil {
		return nil, err
	}
	data, err := disk.ReadRegular(File(e, i), revocation.MostSize)
	if err != nil {
		return nil, err
	}
	read := revocation.Skim
	if i.ContentDigest == "" {
		read = revocation.ReadList
	}
	l, err := read(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", File(e, i), err)
	}
	if !Is(i, l) {
		return nil, fault.New(fault.Internal, "%s: it is not the list that was signed", File(e,
			i)).On(fault.File.Named("%s", File(e, i))).
			Then(advice.To("sign it again", advice.PublishLists, "all", ""))
	}
	return l, nil
}

// Signers are the generations whose keys sign lists: of each name and key the first, while
// any of its generations lasts.
func Signers(h hierarchy.Hierarchy, now time.Time) (out []*hierarchy.Generation) {
	for _, a := range h {
		for _, g := range a.Generations {
			if slices.ContainsFunc(out, func(o *hierarchy.Generation) bool {
				return o.Authority == a && hierarchy.SameList(o, g)
			}) {
				continue
			}
			if slices.ContainsFunc(a.Generations, func(o *hierarchy.Generation) bool {
				return hierarchy.SameList(o, g) && !now.After(o.Certificate.NotAfter)
			}) {
				out = append(out, g)
			}
		}
	}
	return out
}

// Lives is how long lists of a generation are fresh, and after what they are signed again.
func Lives(e *estate.Estate, g *hierarchy.Generation) (life, each span.Span) {
	p := e.Settings.Publication
	text := p.Life
	if g.IsRoot() {
		text = p.RootLife
	}
	life, _ = span.Parse(text) // checked when the settings were read
	each, _ = span.Parse(p.Each)
	return life, each
}

// SignedBy is the generation whose key signed a list; nil where it is none of ours.
func SignedBy(h hierarchy.Hierarchy, l *revocation.List) *hierarchy.Generation {
	for _, g := range estate.AllGenerations(h) {
		if l.Issuer.Equal(g.Certificate.Subject) && l.VerifiedBy(g.Certificate.Key) == nil {
			return g
		}
	}
	return nil
}

// Current are the lists that are to be served now, whole ones, parts and deltas.
func Current(ctx context.Context, e *estate.Estate) (out []*revocation.List, err error) {
	have, err := Known(ctx, e.Records)
	if err != nil {
		return nil, err
	}
	for _, i := range have.Served(e.Now()) {
		l, err := Read(e, i)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}

// KeptList is a list as it is carried elsewhere.
type KeptList struct {
	Name, Title string
	DER         []byte
}

// Kept are the whole lists of generations: those of now, and those that were signed ahead.
func Kept(ctx context.Context, e *estate.Estate) (out []KeptList, err error) {
	have, err := Known(ctx, e.Records)
	for _, i := range have.Needed(e.Now()) {
		if i.Part != 0 || i.Delta {
			continue
		}
		l, err := Read(e, i)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return nil, err
		}
		out = append(out, KeptList{fmt.Sprintf("%s.%d.crl", i.List, i.Number), "revocation list " + i.Title(), l.Raw})
	}
	return out, err
}

// Files are the files of the lists that are to be served, now or later, and that are there.
func Files(ctx context.Context, e *estate.Estate) (out []string, err error) {
	have, err := Known(ctx, e.Records)
	for _, i := range have.Needed(e.Now()) {
		if _, err := os.Lstat(File(e, i)); err == nil {
			out = append(out, File(e, i))
		}
	}
	return out, err
}

// Damaged tells of lists that are to be served, now or later, and whose files are not what was
// signed: by title, why.
func Damaged(ctx context.Context, e *estate.Estate) (map[string]string, error) {
	have, err := Known(ctx, e.Records)
	out := map[string]string{}
	for _, i := range have.Needed(e.Now()) {
		_, err := Read(e, i)
		if errors.Is(err, fs.ErrNotExist) && e.Settings.Storage.OnServer() {
			continue // another machine signed it, and has it; this one signs a newer one where it publishes
		}
		if err != nil {
			out[i.Title()] = disk.Explain(err).Error()
		}
	}
	return out, err
}
