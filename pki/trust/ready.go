package trust

import (
	"fmt"
	"time"
)

// Evidence is what is known of one anchor at one party, and how.
type Evidence struct {
	Has  bool
	By   string // a kit's report, or somebody's word
	When time.Time
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

// Standing is how one party stands.
type Standing struct {
	Party string    `json:"party" doc:"which"`
	State Readiness `json:"state" doc:"ready, not ready, unknown, or cannot learn"`
	Lacks []string  `json:"lacks" doc:"titles of the anchors that it is not known to hold"`
	By    string    `json:"by,omitempty" doc:"on what that rests"`
	When  string    `json:"when,omitempty" doc:"of what day that is"`
	Why   string    `json:"why,omitempty" doc:"why it can learn none"`
	Owner string    `json:"owner,omitempty" doc:"who looks after it"`
}

// Stand says how a party stands: ready when each anchor is known to be there, and not ready
// when one is known to be missing. One that can learn none is ready only by evidence.
func (p Party) Stand(needs []Anchor, known map[[32]byte]Evidence) Standing {
	out := Standing{Party: p.Name, State: Ready, Lacks: []string{}, Owner: p.Owner}
	for _, a := range needs {
		e, told := known[a.Certificate.SHA256()]
		if told {
			out.By, out.When = e.By, e.When.Format("2006-01-02")
		}
		if told && e.Has {
			continue
		}
		out.Lacks = append(out.Lacks, a.Certificate.Title())
		switch {
		case told:
			out.State = NotReady
		case out.State == Ready:
			out.State = Unknown
		}
	}
	if p.Closed != "" && out.State != Ready {
		out.State, out.Why = Closed, p.Closed
	}
	return out
}

// Break is a connection that would fail.
type Break struct {
	Client string `json:"client" doc:"the party that connects"`
	Server string `json:"server" doc:"the party that it connects to, or whose certificate it is"`
	Why    string `json:"why" doc:"what the client has against it"`
}

// String says it in a line.
func (b Break) String() string { return fmt.Sprintf("%s refuses %s: %s", b.Client, b.Server, b.Why) }
