package service

import (
	"context"
	"fmt"
	"time"

	"ironseal/pki/lifecycle"
)

// Ending is something with an end.
type Ending struct {
	Name  string
	Until time.Time
}

// State is how the server is at one moment.
type State struct {
	Now         time.Time
	Readable    bool // the records could be read
	Generations []Ending
	Lists       []Ending // by their next update
	Responders  []Ending
	Desk        *Identity
	Waiting     int
	Oldest      time.Duration // the age of the oldest request that waits
	Late        int           // certificates that machines should have renewed and did not
	Troubles    []Trouble
	Bad         []string // what makes the server unhealthy, as sentences
	Notes       []string // what an operator should know
}

// State tells how the server is. Where the records cannot be read, it tells the rest.
func (s *Service) State(ctx context.Context) State {
	st := s.now.Load()
	e, public := st.estate, s.public.Load()
	out := State{Now: e.Now(), Desk: s.identity.Load(), Troubles: s.Troubles(), Late: int(s.late.Load())}
	for _, l := range public.Lists {
		out.Lists = append(out.Lists, Ending{l.Title(), l.Next})
	}
	for _, c := range st.live.Responders() {
		out.Responders = append(out.Responders, Ending{c.Issuer.CommonName(), c.NotAfter})
	}
	h, err := e.Hierarchy(ctx)
	if err == nil {
		for _, a := range h {
			for _, g := range a.Generations {
				if !out.Now.After(g.Certificate.NotAfter) {
					out.Generations = append(out.Generations, Ending{g.Name(), g.Certificate.NotAfter})
				}
			}
		}
		err = s.waiting(ctx, &out)
	}
	out.Readable = err == nil
	if err != nil && ctx.Err() == nil {
		out.Bad = append(out.Bad, "The records cannot be read: "+err.Error())
	}
	for _, t := range out.Troubles {
		out.Bad = append(out.Bad, fmt.Sprintf("%s fails since %s: %s", t.What, t.Since.UTC().Format(time.RFC3339),
			t.Err))
	}
	for _, l := range public.Stale(out.Now) {
		out.Bad = append(out.Bad, fmt.Sprintf("The list %s is past its next update.", l))
	}
	for _, l := range public.Back {
		out.Bad = append(out.Bad, fmt.Sprintf("The records know an older list %s than was served: an older copy of "+
			"the "+
			"estate was restored. The newer list is served on; import it.", l))
	}
	for _, g := range public.Absent {
		out.Notes = append(out.Notes, fmt.Sprintf("There is no list of %s yet.", g))
	}
	for _, a := range public.Missing {
		out.Notes = append(out.Notes, fmt.Sprintf("Certificates name the list %s, which is not there.", a))
	}
	if i := out.Desk; i != nil && i.Temporary {
		out.Notes = append(out.Notes, fmt.Sprintf("The desk's certificate is temporary: sign %s.", i.Request))
	} else if i != nil && i.Request != "" {
		out.Notes = append(out.Notes, fmt.Sprintf("The desk's next certificate waits: sign %s.", i.Request))
	}
	return out
}

// waiting counts the requests that wait.
func (s *Service) waiting(ctx context.Context, out *State) error {
	list, err := s.Estate().Requests(ctx, lifecycle.Waiting)
	if err != nil {
		return err
	}
	out.Waiting = len(list)
	for _, r := range list {
		out.Oldest = max(out.Oldest, out.Now.Sub(r.Received))
	}
	return nil
}
