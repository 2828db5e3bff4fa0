package term

import (
	"slices"
	"strings"

	"github.com/charmbracelet/lipgloss"
)

// Cell is one cell of a table. Text is escaped when it is printed. Prose is wrapped where
// there is little room, before any column is left out for it.
type Cell struct {
	Text  string
	Tone  Tone
	Prose bool
}

// proseWidth is what prose needs at least.
const proseWidth = 28

// Table prints rows under a header. Columns take the width they need. Where a line would
// be too long for the screen, prose is wrapped, and columns are left out, and said: those
// that less names, in its order, and no others. What is still too long is wrapped at
// blanks, and reaches over the edge where it has none.
func (s *Screen) Table(header []string, rows [][]Cell, less ...string) {
	widths := make([]int, len(header))
	header = slices.Clone(header)
	for i, h := range header {
		header[i] = Safe(h)
		widths[i] = lipgloss.Width(header[i])
	}
	least := slices.Clone(widths)
	for _, r := range rows {
		for i := range r {
			r[i].Text = Safe(r[i].Text)
			if widths[i] < unwrapped && len(r[i].Text) > widths[i] {
				widths[i] = max(widths[i], lipgloss.Width(r[i].Text))
			}
			least[i] = max(least[i], longest(r[i].Text, s.text))
		}
	}
	for i := range widths {
		widths[i] = min(widths[i], max(s.text, least[i])) // a megabyte is wrapped, and not first tried at every width
	}
	tight := slices.Clone(widths)
	for _, r := range rows {
		for i := range r {
			if r[i].Prose {
				tight[i] = min(tight[i], max(least[i], proseWidth))
			}
		}
	}
	out := s.leave(header, tight, less)
	s.fit(widths, least, out)
	if head := shownOf(header, out); strings.Join(head, "") != "" {
		for i := range head {
			head[i] = pad(head[i], shownOf(widths, out)[i])
		}
		s.Say("%s", s.Paint(Quiet, strings.TrimRight(strings.Join(head, "  "), " ")))
	}
	for _, r := range rows {
		s.row(shownOf(r, out), shownOf(widths, out))
	}
	var names []string
	for i, h := range header {
		if out[i] && h != "" {
			names = append(names, h)
		}
	}
	if len(names) > 0 {
		s.Wrapped(0, Quiet, "no room for "+strings.Join(names, ", ")+" (a wider window has it, and --json)")
	}
}

// leave says which columns are left out. A table without a header is laid out text, and
// keeps all of them.
func (s *Screen) leave(header []string, widths []int, less []string) []bool {
	out := make([]bool, len(header))
	if strings.Join(header, "") == "" {
		return out
	}
	var order []int
	for _, name := range less {
		order = append(order, slices.Index(header, name))
	}
	for _, i := range order {
		if lineWidth(shownOf(widths, out)) <= s.text {
			break
		}
		if i >= 0 {
			out[i] = true
		}
	}
	return out
}

func lineWidth(widths []int) int {
	total := 2 * (len(widths) - 1)
	for _, w := range widths {
		total += w
	}
	return total
}

// shownOf are the columns that are not left out; a short row has fewer.
func shownOf[T any](all []T, out []bool) []T {
	var list []T
	for i, v := range all {
		if !out[i] {
			list = append(list, v)
		}
	}
	return list
}

// fit narrows columns until the line fits the screen: the widest first, and none below
// its longest name.
func (s *Screen) fit(widths, least []int, out []bool) {
	for lineWidth(shownOf(widths, out)) > s.text {
		widest := -1
		for i, w := range widths {
			if !out[i] && w > max(least[i], 12) && (widest < 0 || w > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
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
				line = append(line, s.Paint(cells[i].Tone, text)+strings.Repeat(" ",
					max(0, widths[i]-lipgloss.Width(text))))
			} else {
				line = append(line, s.Paint(cells[i].Tone, text))
			}
		}
		s.Say("%s", strings.Join(line, "  "))
	}
}
