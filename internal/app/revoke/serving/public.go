// Package serving keeps what clients fetch ready in memory: revocation lists, authorities' certificates and OCSP
// answers. It reads them from the records and never signs a list.
//
// What it holds is replaced as a whole. A server continues with what it has while the records are busy, locked, being
// restored or gone. A list is never replaced by an older one: clients may have seen the newer.
package serving

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/revocation"
)

// File is one file that clients fetch.
type File struct {
	Name     string
	Data     []byte
	Tag      string    // names these bytes: the beginning of their SHA-256, in hex
	Modified time.Time // when the list was signed, or when the certificate begins
	Next     time.Time // the next update of the list, or of the first of several; zero for certificates
}

// Public is all that clients fetch, at one moment.
type Public struct {
	Lists   []event.List // those that are in force
	Absent  []string     // generations of which no list is there
	Missing []string     // addresses of lists that certificates name, and that are not there
	Back    []string     // lists of which the records know an older one only: what was served before is served on
	files   map[string]*File
	state   string
}

// Find finds a file by its name.
func (p *Public) Find(name string) (*File, bool) {
	f, ok := p.files[name]
	return f, ok
}

// Names are the names of all files, sorted.
func (p *Public) Names() []string { return slices.Sorted(maps.Keys(p.files)) }

// Stale are the titles of lists that are past their next update.
func (p *Public) Stale(now time.Time) (out []string) {
	for _, l := range p.Lists {
		if now.After(l.Next) {
			out = append(out, l.Title())
		}
	}
	return out
}

// Read reads what clients fetch. before is what was served until now, and may be nil: it is returned where nothing
// changed, and keeps newer lists in place of older ones.
func Read(ctx context.Context, e *estate.Estate, before *Public) (*Public, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (*Public, error) {
		state, err := stateOf(ctx, e)
		if err != nil || before != nil && before.state == state {
			return before, err
		}
		files, told, err := publishing.Files(ctx, e)
		if err != nil {
			return before, err
		}
		out := &Public{Lists: told.Lists, Absent: told.Absent, Missing: told.Missing, files: map[string]*File{},
			state: state}
		out.fill(files)
		if before != nil {
			out.keepNewer(before)
		}
		return out, nil
	})
}

// stateOf is a text that differs where other files would be served.
func stateOf(ctx context.Context, e *estate.Estate) (string, error) {
	known, err := inventory.Known(ctx, e.Records)
	if err != nil {
		return "", err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return "", err
	}
	places, err := e.Records.Addresses(ctx)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for _, l := range known.Served(e.Now()) {
		fmt.Fprintln(&b, l.Title(), l.Number, l.SHA256)
	}
	for _, a := range h {
		for _, g := range a.Generations {
			fmt.Fprintf(&b, "%s %x %t\n", g.Name(), g.Certificate.SHA256(), e.Now().After(g.Certificate.NotAfter))
		}
	}
	fmt.Fprintln(&b, places)
	return b.String(), nil
}

// fill names the files with what a server says of them.
func (p *Public) fill(files map[string][]byte) {
	lists := map[string]event.List{}
	of := map[*byte]event.List{} // files that have another name hold the same bytes
	var first, last event.List
	for _, l := range p.Lists {
		lists[l.Title()] = l
		of[&files[l.Title()][0]] = l
		if first.Next.IsZero() || l.Next.Before(first.Next) {
			first = l
		}
		if l.This.After(last.This) {
			last = l
		}
	}
	for name, data := range files {
		sum := sha256.Sum256(data)
		f := &File{Name: name, Data: data, Tag: hex.EncodeToString(sum[:16])}
		l, ok := of[&data[0]]
		if !ok {
			l, ok = lists[strings.TrimSuffix(name, ".pem")]
		}
		switch {
		case ok:
			f.Modified, f.Next = l.This, l.Next
		case strings.HasSuffix(name, ".lists.pem"):
			f.Modified, f.Next = last.This, first.Next
		default:
			issuer := files[strings.TrimSuffix(name, ".p7c")+".cer"]
			if issuer == nil {
				issuer = data
			}
			if c, err := cert.Read(issuer); err == nil {
				f.Modified = c.NotBefore
			}
		}
		p.files[name] = f
	}
}

// keepNewer keeps lists that were served and are newer than those of the records: an older copy of the estate was
// restored, or put in the place of the one that was open.
func (p *Public) keepNewer(before *Public) {
	number := map[string]int64{}
	for _, l := range p.Lists {
		number[l.Title()] = l.Number
	}
	gone := map[string]bool{}
	for _, l := range before.Lists {
		now, there := number[l.Title()]
		if there && now >= l.Number || !there && p.files[revocation.IssuerFile(l.List)] == nil {
			continue // it is the newest, or its generation has ended
		}
		p.Back = append(p.Back, l.Title())
		gone[l.Title()] = true
		p.Lists = append(slices.DeleteFunc(p.Lists, func(o event.List) bool { return o.Title() == l.Title() }), l)
	}
	if len(gone) == 0 {
		return
	}
	for name, f := range before.files {
		if gone[strings.TrimSuffix(name, ".pem")] || strings.HasSuffix(name, ".lists.pem") {
			p.files[name] = f
		}
	}
	slices.Sort(p.Back)
}

// Watched is what a watcher has to know to see that something changed: the journal's newest entry.
func Watched(ctx context.Context, s store.Reader) (int64, error) {
	head, _, err := s.Newest(ctx)
	return head.Seq, err
}
