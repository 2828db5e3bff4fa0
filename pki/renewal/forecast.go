// Package renewal tells when authorities must be renewed, in which order, and
// what that takes.
//
// An authority should be renewed long before it ends: from the day on which what
// it grants would outlive it, every grant is shorter than the one before, and
// no one is reported. That day is computed here for every authority and template,
// exactly, by the calendar.
//
// A renewal changes nothing below it. The level below continues under the old
// certificate until it is renewed itself, so the acts of a schedule come in
// order, the root first. Forecast simulates them over as many years as are asked
// for; Links makes the certificates by which the old root vouches for the new one
// and the reverse, so that clients continue trusting through the change.
package renewal

import (
	"fmt"
	"slices"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/hierarchy"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// Question is what a forecast is made from.
type Question struct {
	Hierarchy hierarchy.Hierarchy
	Templates []template.Template
	Now       time.Time
	Horizon   span.Span // how far the schedule is simulated; zero for the next acts only
	Only      string    // a template's name, to leave the others out of the rows; "" for all
	Outside   []Outside // authorities of other estates that depend on ours
}

// Outside is an authority that was signed here for another estate. What it grants is
// not known; it lives at least twice as long as that, where it was made by rule, so
// half of its life is where its grants begin to shrink.
type Outside struct {
	Title       string
	Certificate *cert.Certificate
	Parent      *hierarchy.Authority // of ours
}

// Row is what one authority grants by one template.
type Row struct {
	Authority string    `json:"authority"`
	Template  string    `json:"template"`
	Full      span.Span `json:"full"`  // what it should grant
	Until     time.Time `json:"until"` // where a life granted today would end
	Short     string    `json:"short"` // by how much that is too short; "" when it is full
	// the last day on which the full life is granted; zero where it never was
	LastFull time.Time `json:"last_full,omitzero"`
	CutBy    string    `json:"cut_by"` // whose end shortens it, now or first

}

// Act is one renewal of the schedule.
type Act struct {
	Day     time.Time `json:"day"`
	Handle  string    `json:"authority"`
	Number  int       `json:"generation"`
	Until   time.Time `json:"until"` // where the renewed authority will end
	Why     string    `json:"why"`
	Overdue bool      `json:"overdue"` // the day has passed
	Outside bool      `json:"outside"` // its key is in another estate, which asks here for the renewal
}

// Bar is one generation, on record or scheduled, for a picture.
type Bar struct {
	Handle    string    `json:"authority"`
	Level     int       `json:"level"` // 0 for a root
	Number    int       `json:"generation"`
	From      time.Time `json:"from"`
	Until     time.Time `json:"until"`
	ShrinksAt time.Time `json:"shrinks_at,omitzero"` // from when grants fall short; zero when it grants nothing
	Scheduled bool      `json:"scheduled"`           // not on record yet
}

// Report is a forecast.
type Report struct {
	Now    time.Time `json:"now" doc:"the moment it was computed for"`
	Rows   []Row     `json:"grants" doc:"what each authority can grant, by template"`
	Acts   []Act     `json:"acts" doc:"the renewals, in order"`
	Bars   []Bar     `json:"generations" doc:"each generation, planned ones too"`
	Hollow []string  `json:"never_full,omitempty" doc:"authorities that live less than what they should grant"`
	Idle   []Idle    `json:"idle,omitempty" doc:"authorities that grant nothing now"`
}

// Idle is an authority whose current generation is revoked or stopped. It is renewed with another key
// when someone decides it, and not because a day has come.
type Idle struct {
	Authority  string `json:"authority" doc:"its handle"`
	Generation int    `json:"generation" doc:"the number of the generation"`
	Why        string `json:"why" doc:"why it grants nothing"`
}

// mostActs bounds a schedule; an authority that lives a day and a horizon of
// centuries would otherwise never end.
const mostActs = 20_000

// Forecast computes what every authority grants, and when it must be renewed.
func Forecast(q Question) Report {
	q.Now = q.Now.UTC().Truncate(time.Second)
	s := simulation{q: q, state: map[*hierarchy.Authority]*state{}}
	out := Report{Now: q.Now}
	for _, a := range q.Hierarchy {
		g := a.Current()
		if g == nil {
			continue
		}
		s.add(a, g)
		if !a.Retired.IsZero() || q.Now.After(g.Certificate.NotAfter) && a.External() {
			continue
		}
		if why := g.Idle(); why != "" {
			out.Idle = append(out.Idle, Idle{a.Handle, g.Number, why})
			continue
		}
		for _, t := range q.Templates {
			if Grants(g, t) && (q.Only == "" || q.Only == t.Name) {
				out.Rows = append(out.Rows, rowOf(g, t, q.Now))
			}
		}
	}
	for _, a := range q.Hierarchy {
		for _, g := range a.Generations {
			if g.SwitchDay.IsZero() {
				out.Bars = append(out.Bars, s.barOf(a, g))
			}
		}
	}
	for _, o := range q.Outside {
		s.addOutside(o)
	}
	s.run(&out)
	slices.SortStableFunc(out.Bars, func(a, b Bar) int {
		return slices.IndexFunc(q.Hierarchy, func(x *hierarchy.Authority) bool { return x.Handle == a.Handle }) -
			slices.IndexFunc(q.Hierarchy, func(x *hierarchy.Authority) bool { return x.Handle == b.Handle })
	})
	return out
}

// Grants reports whether a generation can sign by a template at all: the template
// lists it, and its path length leaves room for what is made.
func Grants(g *hierarchy.Generation, t template.Template) bool {
	if t.Makes == template.Root || !t.SignedBy(g.Authority.Handle, g.IsRoot()) {
		return false
	}
	room, _ := hierarchy.PathRoom(g.Line())
	return !t.IsAuthority() || room != 0
}

func rowOf(g *hierarchy.Generation, t template.Template, now time.Time) Row {
	line := g.Line()
	grant := hierarchy.Life(line, now, 0, t.Lifetime)
	r := Row{Authority: g.Authority.Handle, Template: t.Name, Full: t.Lifetime, Until: grant.NotAfter}
	end, by := EndOf(line)
	r.LastFull, r.CutBy = t.Lifetime.LastDay(end), by.Name()
	if r.LastFull.AddDate(0, 0, 1).Before(g.Certificate.NotBefore) {
		r.LastFull = time.Time{}
	}
	if grant.CutBy != nil {
		r.Short = span.Length(grant.NotAfter, grant.Full)
	}
	if !grant.NotAfter.After(now) {
		r.Short = "nothing left"
	}
	return r
}

// EndOf is when the first certificate of a line ends, and which one.
func EndOf(line []*hierarchy.Generation) (time.Time, *hierarchy.Generation) {
	best := line[0]
	for _, g := range line[1:] {
		if g.Certificate.NotAfter.Before(best.Certificate.NotAfter) {
			best = g
		}
	}
	return best.Certificate.NotAfter, best
}

// LifeOf is the lifetime that a certificate was given, in calendar parts.
func LifeOf(c *cert.Certificate) span.Span {
	return span.Between(c.NotBefore, c.NotAfter, 49*time.Hour)
}

// UsualLife is the lifetime that an authority is meant to have: the longest that
// any of its certificates was given, for the others may have been cut short.
func UsualLife(a *hierarchy.Authority) span.Span {
	var best span.Span
	for _, g := range a.Generations {
		if l := LifeOf(g.Certificate); best.IsZero() || l.Longer(best, g.Certificate.NotBefore) {
			best = l
		}
	}
	return best
}

// state is what a simulation knows of one authority.
type state struct {
	a      *hierarchy.Authority // nil for one of another estate
	handle string
	parent *state
	level  int
	life   span.Span   // what a renewal gives
	lives  []span.Span // what it grants to end entities
	all    []span.Span // and to authorities
	number int
	end    time.Time // its own
	due    time.Time // the last day on which all grants are full
	hollow bool
	idle   bool // it is not renewed by the schedule: retired, revoked or stopped
}

// reach is the end of the line of which the state is the lowest.
func (st *state) reach() time.Time {
	end := st.end
	for p := st.parent; p != nil; p = p.parent {
		if p.end.Before(end) {
			end = p.end
		}
	}
	return end
}

type simulation struct {
	q     Question
	state map[*hierarchy.Authority]*state
	order []*state
}

func (s *simulation) add(a *hierarchy.Authority, g *hierarchy.Generation) {
	st := &state{a: a, handle: a.Handle, parent: s.state[a.Parent], number: len(a.Generations),
		end: g.Certificate.NotAfter, life: UsualLife(a)}
	if st.parent != nil {
		st.level = st.parent.level + 1
		// The certificate above may be an older one than the current.
		if end, _ := EndOf(g.Line()); end.Before(st.end) {
			st.end = end
		}
	}
	for _, t := range s.q.Templates {
		if !Grants(g, t) {
			continue
		}
		st.all = append(st.all, t.Lifetime)
		if !t.IsAuthority() {
			st.lives = append(st.lives, t.Lifetime)
		}
	}
	st.due = st.lastFull(st.lives)
	s.state[a] = st
	if st.idle = g.Idle() != "" || !a.Retired.IsZero(); !st.idle {
		s.order = append(s.order, st)
	}
}

// addOutside adds an authority of another estate.
func (s *simulation) addOutside(o Outside) {
	parent := s.state[o.Parent]
	if parent == nil {
		return
	}
	st := &state{handle: o.Title, parent: parent, level: parent.level + 1, number: 1, end: o.Certificate.NotAfter,
		life: LifeOf(o.Certificate)}
	st.lives = []span.Span{half(st.life, o.Certificate.NotBefore)}
	st.all = st.lives
	st.due = st.lastFull(st.lives)
	s.order = append(s.order, st)
}

// half is half of a life that begins at a moment, in whole days.
func half(life span.Span, from time.Time) span.Span {
	return span.Days(max(1, int(life.After(from).Sub(from).Hours())/48))
}

// lastFull is the last day on which all of the lives are granted in full; without
// any, the last whole day.
func (st *state) lastFull(lives []span.Span) time.Time {
	end := st.reach()
	due := span.Days(0).LastDay(end)
	for _, l := range lives {
		if d := l.LastDay(end); d.Before(due) {
			due = d
		}
	}
	return due
}

func (s *simulation) barOf(a *hierarchy.Authority, g *hierarchy.Generation) Bar {
	b := Bar{Handle: a.Handle, Number: g.Number, From: g.Certificate.NotBefore, Until: g.Certificate.NotAfter}
	if st := s.state[a]; st != nil {
		b.Level = st.level
	}
	end, _ := EndOf(g.Line())
	for _, t := range s.q.Templates {
		if !Grants(g, t) {
			continue
		}
		d := t.Lifetime.LastDay(end).AddDate(0, 0, 1)
		if d.Before(b.From) || g.Idle() != "" { // from its first day
			d = b.From
		}
		if b.ShrinksAt.IsZero() || d.Before(b.ShrinksAt) {
			b.ShrinksAt = d
		}
	}
	return b
}

// run plays the schedule: whoever is due first is renewed, after whatever above
// it can no longer give the full life. Without a horizon it plays until
// everybody was renewed once, and tells the first act of each: so the next act is
// the same, however far one looks.
func (s *simulation) run(out *Report) {
	once := s.q.Horizon.IsZero()
	until := s.q.Horizon.After(s.q.Now)
	renewed := map[*state]bool{}
	for len(out.Acts) < mostActs {
		var next *state
		open := 0
		for _, st := range s.order {
			if st.hollow {
				continue
			}
			if !renewed[st] {
				open++
			}
			if next == nil || st.due.Before(next.due) {
				next = st
			}
		}
		if next == nil || once && open == 0 || !once && next.due.After(until) {
			break
		}
		day := next.due
		overdue := day.Before(s.q.Now.Truncate(24 * time.Hour))
		if overdue {
			day = s.q.Now.Truncate(24 * time.Hour)
		}
		s.renew(next, day, overdue, out, renewed, "")
	}
	for _, st := range s.order {
		if st.hollow {
			out.Hollow = append(out.Hollow, st.handle)
		}
	}
	if once {
		out.firstOnly()
	}
}

// firstOnly leaves the next act of each authority, and the bars of what there is.
func (r *Report) firstOnly() {
	seen, drawn := map[string]bool{}, map[string]bool{}
	r.Acts = slices.DeleteFunc(r.Acts, func(a Act) bool {
		again := seen[a.Handle]
		seen[a.Handle] = true
		return again
	})
	r.Bars = slices.DeleteFunc(r.Bars, func(b Bar) bool {
		again := b.Scheduled && drawn[b.Handle]
		drawn[b.Handle] = drawn[b.Handle] || b.Scheduled
		return again
	})
}

func (s *simulation) renew(st *state, day time.Time, overdue bool, out *Report, renewed map[*state]bool, why string) {
	if len(out.Acts) >= mostActs || st.hollow {
		return
	}
	if why == "" {
		why = fmt.Sprintf("its grants begin to shrink on %s", st.due.AddDate(0, 0, 1).Format("2006-01-02"))
		if st.due.Year() < 1000 {
			why = "its grants were never full"
		}
		switch {
		case len(st.lives) == 0:
			why = fmt.Sprintf("it ends on %s", st.reach().Format("2006-01-02"))
		case st.a == nil:
			why = "half of its life is over then, and what it grants is not known here"
		}
	}
	full := st.life.After(day)
	if p := st.parent; p != nil && p.reach().Before(full) && !p.idle {
		s.renew(p, day, overdue, out, renewed,
			fmt.Sprintf("it is too near its end to give %s a full %s", st.handle, st.life.Words()))
	}
	end := full
	if st.parent != nil && st.parent.reach().Before(end) {
		end = st.parent.reach()
	}
	before := st.due
	st.number++
	st.end = end
	st.due = st.lastFull(st.lives)
	renewed[st] = true
	out.Acts = append(out.Acts, Act{Day: day, Handle: st.handle, Number: st.number, Until: end, Why: why,
		Overdue: overdue, Outside: st.a == nil})
	if st.a == nil {
		s.later(st, before, day)
		return
	}
	bar := Bar{Handle: st.a.Handle, Level: st.level, Number: st.number, From: day, Until: end, Scheduled: true}
	if len(st.all) > 0 {
		if bar.ShrinksAt = st.lastFull(st.all).AddDate(0, 0, 1); bar.ShrinksAt.Before(day) {
			bar.ShrinksAt = day
		}
	}
	out.Bars = append(out.Bars, bar)
	s.later(st, before, day)
}

// later marks an authority whose renewal wins nothing: it would be due for ever.
func (s *simulation) later(st *state, before, day time.Time) {
	if !st.due.After(before) || !st.due.After(day) {
		st.hollow = true
	}
}
