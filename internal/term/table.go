package term

import (
	"slices"
	"strings"
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
	r := s.Rolling(header, less...)
	r.enough = len(rows) + 1
	for _, cells := range rows {
		r.Row(cells)
	}
	r.End()
}

// Rolling is a table whose rows come one by one and may be millions: the first of them
// say how wide the columns are, and all are printed as they come.
type Rolling struct {
	s      *Screen
	header []string
	less   []string
	first  [][]Cell
	enough int // rows that the widths are taken from
	widths []int
	out    []bool
	begun  bool

	line []byte         // of the row that is printed
	wide map[string]int // see widthOf
}

// Rolling begins a table.
func (s *Screen) Rolling(header []string, less ...string) *Rolling {
	return &Rolling{s: s, header: header, less: less, enough: 500}
}

// Row prints a row, or keeps it until there are enough to see how wide the columns are.
func (r *Rolling) Row(cells []Cell) {
	for i := range cells {
		cells[i].Text = Safe(cells[i].Text)
	}
	if r.begun {
		if !r.straight(cells) {
			r.s.row(shownOf(cells, r.out), shownOf(r.widths, r.out))
		}
		return
	}
	if r.first = append(r.first, cells); len(r.first) >= r.enough {
		r.begin()
	}
}

// straight prints a row of which every cell fits on its line, where there are no colours: as nearly all are that go
// into a pipe, however many. It reports false where the row has to be laid out.
func (r *Rolling) straight(cells []Cell) bool {
	if !r.s.plain {
		return false
	}
	line, pending := r.line[:0], 0
	for i, c := range cells {
		if r.out[i] {
			continue
		}
		w := r.widthOf(c.Text)
		if w > max(r.widths[i], leastWidth) && strings.ContainsAny(c.Text, " ,") { // else it is not broken
			return false
		}
		for range pending {
			line = append(line, ' ')
		}
		line = append(line, c.Text...)
		pending = max(0, r.widths[i]-w) + len(between)
	}
	for len(line) > 0 && line[len(line)-1] == ' ' {
		line = line[:len(line)-1]
	}
	r.line = append(line, '\n')
	_ = r.s.Raw(r.line) // as with every line, whether the output is gone is asked at the end
	return true
}

// between separates columns.
const between = "  "

// widthOf is width, remembered for the few texts that are not plain and come again and again, such as states.
func (r *Rolling) widthOf(text string) int {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c > '~' {
			w, known := r.wide[text]
			if !known {
				if w = width(text); len(r.wide) < mostWide && len(text) < proseWidth {
					if r.wide == nil {
						r.wide = map[string]int{}
					}
					r.wide[text] = w
				}
			}
			return w
		}
	}
	return len(text)
}

// mostWide bounds how many are remembered.
const mostWide = 64

// End prints what was kept, and says what was left out. A table without rows is its
// header.
func (r *Rolling) End() {
	if !r.begun {
		r.begin()
	}
	var names []string
	for i, h := range r.header {
		if r.out[i] && h != "" {
			names = append(names, h)
		}
	}
	if len(names) > 0 {
		r.s.Wrapped(0, Quiet, "Hidden at this width: "+strings.Join(names, ", ")+". Widen the window or use --json.")
	}
}

// begin decides on the widths, and prints the header and the rows that were kept.
func (r *Rolling) begin() {
	s := r.s
	r.begun = true
	r.header = slices.Clone(r.header)
	r.widths = make([]int, len(r.header))
	for i, h := range r.header {
		r.header[i] = Safe(h)
		r.widths[i] = width(r.header[i])
	}
	least := slices.Clone(r.widths)
	for _, cells := range r.first {
		for i, c := range cells {
			if r.widths[i] < unwrapped && len(c.Text) > r.widths[i] {
				r.widths[i] = max(r.widths[i], width(c.Text))
			}
			least[i] = max(least[i], longest(c.Text, s.text))
		}
	}
	for i := range r.widths {
		// a megabyte is wrapped, and not first tried at every width
		r.widths[i] = min(r.widths[i], max(s.text, least[i]))
	}
	tight := slices.Clone(r.widths)
	for _, cells := range r.first {
		for i := range cells {
			if cells[i].Prose {
				tight[i] = min(tight[i], max(least[i], proseWidth))
			}
		}
	}
	r.out = s.leave(r.header, tight, r.less)
	s.fit(r.widths, least, r.out)
	if head := shownOf(r.header, r.out); strings.Join(head, "") != "" {
		for i := range head {
			head[i] = pad(head[i], shownOf(r.widths, r.out)[i])
		}
		s.Say("%s", s.Paint(Quiet, strings.TrimRight(strings.Join(head, "  "), " ")))
	}
	for _, cells := range r.first {
		s.row(shownOf(cells, r.out), shownOf(r.widths, r.out))
	}
	r.first = nil
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
					max(0, widths[i]-width(text))))
			} else {
				line = append(line, s.Paint(cells[i].Tone, text))
			}
		}
		s.Say("%s", strings.Join(line, between))
	}
}
