package files

import (
	"fmt"
	"strings"

	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/client"
	"ironseal/pki/path"
)

func judgeBy(kinds []client.Kind, v path.Verdict) (out []client.Answer, refused bool) {
	for _, k := range kinds {
		a := k.Judge(v)
		refused = refused || !a.Accepts
		out = append(out, a)
	}
	return out, refused
}

// printAnswers prints a row a kind, and below them every fact that decides, once, with the
// clients that it concerns.
func printAnswers(s *session.Session, kinds []client.Kind, list []client.Answer) {
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Strong, "As these clients judge it"))
	var rows [][]term.Cell
	for i, a := range list {
		verdict := term.Cell{Text: "✓ accepts", Tone: term.Good}
		if !a.Accepts {
			verdict = term.Cell{Text: "✗ refuses", Tone: term.Bad}
		}
		rows = append(rows, []term.Cell{{Text: a.Kind, Tone: term.Strong}, verdict,
			{Text: kinds[i].Title, Tone: term.Quiet, Prose: true}})
	}
	s.Out.Table([]string{"client", "verdict", "tried"}, rows)
	for _, f := range decisive(list) {
		s.Out.Gap()
		who := strings.Join(f.clients, ", ")
		if len(f.clients) == len(list) && len(list) > 1 {
			who = fmt.Sprintf("all %d", len(list))
		}
		s.Out.Say("%s", s.Out.Paint(term.Strong, who+":"))
		s.Out.Wrapped(2, term.Normal, f.because)
	}
}

// fact is what decides, and for whom.
type fact struct {
	because string
	clients []string
}

// decisive lists the facts in the order in which they first come.
func decisive(list []client.Answer) (out []*fact) {
	seen := map[string]*fact{}
	for _, a := range list {
		because := strings.Join(a.Because, " ")
		if because == "" {
			continue
		}
		if seen[because] == nil {
			seen[because] = &fact{because: because}
			out = append(out, seen[because])
		}
		seen[because].clients = append(seen[because].clients, a.Kind)
	}
	return out
}
