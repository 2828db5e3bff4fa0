package trust

import (
	"maps"
	"slices"
	"strings"
	"time"
)

// Evidence is what was said of one anchor at one party, and by what. Of what one thing says the latest
// counts.
type Evidence struct {
	Has      bool
	By       string // in words: a kit's report, a look, or someone's word
	When     time.Time
	Where    string // the store or the endpoint that it is about; empty for the whole party: someone's word
	Platform string // of the kit that reported; empty for another
	Seq      int64  // in which order it was recorded
}

// later reports whether evidence is of a later second than another, or was recorded later in the same one.
func (e Evidence) later(o Evidence) bool {
	if a, b := e.When.Truncate(time.Second), o.When.Truncate(time.Second); !a.Equal(b) {
		return a.After(b)
	}
	return e.Seq > o.Seq
}

// Readiness is how far a party is with anchors that it must learn.
type Readiness string

// The states of readiness.
const (
	Ready    Readiness = "ready"
	NotReady Readiness = "not ready"
	Unknown  Readiness = "unknown"
	Closed   Readiness = "cannot learn"
)

// PartyReadiness is one party's readiness for a change of roots.
type PartyReadiness struct {
	Party string    `json:"party" doc:"which"`
	State Readiness `json:"state" doc:"ready, not ready, unknown, or cannot learn"`
	Lacks []string  `json:"lacks" doc:"titles of the anchors that it is not known to hold"`
	By    string    `json:"by,omitempty" doc:"on what that rests"`
	When  string    `json:"when,omitempty" doc:"of what day that is"`
	Why   string    `json:"why,omitempty" doc:"why it can learn none"`
	Owner string    `json:"owner,omitempty" doc:"who looks after it"`
}

// Assess says how a party stands: ready when each anchor is known to be there, in every store and at every
// endpoint; not ready when one is known to be missing somewhere. What nothing tells is unknown. One that can
// learn no anchors is ready only by evidence.
func (p Party) Assess(needs []Anchor, known map[[32]byte][]Evidence) PartyReadiness {
	out := PartyReadiness{Party: p.Name, State: Ready, Lacks: []string{}, Owner: p.Owner}
	for _, a := range needs {
		state, by := p.holds(known[a.Certificate.SHA256()])
		if len(by) > 0 {
			out.By, out.When = words(by)
		}
		if state == Ready {
			continue
		}
		out.Lacks = append(out.Lacks, a.Certificate.Title())
		if state == NotReady || out.State == Ready {
			out.State = state
		}
	}
	if p.Closed != "" && out.State != Ready {
		out.State, out.Why = Closed, p.Closed
	}
	return out
}

// holds judges what is known of one anchor, and gives what that rests on.
func (p Party) holds(list []Evidence) (Readiness, []Evidence) {
	last := map[string]Evidence{}
	for _, e := range list {
		if was, told := last[e.Where]; !told || e.later(was) {
			last[e.Where] = e
		}
	}
	word, confirmed := last[""]
	delete(last, "")
	var has, lacks []Evidence
	for _, where := range slices.Sorted(maps.Keys(last)) {
		switch e := last[where]; {
		case confirmed && word.later(e): // someone looked again after it
		case e.Has:
			has = append(has, e)
		default:
			lacks = append(lacks, e)
		}
	}
	switch {
	case len(lacks) > 0:
		return NotReady, lacks
	case confirmed && word.Has:
		return Ready, []Evidence{word}
	case confirmed:
		return NotReady, []Evidence{word}
	case len(has) > 0 && p.covered(has):
		return Ready, has
	}
	return Unknown, has
}

// covered reports whether every platform of a party, or where none is on record every endpoint, was heard of.
func (p Party) covered(has []Evidence) bool {
	if len(p.Platforms) > 0 {
		return !slices.ContainsFunc(p.Platforms, func(want string) bool {
			return !slices.ContainsFunc(has, func(e Evidence) bool { return e.Platform == want })
		})
	}
	if slices.ContainsFunc(has, func(e Evidence) bool { return e.Platform != "" }) {
		return true
	}
	return !slices.ContainsFunc(p.Endpoints, func(at string) bool {
		return !slices.ContainsFunc(has, func(e Evidence) bool { return e.Where == at })
	})
}

// words tells on what an assessment rests, and of which day the latest of it is.
func words(list []Evidence) (by, when string) {
	var said []string
	var last time.Time
	for _, e := range list {
		if !slices.Contains(said, e.By) {
			said = append(said, e.By)
		}
		if e.When.After(last) {
			last = e.When
		}
	}
	return strings.Join(said, ", "), last.Format("2006-01-02")
}

// Break tells of connections that would fail: every client refuses every server, for one reason.
type Break struct {
	Clients []string `json:"clients" doc:"the parties that connect"`
	Servers []string `json:"servers" doc:"the parties that they connect to, or whose certificates they are"`
	Why     string   `json:"why" doc:"what the clients have against them"`
}

// Count is the number of connections.
func (b Break) Count() int { return len(b.Clients) * len(b.Servers) }
