package term

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/lipgloss"

	"ironseal/pki/renewal"
	"ironseal/pki/span"
)

const day = "2006-01-02"

// Forecast prints what every authority grants, the acts to come, and the
// lifetimes over one time axis.
func (s *Screen) Forecast(r renewal.Report) {
	s.grants(r)
	s.Gap()
	s.acts(r)
	if len(r.Bars) > 0 {
		s.Gap()
		s.lifetimes(r)
	}
}

// grants prints a row for each authority and lifetime, with the templates that
// give it.
func (s *Screen) grants(r renewal.Report) {
	var rows [][]Cell
	for i, g := range r.Rows {
		var names []string
		first := true
		for j, o := range r.Rows {
			if o.Authority == g.Authority && o.Full == g.Full {
				first = first && j >= i
				names = append(names, o.Template)
			}
		}
		if !first {
			continue
		}
		name := Cell{Text: g.Authority, Tone: Strong}
		if i > 0 && r.Rows[i-1].Authority == g.Authority {
			name.Text = ""
		}
		today := Cell{Text: "✓ full", Tone: Good}
		if g.Short != "" {
			today = Cell{Text: "! " + g.Short, Tone: Careful}
			if g.Until.After(r.Now) {
				today.Text += " short"
			}
		}
		last, distance := g.LastFull.Format(day), span.Distance(r.Now, g.LastFull.AddDate(0, 0, 1))
		if g.LastFull.IsZero() {
			last, distance = "never", ""
		}
		rows = append(rows, []Cell{name, {Text: g.Full.Words()}, today, {Text: last}, {Text: distance, Tone: Quiet},
			{Text: strings.Join(names, ", "), Tone: Quiet, Prose: true}})
	}
	for _, i := range r.Idle {
		rows = append(rows, []Cell{{Text: i.Authority, Tone: Strong}, {Text: "nothing"}, {Text: "! " + i.Why,
			Tone: Careful}, {}, {}, {}})
	}
	if len(rows) == 0 {
		s.Say("No authority signs by any template.")
		return
	}
	s.Table([]string{"authority", "grants", "today", "last full day", "", "templates"}, rows, "")
}

func (s *Screen) acts(r renewal.Report) {
	if len(r.Acts) == 0 {
		s.Say("Nothing needs to be renewed in that time.")
		return
	}
	s.Say("%s", s.Paint(Strong, "What to renew, in order"))
	var rows [][]Cell
	for i, a := range r.Acts {
		if i == mostShownActs {
			rows = append(rows, []Cell{{Text: fmt.Sprintf("and %d more", len(r.Acts)-i), Tone: Quiet}})
			break
		}
		by, tone := "by "+a.Day.Format(day), Normal
		if a.Overdue {
			by, tone = "now", Bad
		}
		rows = append(rows, []Cell{{Text: by, Tone: tone},
			{Text: fmt.Sprintf("%s g%d", a.Handle, a.Number), Tone: Strong}, {Text: "until " + a.Until.Format(day)},
			{Text: a.Why, Tone: Quiet}})
	}
	s.Table([]string{"", "", "", ""}, rows)
	for _, h := range r.Hollow {
		s.Say("%s", s.Paint(Careful, fmt.Sprintf("! %s lives less than what it grants: its grants are never full", h)))
	}
}

// mostShownActs is how many acts are listed; --json has all of them.
const mostShownActs = 24

// lifetimes draws one row an authority and one bar a generation; where two
// overlap, the next takes another row.
func (s *Screen) lifetimes(r renewal.Report) {
	from, to, label := r.Now, r.Now, 0
	for _, b := range r.Bars {
		if b.From.Before(from) {
			from = b.From
		}
		if b.Until.After(to) {
			to = b.Until
		}
		label = max(label, lipgloss.Width(b.Handle)+2*b.Level)
	}
	axis := Axis{From: from, To: to, Now: r.Now, Width: max(20, s.width-label-2)}
	s.Say("%s%s", strings.Repeat(" ", label+2), s.Paint(Quiet, axis.Years()))
	for i := 0; i < len(r.Bars); {
		j := i
		for j < len(r.Bars) && r.Bars[j].Handle == r.Bars[i].Handle {
			j++
		}
		name := strings.Repeat("  ", r.Bars[i].Level) + r.Bars[i].Handle
		for k, lane := range axis.lanes(r.Bars[i:j]) {
			if k > 0 {
				name = ""
			}
			s.Say("%s  %s", s.Paint(Strong, pad(name, label)), s.lane(axis, lane))
		}
		i = j
	}
	s.Say("%s%s", strings.Repeat(" ", label+2), s.Paint(Quiet, axis.Today()))
	s.Say("%s%s %s   %s %s   %s %s", strings.Repeat(" ", label+2), s.Paint(Good, "━━"),
		s.Paint(Quiet, "grants in full"), s.Paint(Careful, "╌╌"), s.Paint(Quiet, "grants shrink"),
		s.Paint(Accent, "══"), s.Paint(Quiet, "planned"))
}

// lanes spreads bars over as few rows as they need without touching.
func (a Axis) lanes(bars []renewal.Bar) [][]renewal.Bar {
	var out [][]renewal.Bar
next:
	for _, b := range bars {
		for i, lane := range out {
			if a.at(lane[len(lane)-1].Until) < a.at(b.From)-1 {
				out[i] = append(lane, b)
				continue next
			}
		}
		out = append(out, []renewal.Bar{b})
	}
	return out
}

func (s *Screen) lane(a Axis, bars []renewal.Bar) string {
	cells, tones := make([]rune, a.Width), make([]Tone, a.Width)
	for i := range cells {
		cells[i], tones[i] = ' ', Quiet
	}
	cells[a.at(a.Now)] = '│'
	for _, b := range bars {
		shrink := a.Width
		if !b.ShrinksAt.IsZero() {
			shrink = a.at(b.ShrinksAt)
		}
		start, end := a.at(b.From), a.at(b.Until)
		for i := start; i <= end; i++ {
			cells[i], tones[i] = '━', Good
			switch {
			case i == end:
				cells[i], tones[i] = '┫', Quiet
			case i >= shrink:
				cells[i], tones[i] = '╌', Careful
			case b.Scheduled:
				cells[i], tones[i] = '═', Accent
			}
		}
		for i, r := range fmt.Sprintf("g%d", b.Number) {
			if start+1+i < end {
				cells[start+1+i] = r
			}
		}
	}
	var out strings.Builder
	for i := 0; i < len(cells); {
		j := i
		for j < len(cells) && tones[j] == tones[i] {
			j++
		}
		out.WriteString(s.Paint(tones[i], string(cells[i:j])))
		i = j
	}
	return strings.TrimRight(out.String(), " ")
}

// Renewal prints what a renewal changes at every level, what speaks for which
// key, and what has to be brought where.
func (s *Screen) Renewal(reasons []renewal.Reason, levels []renewal.Level, then []string) {
	s.Gap()
	s.Say("  %s", s.Paint(Strong, "Same key or new?"))
	for _, r := range reasons {
		side := "same key:"
		if r.New {
			side = "new key: "
		}
		s.Wrapped(4, Normal, side+" "+Safe(r.Say))
	}
	s.Wrapped(4, Accent, "advice: "+renewal.Advise(reasons))
	if len(levels) > 0 {
		s.Gap()
		s.levels(levels)
	}
	s.Gap()
	s.Say("  %s", s.Paint(Strong, "Afterwards"))
	for i, t := range then {
		s.Wrapped(4, Normal, fmt.Sprintf("%d. %s", i+1, Safe(t)))
	}
}

// levels prints a row for each authority and lifetime.
func (s *Screen) levels(levels []renewal.Level) {
	type group struct {
		handle string
		full   span.Span
	}
	seen := map[group]bool{}
	var rows [][]Cell
	last := ""
	for _, l := range levels {
		if g := (group{l.Handle, l.Full}); seen[g] {
			continue
		} else {
			seen[g] = true
		}
		name := l.Handle
		if name == last {
			name = ""
		}
		last = l.Handle
		what := Cell{Text: "✓ full", Tone: Good}
		if l.Short != "" {
			what = Cell{Text: "! " + l.Short, Tone: Careful}
		}
		rows = append(rows, []Cell{{Text: "  " + name, Tone: Strong}, {Text: l.Full.Words()},
			{Text: l.Before.Format(day)}, {Text: l.After.Format(day)}, what})
	}
	s.Table([]string{"  authority", "grants", "today until", "then until", "after this renewal"}, rows)
}
