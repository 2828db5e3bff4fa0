package probing

import (
	"fmt"
	"strings"

	"ironseal/internal/app/ops/probes"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/endpoint"
	"ironseal/pki/span"
)

// draw shows a row an endpoint, then what to do about each that is not right.
func draw(s *session.Session, outcomes []probes.Outcome) {
	if len(outcomes) == 1 {
		drawOne(s, outcomes[0])
		return
	}
	var cells [][]term.Cell
	good := 0
	for _, o := range outcomes {
		if o.Trusted {
			good++
		}
		cells = append(cells, []term.Cell{verdict(o.Row), {Text: label(o), Tone: term.Strong}, left(o.Row),
			{Text: o.Row.Protocol}, {Text: o.Row.Record}, {Text: o.Row.Anchor, Tone: term.Quiet}})
	}
	s.Out.Table([]string{"", "endpoint", "left", "protocol", "on record", "anchor"}, cells, "on record", "anchor",
		"protocol")
	for _, o := range outcomes {
		if list := o.Row.ToDo(); len(list) > 0 {
			s.Out.Gap()
			s.Out.Say("%s", s.Out.Paint(term.Strong, term.Safe(label(o))))
			s.Out.Reasons(list)
		}
	}
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Strong, fmt.Sprintf("%d of %s trusted", good,
		span.Count(len(outcomes), "endpoint"))))
}

func verdict(r endpoint.Row) term.Cell {
	switch {
	case !r.Trusted:
		return term.Cell{Text: "✗ not trusted", Tone: term.Bad}
	case r.Pressing():
		return term.Cell{Text: "! trusted", Tone: term.Careful}
	}
	return term.Cell{Text: "✓ trusted", Tone: term.Good}
}

func left(r endpoint.Row) term.Cell {
	switch {
	case r.Until == "":
		return term.Cell{Text: "–", Tone: term.Quiet}
	case r.Left < 0:
		return term.Cell{Text: r.LeftWords(), Tone: term.Bad}
	case r.Left < endpoint.Soon:
		return term.Cell{Text: r.LeftWords(), Tone: term.Careful}
	}
	return term.Cell{Text: r.LeftWords()}
}

// drawOne shows everything of one endpoint.
func drawOne(s *session.Session, o probes.Outcome) {
	v := verdict(o.Row)
	s.Out.Say("%s %s", s.Out.Paint(v.Tone, v.Text), s.Out.Paint(term.Strong, term.Safe(label(o))))
	s.Out.Reasons(o.Row.Findings)
	rows := [][2]string{{"Certificate", o.Row.Subject}, {"Signed by", o.Row.Issuer}, {"Anchor", o.Row.Anchor}}
	if o.Row.Until != "" {
		rows = append(rows, [2]string{"Until", o.Until.Format("2006-01-02") + ", " + left(o.Row).Text})
	}
	rows = append(rows, [2]string{"Protocol", o.Row.Protocol}, [2]string{"On record", o.Row.Record})
	if o.On != nil {
		rows = append(rows, [2]string{"State", string(o.On.State)}, [2]string{"Generation", o.On.Issuer},
			[2]string{"Template", o.On.Template}, [2]string{"Held by", strings.Join(o.On.Holders, ", ")})
	}
	s.Out.Gap()
	for _, r := range rows {
		if r[1] != "" {
			s.Out.Say("  %s%s", s.Out.Paint(term.Quiet, fmt.Sprintf("%-14s", r[0])), term.Safe(r[1]))
		}
	}
	if len(o.Row.Presented) > 0 {
		s.Out.Gap()
		s.Out.Say("%s", s.Out.Paint(term.Quiet, "It presents, in this order"))
		for i, c := range o.Presented {
			s.Out.Say("  %d. %s   %s", i+1, term.Safe(c.Title()), s.Out.Paint(term.Quiet, term.Safe("by "+
				c.Issuer.String())))
		}
	}
}

// drawChanges shows the outcome of endpoints.
func drawChanges(s *session.Session, title string, list []endpoint.Change) {
	if len(list) == 0 {
		return
	}
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Strong, term.Safe(title)))
	tones := map[string]term.Tone{"worse": term.Bad, "gone": term.Careful, "better": term.Good, "alike": term.Good}
	var cells [][]term.Cell
	for _, c := range list {
		cells = append(cells, []term.Cell{{Text: c.What, Tone: tones[c.What]}, {Text: c.Endpoint, Tone: term.Strong},
			{Text: strings.Join(c.Words, "; "), Prose: true}})
	}
	s.Out.Table([]string{"", "endpoint", ""}, cells)
}
