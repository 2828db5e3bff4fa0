package files

import (
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

// printAnswers prints a row a kind, with the fact that decides.
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
			{Text: strings.Join(a.Because, " "), Prose: true}, {Text: kinds[i].Title, Tone: term.Quiet, Prose: true}})
	}
	s.Out.Table([]string{"client", "verdict", "because", "tried"}, rows)
}
