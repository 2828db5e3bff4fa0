package term

import (
	"strings"

	"github.com/charmbracelet/lipgloss"
)

// Cell is one cell of a table. Text is escaped when it is printed.
type Cell struct {
	Text string
	Tone Tone
}

// Table prints rows under a header. Columns take the width they need; where the
// line would be too long, the widest column is broken over several lines.
func (s *Screen) Table(header []string, rows [][]Cell) {
	widths := make([]int, len(header))
	for i, h := range header {
		widths[i] = lipgloss.Width(h)
	}
	for _, r := range rows {
		for i := range r {
			r[i].Text = Safe(r[i].Text)
			widths[i] = max(widths[i], lipgloss.Width(r[i].Text))
		}
	}
	s.fit(widths)
	if strings.Join(header, "") != "" {
		var line []string
		for i, h := range header {
			line = append(line, pad(h, widths[i]))
		}
		s.Say("%s", s.Paint(Quiet, strings.TrimRight(strings.Join(line, "  "), " ")))
	}
	for _, r := range rows {
		s.row(r, widths)
	}
}

// fit narrows the widest columns until the line fits the screen.
func (s *Screen) fit(widths []int) {
	for {
		total, widest := 2*(len(widths)-1), 0
		for i, w := range widths {
			total += w
			if w > widths[widest] {
				widest = i
			}
		}
		if total <= s.width || widths[widest] <= 12 {
			return
		}
		widths[widest]--
	}
}

func (s *Screen) row(cells []Cell, widths []int) {
	var columns [][]string
	lines := 1
	for i, c := range cells {
		l := wrap(c.Text, widths[i])
		columns = append(columns, l)
		lines = max(lines, len(l))
	}
	for n := range lines {
		var line []string
		for i, l := range columns {
			text := ""
			if n < len(l) {
				text = l[n]
			}
			if i < len(columns)-1 {
				line = append(line, s.Paint(cells[i].Tone, text)+strings.Repeat(" ", max(0, widths[i]-lipgloss.Width(text))))
			} else {
				line = append(line, s.Paint(cells[i].Tone, text))
			}
		}
		s.Say("%s", strings.Join(line, "  "))
	}
}
