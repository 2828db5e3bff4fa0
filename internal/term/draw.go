package term

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"

	"ironseal/pki/advice"
	"ironseal/pki/describe"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/path"
	"ironseal/pki/span"
)

// labelWidth is the width of the label column of a description.
const labelWidth = 15

// mostValues is how many values of one fact are shown unless all is asked for.
const mostValues = 12

// Describe prints a description. all shows the details too.
func (s *Screen) Describe(o describe.Object, all bool) {
	s.Say("%s", s.Paint(Strong, strings.TrimSpace(strings.ToUpper(o.Kind[:1])+o.Kind[1:]+" "+Safe(o.Title))))
	for _, f := range o.Facts {
		if f.Detail && !all {
			continue
		}
		values := f.Shown
		if values == nil {
			values = f.Values
		}
		if more := len(values) - mostValues; more > 1 && !all {
			values = append(append([]string(nil), values[:mostValues]...),
				fmt.Sprintf("and %d more (--all shows them)", more))
		}
		s.fact(f.Label, values, f.Key == "check_code" || f.Key == "paste_tail")
	}
	s.Findings(o.Findings)
}

func (s *Screen) fact(label string, values []string, strong bool) {
	tone := Normal
	if strong {
		tone = Accent
	}
	for i, v := range values {
		for j, l := range wrapHex(Safe(v), s.text-labelWidth-4) {
			if i > 0 || j > 0 {
				label = ""
			}
			s.Say("  %s%s", s.Paint(Quiet, pad(label, labelWidth)), s.Paint(tone, l))
		}
	}
}

// wrapHex is wrap, and breaks a fingerprint that is too long in the middle.
func wrapHex(text string, width int) []string {
	if n := len(text); n > width && strings.Count(text, ":")*3 == n-2 {
		half := (n/2/3 + 1) * 3
		return []string{text[:half], text[half:]}
	}
	return wrap(text, width)
}

var severityLook = map[finding.Severity]struct {
	mark string
	tone Tone
}{finding.Refused: {"✗", Bad}, finding.Waivable: {"■", Bad}, finding.Warn: {"!", Careful}, finding.Note: {"·", Quiet}}

// Findings prints findings, the weightiest first, each with what it does to the act and
// with its remedy.
func (s *Screen) Findings(list finding.List) { s.findings(list, finding.Severity.Words) }

// Reasons prints findings of a check, where nothing is refused or held: it fails.
func (s *Screen) Reasons(list finding.List) {
	s.findings(list, func(v finding.Severity) string {
		if v >= finding.Waivable {
			return "fails"
		}
		return v.String()
	})
}

func (s *Screen) findings(list finding.List, words func(finding.Severity) string) {
	for i, f := range list.Ranked() {
		if i == 0 {
			s.Gap()
		}
		look := severityLook[f.Severity]
		head := fmt.Sprintf("%s %s  %s", look.mark, words(f.Severity), f.Code)
		s.Say("  %s", s.Paint(look.tone, head))
		s.Wrapped(4, Normal, Safe(f.Message))
		switch {
		case f.Waived != "":
			s.Wrapped(4, Quiet, "waived: "+Safe(f.Waived))
		case len(f.Steps()) > 0 && f.Remedy != "nothing to do":
			for j, l := range wrap(Safe(s.steps(f.Steps())), s.text-6) {
				arrow := s.Paint(Accent, "→")
				if j > 0 {
					arrow = " "
				}
				s.Say("    %s %s", arrow, l)
			}
		}
	}
}

// Sheet prints a review sheet: where it came from, asked beside will be signed, each
// difference with its cause, then the findings, and at the foot the sheet's own code.
func (s *Screen) Sheet(title, origin string, p issue.Plan, code, head string) {
	s.Say("%s", s.Paint(Strong, "Review sheet: "+Safe(title)))
	for line := range strings.Lines(origin) {
		s.Say("%s", Safe(strings.TrimSuffix(line, "\n")))
	}
	var compared, given []issue.Row
	for _, r := range p.Rows {
		if r.Asked == "" && r.Field != "name" && r.Cause == "" {
			given = append(given, r)
		} else {
			compared = append(compared, r)
		}
	}
	if len(compared) > 0 {
		if half := s.half(compared); s.text != unwrapped && s.tooNarrow(compared, half) {
			s.stacked(compared)
		} else {
			s.compared(compared, half)
		}
		s.Gap()
		s.Say("  %s", s.Paint(Quiet, "not asked for; set by the template and the authority"))
	} else {
		s.Gap()
	}
	for _, r := range given {
		for i, l := range wrap(Safe(r.Signed), s.text-sheetField-4) {
			if i > 0 {
				r.Field = ""
			}
			s.Say("  %s%s", s.Paint(Quiet, pad(r.Field, sheetField)), l)
		}
	}
	s.Findings(p.Findings)
	s.Gap()
	s.Say("  %s", s.Paint(Quiet, "sheet "+code+"   journal "+head))
}

// sheetField is the width of a sheet's first column.
const sheetField = 16

// sheetRows are the rows that are shown, the first name's headed "names", and how many names there are in all.
func sheetRows(rows []issue.Row) (shown []issue.Row, names int) {
	for _, r := range rows {
		if r.Field == "name" {
			if names++; names > 1 {
				r.Field = ""
			} else {
				r.Field = "names"
			}
			if names > mostSheetNames && r.Cause == "" {
				continue
			}
		}
		shown = append(shown, r)
	}
	return shown, names
}

// more says that not all names are shown.
func (s *Screen) more(names int) {
	if names > mostSheetNames {
		s.Say("  %s%s", pad("", sheetField), s.Paint(Quiet,
			fmt.Sprintf("… %d names in all; those not shown are signed as asked", names)))
	}
}

// compared prints what was asked beside what will be signed.
func (s *Screen) compared(rows []issue.Row, half int) {
	s.Gap()
	s.Say("  %s%s  %s", pad("", sheetField), s.Paint(Quiet, pad("asked", half)), s.Paint(Quiet, "will be signed"))
	shown, names := sheetRows(rows)
	for _, r := range shown {
		s.sheetRow(r, sheetField, half)
	}
	s.more(names)
}

// tooNarrow reports whether a name in one of the two columns would not fit: it is never broken.
func (s *Screen) tooNarrow(rows []issue.Row, half int) bool {
	return slices.ContainsFunc(rows, func(r issue.Row) bool {
		return longest(Safe(r.Asked), unwrapped) > half+1 || longest(Safe(r.Signed), unwrapped) > half+1
	})
}

// stacked prints what was asked above what will be signed, where both do not fit beside each other.
func (s *Screen) stacked(rows []issue.Row) {
	s.Gap()
	s.Say("  %s", s.Paint(Quiet, "as asked, unless a line says what will be signed"))
	shown, names := sheetRows(rows)
	for _, r := range shown {
		tone, mark := Normal, " "
		if r.Cause != "" {
			tone, mark = Careful, r.Mark()
		}
		line := func(word string, tone Tone, text string) {
			for i, l := range wrap(Safe(text), s.text-sheetField-2-len(word)) {
				if i > 0 {
					word = strings.Repeat(" ", len(word))
				}
				s.Say("%s %s%s%s", s.Paint(tone, mark), s.Paint(Quiet, pad(r.Field, sheetField)), s.Paint(Quiet, word),
					s.Paint(tone, l))
				r.Field, mark = "", " "
			}
		}
		switch {
		case r.Asked == r.Signed:
			line("", tone, r.Signed)
		default:
			if r.Asked != "" {
				line("asked   ", Normal, r.Asked)
			}
			if r.Signed != "" {
				line("signed  ", tone, r.Signed)
			}
		}
		if r.Cause != "" {
			line("        ", Quiet, "("+r.Cause+")")
		}
	}
	s.more(names)
}

// half is the width of each of a sheet's two columns of values: what they need, and no
// more than the screen has.
func (s *Screen) half(rows []issue.Row) int {
	half := 24
	for _, r := range rows {
		half = max(half, lipgloss.Width(r.Asked), lipgloss.Width(r.Signed))
	}
	if s.text == unwrapped {
		return half
	}
	return min(half, (s.text-sheetField-4)/2)
}

// mostSheetNames is how many unchanged names a sheet shows.
const mostSheetNames = 15

func (s *Screen) sheetRow(r issue.Row, field, half int) {
	asked, signed := wrap(Safe(r.Asked), half), wrap(Safe(r.Signed), half)
	tone, mark := Normal, " "
	var cause []string
	if r.Cause != "" {
		tone, mark = Careful, r.Mark()
		cause = wrap("("+Safe(r.Cause)+")", max(half, s.text-half-sheetField-4))
		if r.Signed == "" {
			signed = nil
		}
	}
	right := append(append([]string(nil), signed...), cause...)
	for i := range max(len(asked), len(right)) {
		a, b := "", ""
		if i < len(asked) {
			a = asked[i]
		}
		if i < len(right) {
			b = s.Paint(tone, right[i])
			if i >= len(signed) {
				b = s.Paint(Quiet, right[i])
			}
		}
		if i > 0 {
			r.Field, mark = "", " "
		}
		s.Say("%s %s%s  %s", s.Paint(tone, mark), s.Paint(Quiet, pad(r.Field, field)), pad(a, half), b)
	}
}

// Verdict prints whether a chain holds, and why.
func (s *Screen) Verdict(title string, v path.Verdict) {
	if v.Valid {
		s.Say("%s %s", s.Paint(Good, "✓ valid"), Safe(title))
	} else {
		s.Say("%s %s", s.Paint(Bad, "✗ not valid"), Safe(title))
	}
	all := append(finding.List(nil), v.Findings...)
	for _, st := range v.Steps {
		all = append(all, st.Findings...)
	}
	s.Reasons(all)
	s.Gap()
	if v.Nearest {
		s.Say("%s", s.Paint(Quiet, "No chain holds. This one comes nearest:"))
	}
	for i := len(v.Steps) - 1; i >= 0; i-- {
		st := v.Steps[i]
		indent := 2 * (len(v.Steps) - 1 - i)
		mark, tone := "✓", Good
		if !st.Good() {
			mark, tone = "✗", Bad
		}
		s.Say("%s%s %s %s", strings.Repeat(" ", indent), s.Paint(tone, mark),
			s.Paint(Strong, Safe(st.Certificate.Title())), s.Paint(Quiet, string(st.Role)))
		words := st.Words
		for _, f := range all {
			if f.Message == words {
				words = fmt.Sprintf("fails: %s, explained above", f.Code)
			}
		}
		if words != "" {
			s.Wrapped(indent+2, Quiet, Safe(words))
		}
		if st.Status != "" && !st.Findings.Has(finding.Revoked) { // which says the same
			s.Wrapped(indent+2, Quiet, "revocation: "+Safe(st.Status))
		}
	}
}

// Tree prints the hierarchy with the lifetime of every generation over one
// shared time axis.
func (s *Screen) Tree(h hierarchy.Hierarchy, now time.Time) {
	if len(h) == 0 {
		return
	}
	from, to := now, now
	label, marks := 0, 0
	lines := treeLines(h, nil, "")
	for _, l := range lines {
		c := l.g.Certificate
		if c.NotBefore.Before(from) {
			from = c.NotBefore
		}
		if c.NotAfter.After(to) {
			to = c.NotAfter
		}
		label, marks = max(label, lipgloss.Width(l.label)), max(marks, lipgloss.Width(l.g.Mark()))
	}
	axis := Axis{From: from, To: to, Now: now, Width: max(20, s.width-label-2-24-marks)}
	s.Say("%s%s", strings.Repeat(" ", label+2), s.Paint(Quiet, axis.Years()))
	for _, l := range lines {
		c := l.g.Certificate
		tone := Good
		switch ended := now.After(c.NotAfter); {
		case ended && l.g != l.g.Authority.Current(): // as planned: another serves in its place
			tone = Quiet
		case ended:
			tone = Bad
		}
		s.Say("%s  %s  %s", pad(l.label, label), s.Paint(tone, axis.Bar(c.NotBefore, c.NotAfter)),
			fmt.Sprintf("%s %s", c.NotAfter.Format("2006-01-02"),
				s.Paint(Quiet, strings.TrimSpace(span.Distance(now, c.NotAfter)+" "+l.g.Mark()))))
	}
	s.Say("%s%s", strings.Repeat(" ", label+2), s.Paint(Quiet, axis.Today()))
}

type treeLine struct {
	label string
	g     *hierarchy.Generation
}

// treeLines draws what is below an authority; nil draws the roots. Each
// generation is below the one that signed it.
func treeLines(h hierarchy.Hierarchy, above *hierarchy.Authority, rest string) []treeLine {
	var out []treeLine
	branches := h.Branches(above)
	for i, b := range branches {
		first, below := rest+"├ ", rest+"│ "
		switch {
		case above == nil:
			first, below = "", ""
		case i == len(branches)-1:
			first, below = rest+"└ ", rest+"  "
		}
		for j := len(b.Generations) - 1; j >= 0; j-- {
			g := b.Generations[j]
			prefix := below
			if j == len(b.Generations)-1 {
				prefix = first
			}
			out = append(out, treeLine{fmt.Sprintf("%s%s g%d", prefix, b.Authority.Handle, g.Number), g})
		}
		if b.Whole {
			out = append(out, treeLines(h, b.Authority, below)...)
		}
	}
	return out
}

// Axis maps time to columns.
type Axis struct {
	From, To, Now time.Time
	Width         int
}

func (a Axis) at(t time.Time) int {
	total := a.To.Sub(a.From)
	if total <= 0 {
		return 0
	}
	return min(a.Width-1, max(0, int(float64(a.Width-1)*float64(t.Sub(a.From))/float64(total)+0.5)))
}

// Bar draws one life: what has passed light, what is left heavy.
func (a Axis) Bar(from, to time.Time) string {
	var b strings.Builder
	start, end, now := a.at(from), a.at(to), a.at(a.Now)
	for i := range a.Width {
		switch {
		case i < start || i > end:
			b.WriteByte(' ')
		case i == end:
			b.WriteString("┫")
		case i < now:
			b.WriteString("─")
		default:
			b.WriteString("━")
		}
	}
	return b.String()
}

// Years writes year numbers over the axis, as many as fit.
func (a Axis) Years() string {
	line := []rune(strings.Repeat(" ", a.Width))
	years := a.To.Year() - a.From.Year()
	step := 1
	for _, n := range []int{1, 2, 5, 10, 20, 50} {
		if step = n; years/n*7 <= a.Width {
			break
		}
	}
	next := 0
	for y := a.From.Year(); y <= a.To.Year(); y++ {
		at := a.at(time.Date(y, 1, 1, 0, 0, 0, 0, time.UTC))
		if y == a.From.Year() {
			at = 0
		} else if (y-a.From.Year())%step != 0 {
			continue
		}
		if at < next || at+4 > a.Width {
			continue
		}
		copy(line[at:], []rune(fmt.Sprint(y)))
		next = at + 6
	}
	return strings.TrimRight(string(line), " ")
}

// Today marks today under the axis.
func (a Axis) Today() string {
	at := a.at(a.Now)
	if at+7 > a.Width {
		return strings.Repeat(" ", max(0, at-6)) + "today ▲"
	}
	return strings.Repeat(" ", at) + "▲ today"
}

// steps writes next steps in a line; without a speller, their words.
func (s *Screen) steps(list advice.List) string {
	if s.Steps != nil {
		return s.Steps(list)
	}
	var out []string
	for _, step := range list {
		out = append(out, step.Words)
	}
	return strings.Join(out, "; ")
}
