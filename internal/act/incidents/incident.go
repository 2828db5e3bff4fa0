// Package incidents leads from the suspicion that a key is known to somebody else to the
// point where nothing hangs on it any more.
//
// An incident stands in the journal: when it was opened, about what, and what was affected
// then. Everything else is worked out from the records each time: whether the replacements
// are there, who has them, whether the old was taken back and published, and what endpoints
// were seen to serve. So it goes on wherever it was left, whoever does the work, and no step
// is done because somebody said so.
package incidents

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/internal/act/revoking"
	"ironseal/internal/estate"
	"ironseal/internal/failure"
	"ironseal/internal/records"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
)

// The acts, as the journal calls them.
const (
	OpenAct  = "open incident"
	CloseAct = "close incident"
)

// Incident is one incident, as it was opened and closed.
type Incident struct {
	Name        string    `json:"incident" doc:"its number, such as I1"`
	About       string    `json:"about" doc:"the generation or the certificate whose key is in doubt"`
	Serial      string    `json:"serial" doc:"of that certificate"`
	Authority   bool      `json:"ca" doc:"whether it is an authority's"`
	Because     string    `json:"because" doc:"what is suspected"`
	Opened      time.Time `json:"opened" doc:"when"`
	Who         string    `json:"who" doc:"who opened it"`
	Closed      time.Time `json:"closed,omitzero" doc:"when it was closed"`
	Outcome     string    `json:"outcome,omitempty" doc:"what was said at its end"`
	Left        []string  `json:"left,omitempty" doc:"steps that were not done when it was closed"`
	Certificate string    `json:"certificate" doc:"SHA-256 of the certificate, in hex"`

	seq int64
}

// Open reports whether an incident is still open.
func (i Incident) Open() bool { return i.Closed.IsZero() }

// journaled is what entries are read from: the records, in or outside an act.
type journaled interface {
	EntriesOf(ctx context.Context, act string, fn func(journal.Entry) error) error
}

// List reads all incidents, oldest first.
func List(ctx context.Context, e *estate.Estate) ([]Incident, error) { return all(ctx, e.Records) }

func all(ctx context.Context, from journaled) (out []Incident, err error) {
	err = from.EntriesOf(ctx, OpenAct, func(en journal.Entry) error {
		i := Incident{Name: en.Object, Opened: en.At, Who: en.Actor, seq: en.Seq}
		if err := json.Unmarshal([]byte(en.Detail), &i); err != nil {
			return fmt.Errorf("journal J%d: %w", en.Seq, err)
		}
		out = append(out, i)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, from.EntriesOf(ctx, CloseAct, func(en journal.Entry) error {
		for n := range out {
			if out[n].Name == en.Object {
				told := struct {
					Because string
					Left    []string
				}{}
				if err := json.Unmarshal([]byte(en.Detail), &told); err != nil {
					return fmt.Errorf("journal J%d: %w", en.Seq, err)
				}
				out[n].Closed, out[n].Outcome, out[n].Left = en.At, told.Because, told.Left
			}
		}
		return nil
	})
}

// Find finds an incident by its number, or the one that is open about a certificate or an
// authority.
func Find(ctx context.Context, e *estate.Estate, name string) (Incident, error) {
	list, err := List(ctx, e)
	if err != nil {
		return Incident{}, err
	}
	for _, i := range slices.Backward(list) {
		handle, _, _ := strings.Cut(i.About, ".g")
		if strings.EqualFold(i.Name, name) || i.Open() && (i.About == name || i.Authority && handle == name) {
			return i, nil
		}
	}
	return Incident{}, failure.Of(failure.ErrNotFound, "incident %q: there is none; see them with: ironseal "+
		"incident list",
		name)
}

// Begin opens an incident. What it is about grants nothing from that moment.
func Begin(ctx context.Context, e *estate.Estate, name, because string) (Incident, journal.Head, error) {
	var out Incident
	if strings.TrimSpace(because) == "" {
		return out, journal.Head{}, errors.New("say what is suspected: --because TEXT")
	}
	t, err := revoking.Find(ctx, e, name)
	if err != nil {
		return out, journal.Head{}, err
	}
	out = Incident{About: t.Title(), Serial: t.SerialHex(), Because: because,
		Certificate: fmt.Sprintf("%x", t.SHA256())}
	var stop []*hierarchy.Generation
	if g := t.Generation; g != nil {
		out.About, out.Authority = g.Name(), true
		if stop, err = withKey(ctx, e, g); err != nil {
			return out, journal.Head{}, err
		}
	}
	head, err := e.Act(ctx, func(tx *records.Tx) ([]journal.Entry, error) {
		known, err := all(ctx, tx)
		if err != nil {
			return nil, err
		}
		for _, i := range known {
			if i.Open() && i.Certificate == out.Certificate {
				return nil, failure.Of(failure.ErrChanged, "the incident %s about %s is open since %s: go on "+
					"with: ironseal "+
					"incident show %s", i.Name, i.About, i.Opened.Format("2006-01-02"), i.Name)
			}
		}
		out.Name, out.Opened, out.Who = fmt.Sprintf("I%d", len(known)+1), tx.Now(), e.World.Actor.Name
		names := []string{}
		for _, g := range stop {
			if err := tx.Stop(g, "incident "+out.Name); err != nil {
				return nil, err
			}
			names = append(names, g.Name())
		}
		return []journal.Entry{estate.Entry(OpenAct, out.Name, "about", out.About, "serial", out.Serial, "ca",
			out.Authority, "certificate", out.Certificate, "because", because, "stopped", names)}, nil
	})
	return out, head, err
}

// withKey are the generations of an authority that have the key of one.
func withKey(ctx context.Context, e *estate.Estate, g *hierarchy.Generation) (out []*hierarchy.Generation, err error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range h.Find(g.Authority.Handle).Generations {
		if hierarchy.SameList(o, g) {
			out = append(out, o)
		}
	}
	return out, nil
}

// End closes an incident. What is not done yet must be passed over knowingly. What was
// stopped grants again only where it was a false alarm and nothing of it was revoked.
func End(ctx context.Context, e *estate.Estate, p Progress, because string, unfinished bool) (journal.Head, error) {
	if strings.TrimSpace(because) == "" {
		return journal.Head{}, errors.New("say how it ended: --because TEXT")
	}
	if !p.Open() {
		return journal.Head{}, fmt.Errorf("incident %s was closed already, on %s", p.Name,
			p.Closed.Format("2006-01-02"))
	}
	left := p.Undone()
	if len(left) > 0 && !unfinished {
		return journal.Head{}, &Unfinished{p.Name, left}
	}
	return e.Act(ctx, func(tx *records.Tx) ([]journal.Entry, error) {
		known, err := all(ctx, tx)
		if err != nil {
			return nil, err
		}
		for _, i := range known {
			if i.Name == p.Name && !i.Open() {
				return nil, failure.Of(failure.ErrChanged, "incident %s was closed meanwhile", p.Name)
			}
		}
		h, err := tx.Hierarchy()
		if err != nil {
			return nil, err
		}
		again := []string{}
		for _, g := range estate.AllGenerations(h) {
			if g.Stopped == "incident "+p.Name && g.Revoked.IsZero() {
				if err := tx.Stop(g, ""); err != nil {
					return nil, err
				}
				again = append(again, g.Name())
			}
		}
		return []journal.Entry{estate.Entry(CloseAct, p.Name, "because", because, "left", append([]string{}, left...),
			"grant again", again)}, nil
	})
}

// Unfinished says which steps of an incident are not done.
type Unfinished struct {
	Name string
	Left []string
}

func (u *Unfinished) Error() string {
	return fmt.Sprintf("incident %s: not done yet: %s: go on with: ironseal incident show %s", u.Name,
		strings.Join(u.Left, ", "), u.Name)
}
