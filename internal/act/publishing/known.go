// Package publishing signs revocation lists and puts them, with the authorities'
// certificates, into a folder that any web server can serve.
//
// Which lists there are stands in the journal alone; the lists themselves lie in the
// estate's folder "lists", one file a list, named by its number. A list is signed, kept and
// recorded, in this order, and only then released: whatever stops the program in between,
// the folder that is served stays as it was, and no number is used twice. The folder is made
// anew beside its place and takes it in one step.
package publishing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/act/revoking"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/records"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
)

// The acts about lists, beside that of signing them.
const (
	TakeInAct = "take in list"       // one that was signed elsewhere comes here
	PlaceAct  = "put lists in place" // they were written into a folder that is served
)

// Item is one list that was signed, or is to be.
type Item struct {
	List    string    `json:"list" doc:"the generation whose key signs it"`
	Part    int       `json:"part" doc:"the part of the generation's certificates that it is about; 0: all"`
	Delta   bool      `json:"delta" doc:"whether it tells only what changed since its base"`
	Number  int64     `json:"number" doc:"its number"`
	Base    int64     `json:"base" doc:"of a delta, the number of the list that it adds to; 0: of none"`
	This    time.Time `json:"this_update" doc:"its date"`
	Next    time.Time `json:"next_update" doc:"when its successor is there at the latest"`
	Entries int       `json:"entries" doc:"how many certificates stand on it"`
	Seal    string    `json:"seal" doc:"BLAKE2b-256 of it, with that of its entries in the place of the entries"`
	SHA256  string    `json:"sha256,omitempty" doc:"of a list that was signed before there were seals, SHA-256 of it"`

	Through int64     `json:"through" doc:"the last revocation on record that it tells of"`
	Gone    time.Time `json:"gone" doc:"the last release from hold on record that it knows of"`
	Proof   string    `json:"proof" doc:"hash of its entries, from which its successor is made"`
	Mark    string    `json:"mark" doc:"by which its file in the estate is told from all others"`
	Cut     int64     `json:"cut" doc:"what ended before this moment (Unix seconds) was left out"`
	seq     int64
}

// scope is what a list is about, apart from its time.
type scope struct {
	list  string
	part  int
	delta bool
}

// Is reports whether a list is this one.
func (i Item) Is(l *revocation.List) bool {
	if i.Seal == "" {
		return fmt.Sprintf("%x", l.SHA256()) == i.SHA256
	}
	return l.Seal() == i.Seal
}

func (i Item) scope() scope { return scope{i.List, i.Part, i.Delta} }

// Title is what a list is called: the file under which it is served.
func (i Item) Title() string {
	if i.Delta {
		return revocation.DeltaFile(i.List)
	}
	return revocation.ListFile(i.List, i.Part)
}

// Lists is what was signed, by scope: the newest signing of each, which is more than one list
// where some were signed ahead.
type Lists struct {
	newest map[scope][]Item
	fresh  map[scope][]Item    // all complete ones, for deltas
	placed map[scope]int64     // the highest number that was written into any folder
	folder map[string]placings // the same by folder, as its last entry tells
}

// placings are the numbers of the lists that a folder holds.
type placings map[scope]int64

// Known reads from the journal which lists there are.
func Known(ctx context.Context, e *estate.Estate) (Lists, error) {
	out := Lists{map[scope][]Item{}, map[scope][]Item{}, map[scope]int64{}, map[string]placings{}}
	for _, act := range []string{revoking.PublishAct, TakeInAct} {
		err := e.Records.EntriesOf(ctx, act, func(en journal.Entry) error {
			told, err := listsOf(en)
			if err != nil {
				return err
			}
			for _, i := range told {
				old := out.newest[i.scope()]
				if len(old) > 0 && old[0].seq != en.Seq {
					old = nil
				}
				out.newest[i.scope()] = append(old, i)
				out.fresh[i.scope()] = append(out.fresh[i.scope()], i)
			}
			return nil
		})
		if err != nil {
			return out, err
		}
	}
	return out, e.Records.EntriesOf(ctx, PlaceAct, func(en journal.Entry) error {
		told, err := listsOf(en)
		now := placings{}
		for _, i := range told {
			now[i.scope()] = i.Number
			out.placed[i.scope()] = max(out.placed[i.scope()], i.Number)
		}
		out.folder[en.Object] = now
		return err
	})
}

// place puts on record that lists were written into a folder, unless its last entry says the same.
// An incident is over only once the list that tells of it lies where clients find it.
func place(ctx context.Context, e *estate.Estate, dir string, have Lists, lists []Item) error {
	if abs, err := filepath.Abs(dir); err == nil {
		dir = abs
	}
	now := placings{}
	told := []map[string]any{}
	for _, i := range lists {
		now[i.scope()] = i.Number
		told = append(told, map[string]any{"list": i.List, "part": i.Part, "delta": i.Delta, "number": i.Number})
	}
	if maps.Equal(now, have.folder[dir]) {
		return nil
	}
	_, err := e.Act(ctx, func(*records.Tx) ([]journal.Entry, error) {
		return []journal.Entry{estate.Entry(PlaceAct, dir, "lists", told)}, nil
	})
	return err
}

// Untold says why clients of a generation cannot know of a revocation on record yet; "" where a list
// that tells of it was put in place.
func (l Lists) Untold(by *hierarchy.Generation, revocation int64) string {
	s := scope{list: by.ListName()}
	telling := int64(0) // the number of the first list that tells of it
	for _, i := range l.fresh[s] {
		if (i.Through >= revocation || by.Authority.Elsewhere) && (telling == 0 || i.Number < telling) {
			telling = i.Number
		}
	}
	if by.Authority.Elsewhere && len(l.newest[s]) > 0 { // it was learnt from a list that came here
		telling = l.newest[s][0].Number
	}
	switch {
	case telling == 0:
		return "no list of " + by.Label() + " tells of it yet"
	case l.placed[s] < telling:
		return "the list of " + by.Label() + " that tells of it was not written into a folder yet"
	}
	return ""
}

// listsOf are the lists of which an entry tells.
func listsOf(en journal.Entry) ([]Item, error) {
	var told struct{ Lists []Item }
	if err := json.Unmarshal([]byte(en.Detail), &told); err != nil {
		return nil, fmt.Errorf("journal J%d: %w", en.Seq, err)
	}
	for n := range told.Lists {
		told.Lists[n].seq = en.Seq
	}
	return told.Lists, nil
}

// at is the list of a scope that is to be served at a moment; false where there is none.
func (l Lists) at(s scope, now time.Time) (Item, bool) {
	var best Item
	for _, i := range l.newest[s] {
		if !i.This.After(now) && (best.This.IsZero() || i.This.After(best.This)) {
			best = i
		}
	}
	return best, !best.This.IsZero()
}

// Like is the list that is to be served at a moment in the place of one: of the same
// generation, part and kind; false where there is none.
func (l Lists) Like(i Item, now time.Time) (Item, bool) { return l.at(i.scope(), now) }

// Served are the lists that are to be served at a moment.
func (l Lists) Served(now time.Time) (out []Item) {
	for _, s := range slices.SortedFunc(maps.Keys(l.newest), byPart) {
		if i, ok := l.at(s, now); ok {
			out = append(out, i)
		}
	}
	return out
}

// last is the entry of the journal that tells of the newest lists.
func (l Lists) last() (seq int64) {
	for _, list := range l.newest {
		seq = max(seq, list[0].seq)
	}
	return seq
}

// needed are the lists that are to be served at a moment or later.
func (l Lists) needed(now time.Time) (out []Item) {
	for _, s := range slices.SortedFunc(maps.Keys(l.newest), byPart) {
		current, _ := l.at(s, now)
		for _, i := range l.newest[s] {
			if i.Number == current.Number || i.This.After(now) {
				out = append(out, i)
			}
		}
	}
	return out
}

// ahead is how many lists of a scope wait for their time.
func (l Lists) ahead(s scope, now time.Time) (n int) {
	for _, i := range l.newest[s] {
		if i.This.After(now) {
			n++
		}
	}
	return n
}

// ends is until when a scope is fresh, by the last list that was signed.
func (l Lists) ends(s scope) (end time.Time) {
	for _, i := range l.newest[s] {
		if i.Next.After(end) {
			end = i.Next
		}
	}
	return end
}

// Folder is where the lists of an estate lie.
func Folder(e *estate.Estate) string { return filepath.Join(e.Dir, "lists") }

// kept is the file in which a list is kept. What is on its way onto record, or was cut off on
// it, never has the name of another.
func kept(e *estate.Estate, i Item) string {
	return filepath.Join(Folder(e), fmt.Sprintf("%s.%d.%s.crl", strings.TrimSuffix(i.Title(), ".crl"), i.Number,
		i.Mark))
}

// read reads a list that is kept, and proves that it is the one on record.
func read(e *estate.Estate, i Item) (*revocation.List, error) {
	if _, err := os.Lstat(kept(e, i)); err != nil {
		return nil, err
	}
	data, err := disk.ReadRegular(kept(e, i), revocation.MostSize)
	if err != nil {
		return nil, err
	}
	l, err := revocation.ReadList(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", kept(e, i), err)
	}
	if !i.Is(l) {
		return nil, fmt.Errorf("%s: it is not the list that was signed: sign it again: ironseal revocations "+
			"publish --all", kept(e, i))
	}
	return l, nil
}

// signers are the generations whose keys sign lists: of each name and key the first, while
// any of its generations lasts.
func signers(h hierarchy.Hierarchy, now time.Time) (out []*hierarchy.Generation) {
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

// lives is how long lists of a generation are fresh, and after what they are signed anew.
func lives(e *estate.Estate, g *hierarchy.Generation) (life, each span.Span) {
	p := e.Settings.Publication
	text := p.Life
	if g.IsRoot() {
		text = p.RootLife
	}
	life, _ = span.Parse(text) // checked when the settings were read
	each, _ = span.Parse(p.Each)
	return life, each
}

// Current are the lists that are to be served now, whole ones, parts and deltas.
func Current(ctx context.Context, e *estate.Estate) (out []*revocation.List, err error) {
	have, err := Known(ctx, e)
	if err != nil {
		return nil, err
	}
	for _, i := range have.Served(e.Now()) {
		l, err := read(e, i)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}

// All are the lists that are on record, older ones too.
func (l Lists) All() (out []Item) {
	for _, list := range l.fresh {
		out = append(out, list...)
	}
	return out
}

// KeptList is a list as it is carried elsewhere.
type KeptList struct {
	Name, Title string
	DER         []byte
}

// Kept are the whole lists of generations whose keys are here: those of now, and those that
// were signed ahead.
func Kept(ctx context.Context, e *estate.Estate) (out []KeptList, err error) {
	have, err := Known(ctx, e)
	for _, i := range have.needed(e.Now()) {
		if i.Part != 0 || i.Delta {
			continue
		}
		l, err := read(e, i)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return nil, err
		}
		out = append(out, KeptList{fmt.Sprintf("%s.%d.crl", i.List, i.Number), "revocation list " + i.Title(), l.Raw})
	}
	return out, err
}

// Damaged tells of lists that are to be served, now or later, and whose files are not what was
// signed: by title, why.
func Damaged(ctx context.Context, e *estate.Estate) (map[string]string, error) {
	have, err := Known(ctx, e)
	out := map[string]string{}
	for _, i := range have.needed(e.Now()) {
		if _, err := read(e, i); err != nil {
			out[i.Title()] = disk.Plain(err).Error()
		}
	}
	return out, err
}
