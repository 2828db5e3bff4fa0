// Package publishing signs revocation lists and puts them, with the authorities'
// certificates, into a folder that any web server can serve.
//
// A list is signed, kept and recorded, in this order, and only then released: whatever stops
// the program in between, the folder that is served stays as it was, and no number is used
// twice. The folder is made again beside its place and takes it in one step.
package publishing

import (
	"context"
	"os"
	"slices"
	"time"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/pki/ext"
	"ironseal/pki/hierarchy"
	"ironseal/pki/span"
)

// Ask is what a person asks for.
type Ask struct {
	Only  []string  // handles or generations; none: all
	Skip  []string  // handles that are left out
	All   bool      // those too that need it not yet
	Ahead int       // so many more in advance, each for its time
	Life  span.Span // in place of what the settings say
	Step  span.Span // from one to the next of those that are signed ahead
}

// Due is a list that is to be signed, or one that is not, and why.
type Due struct {
	Generation *hierarchy.Generation
	Part       int
	Why        string     // to sign it; "" where that is not needed
	Unable     string     // why it cannot be signed here
	Now        event.List // the one that is served; zero for none
	Until      time.Time
}

// Title is the file under which the list is served.
func (d Due) Title() string { return event.List{List: d.Generation.Name(), Part: d.Part}.Title() }

// Plan is what would be published.
type Plan struct {
	Ask  Ask
	Due  []Due
	now  time.Time
	have inventory.Lists
	h    hierarchy.Hierarchy
}

// Signs are those that are to be signed.
func (p Plan) Signs() (out []Due) {
	for _, d := range p.Due {
		if d.Why != "" && d.Unable == "" {
			out = append(out, d)
		}
	}
	return out
}

// PlanLists tells of every list whether it is to be signed, and why.
func PlanLists(ctx context.Context, e *estate.Estate, ask Ask) (Plan, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (Plan, error) { return planLists(ctx, e, ask) })
}

func planLists(ctx context.Context, e *estate.Estate, ask Ask) (Plan, error) {
	p := Plan{Ask: ask, now: e.Now()}
	var err error
	if p.h, err = e.Hierarchy(ctx); err != nil {
		return p, err
	}
	if p.have, err = inventory.Known(ctx, e.Records); err != nil {
		return p, err
	}
	for _, name := range slices.Concat(ask.Only, ask.Skip) {
		if _, err := estate.FindGeneration(p.h, name); err != nil {
			return p, err
		}
	}
	for _, g := range inventory.Signers(p.h, p.now) {
		if len(ask.Only) > 0 && !meant(ask.Only, g) || meant(ask.Skip, g) {
			continue
		}
		parts, err := p.parts(ctx, e, g)
		if err != nil {
			return p, err
		}
		for part := range parts + 1 {
			d := Due{Generation: g, Part: part}
			d.Now, _ = p.have.At(d.scope(), p.now)
			d.Until = p.have.Ends(d.scope())
			newest, gone, err := e.Records.LastRevocation(ctx, g.Authority.Handle, asPart(d))
			if err != nil {
				return p, err
			}
			d.Unable = unable(e, g)
			p.why(e, &d, newest, gone)
			p.Due = append(p.Due, d)
		}
	}
	return p, nil
}

// Unpublished reports whether the list has to be signed whatever the time is: none exists, it is stale,
// or it lacks what was revoked.
func (d Due) Unpublished() bool {
	return d.Why != "" && d.Why != whyTime && d.Why != whyLife
}

// Late is when the next list is late: half a turn after its time; for a root, or where another estate signs
// it, when two thirds of its life are over.
func (d Due) Late(e *estate.Estate) time.Time {
	_, each := inventory.Lives(e, d.Generation)
	if d.Generation.IsRoot() || d.Unable != "" || d.Until.After(d.Now.Next) {
		return d.Until.Add(-d.Now.Next.Sub(d.Now.This) / 3)
	}
	return d.Now.This.Add(each.After(d.Now.This).Sub(d.Now.This) * 3 / 2)
}

func (d Due) scope() event.Scope { return event.Scope{List: d.Generation.Name(), Part: d.Part} }

func meant(names []string, g *hierarchy.Generation) bool {
	return slices.Contains(names, g.Authority.Handle) || slices.Contains(names, g.Name())
}

// unable says why a generation's lists cannot be signed here, or "".
func unable(e *estate.Estate, g *hierarchy.Generation) string {
	c := g.Certificate
	switch {
	case g.Authority.External():
		return "its key is elsewhere; its lists are imported here"
	case c.HasUsage && c.Usage&ext.CRLSign == 0:
		return "its certificate does not allow it to sign lists"
	case !e.Keys.Has(c.Key):
		return "its key is not there any more"
	}
	return ""
}

// parts is how many parts a generation's lists have.
func (p Plan) parts(ctx context.Context, e *estate.Estate, g *hierarchy.Generation) (int, error) {
	most := 0
	for _, o := range g.Authority.Generations {
		if hierarchy.SameList(o, g) {
			part, err := e.Records.LastPart(ctx, o.Name())
			if err != nil {
				return 0, err
			}
			most = max(most, part)
		}
	}
	for _, s := range p.have.Scopes() {
		if s.List == g.Name() {
			most = max(most, s.Part)
		}
	}
	return most, nil
}

// Why a list is signed though what it tells is still true and fresh.
const (
	whyLife = "two thirds of its life are over"
	whyTime = "its time is up"
)

// whyChanged says what a list lacks. Revocations are numbered over all authorities, so that the number says no
// more than that there are some.
func whyChanged(more int) string {
	if more > 0 {
		return "certificates were revoked since the last list"
	}
	return "certificates were taken off hold since the last list"
}

// why decides whether a list is to be signed.
func (p Plan) why(e *estate.Estate, d *Due, newest int64, released time.Time) {
	life, each := inventory.Lives(e, d.Generation)
	if !p.Ask.Life.IsZero() {
		life = p.Ask.Life
	}
	now := d.Now
	more := max(0, int(newest-now.Through))
	changed := newest > now.Through || released.After(now.Gone)
	left := d.Until.Sub(p.now)
	switch _, err := os.Lstat(inventory.File(e, now)); {
	case now.Number == 0:
		d.Why = "no list exists yet"
	case err != nil:
		d.Why = "its file is missing"
	case p.now.After(now.Next):
		d.Why = "it is stale"
	case d.Generation.Authority.External(): // what it tells was recorded from it
	case changed:
		d.Why = whyChanged(more)
	case p.Ask.All || p.Ask.Ahead > 0:
		d.Why = "it was asked for"
	case p.have.Ahead(d.scope(), p.now) > 0:
	case d.Generation.IsRoot() && left < life.After(p.now).Sub(p.now)/3:
		d.Why = whyLife
	case !d.Generation.IsRoot() && !each.After(now.This).After(p.now):
		d.Why = whyTime
	}
}

// Signer is a generation whose key tells of revocations, and until when what it signs now is
// fresh.
type Signer struct {
	Generation *hierarchy.Generation
	Unable     string // why it cannot sign here; "" where it can
	Next       time.Time
}

// Signers are those that are meant.
func Signers(ctx context.Context, e *estate.Estate, ask Ask) ([]Signer, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	var out []Signer
	for _, g := range inventory.Signers(h, e.Now()) {
		if len(ask.Only) > 0 && !meant(ask.Only, g) || meant(ask.Skip, g) {
			continue
		}
		life, _ := inventory.Lives(e, g)
		if !ask.Life.IsZero() {
			life = ask.Life
		}
		s := Signer{Generation: g, Unable: unable(e, g), Next: life.After(e.Now())}
		switch {
		case s.Unable != "":
		case g.RevokedAbove() != nil:
			s.Unable = "it was revoked: no client believes what it says"
		case g.Stopped != "":
			s.Unable = "its key may be compromised (" + g.Stopped + "): it signs nothing but its own list"
		}
		out = append(out, s)
	}
	return out, nil
}
