// Package term is what a person sees: tables, review sheets, trees, lifetime
// bars, prompts and progress.
//
// Three rules shape it. All outside text passes through Safe, so that no name
// in a request can move the cursor or turn the reading direction. Colour is a
// third signal only: every state is a word and a mark first. And what goes to a
// pipe has no escapes, no bars that redraw and no prompts.
package term

import (
	"fmt"
	"io"
	"os"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"

	"github.com/charmbracelet/lipgloss"
	"github.com/muesli/termenv"
	xterm "golang.org/x/term"

	"ironseal/pki/advice"
	"ironseal/pki/runes"
)

// Screen prints to one writer.
type Screen struct {
	out      io.Writer
	width    int                      // of what is laid out: bars, columns
	text     int                      // where text is wrapped; beyond any line where it is not
	Terminal bool                     // whether out is a terminal
	plain    bool                     // no colour
	Steps    func(advice.List) string // writes next steps in a line
	styles   map[Tone]lipgloss.Style
}

// Tone is the meaning of a piece of text, from which its colour follows.
type Tone int

const (
	Normal Tone = iota
	Strong
	Quiet
	Good
	Careful
	Bad
	Accent
)

// When says whether colour is used.
type When string

const (
	Auto   When = "auto"
	Always When = "always"
	Never  When = "never"
)

// NewScreen prints to w. noColour is the NO_COLOR environment variable. The width is
// that of the terminal, or what COLUMNS says; without either, no text is wrapped, so
// that whatever reads the lines finds every name whole.
func NewScreen(w io.Writer, colour When, noColour string) *Screen {
	s := &Screen{out: w, width: usualWidth, text: unwrapped}
	draws := false
	if f, ok := w.(*os.File); ok && xterm.IsTerminal(int(f.Fd())) {
		s.Terminal, draws = true, drawsColours(f)
		s.text = usualWidth
		if cols, _, err := xterm.GetSize(int(f.Fd())); err == nil && cols > 0 {
			s.width, s.text = within(cols), within(cols)
		}
	}
	if cols, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && cols > 0 {
		s.width, s.text = within(cols), within(cols)
	}
	profile := termenv.Ascii
	if colour == Always || colour == Auto && s.Terminal && noColour == "" && os.Getenv("TERM") != "dumb" && draws {
		profile = termenv.ANSI
		if strings.Contains(os.Getenv("TERM"), "256") || os.Getenv("COLORTERM") != "" ||
			runtime.GOOS == "windows" { // whose consoles say nothing, and have 256
			profile = termenv.ANSI256
		}
	}
	s.plain = profile == termenv.Ascii
	r := lipgloss.NewRenderer(w)
	r.SetColorProfile(profile) // otherwise it asks the environment again
	base := r.NewStyle()
	// Where there are only sixteen colours, the terminal's own. Where the background is not known, colours
	// that are read on white and on black; else those with a contrast of 7:1 and more.
	good, careful, bad, accent, quiet := "2", "3", "1", "6", base.Faint(true)
	if profile == termenv.ANSI256 {
		switch background(os.Getenv("COLORFGBG")) {
		case dark:
			good, careful, bad, accent = "114", "179", "210", "80"
			quiet = base.Foreground(lipgloss.Color("248"))
		case light:
			good, careful, bad, accent = "22", "94", "124", "24"
			quiet = base.Foreground(lipgloss.Color("240"))
		default:
			good, careful, bad, accent = "28", "130", "160", "31"
		}
	}
	s.styles = map[Tone]lipgloss.Style{
		Normal: base, Strong: base.Bold(true), Quiet: quiet, Good: base.Foreground(lipgloss.Color(good)),
		Careful: base.Foreground(lipgloss.Color(careful)), Bad: base.Foreground(lipgloss.Color(bad)).Bold(true),
		Accent: base.Foreground(lipgloss.Color(accent)),
	}
	return s
}

const (
	usualWidth = 80
	unwrapped  = 1 << 30
)

// within keeps lines readable: very long ones are not, and in very short ones nothing
// can be laid out.
// The backgrounds that a terminal can tell of.
const (
	unknown = iota
	dark
	light
)

// background reads COLORFGBG, which terminals set to the numbers of their colours: the last is the background's.
func background(colours string) int {
	n, err := strconv.Atoi(colours[strings.LastIndex(colours, ";")+1:])
	switch {
	case err != nil || n < 0 || n > 15:
		return unknown
	case n <= 6 || n == 8:
		return dark
	}
	return light
}

func within(columns int) int { return min(max(columns, 40), 120) }

// Say prints one line of our own text; outside text in it must be escaped with
// Safe.
func (s *Screen) Say(format string, args ...any) {
	fmt.Fprintln(s.out, strings.TrimRight(fmt.Sprintf(format, args...), " "))
}

// Gap prints an empty line.
func (s *Screen) Gap() { fmt.Fprintln(s.out) }

// Raw prints bytes as they are: an exported certificate, a completion script.
func (s *Screen) Raw(b []byte) error {
	_, err := s.out.Write(b)
	return err
}

// Paint gives text a tone.
func (s *Screen) Paint(t Tone, text string) string {
	if t == Normal || text == "" || s.plain {
		return text
	}
	return s.styles[t].Render(text)
}

// Safe makes outside text harmless on a terminal.
func Safe(text string) string { return runes.Escape(text) }

// leastWidth is what text is wrapped to at least.
const leastWidth = 8

// wrap breaks text into lines of at most width columns: at blanks and after commas, and
// nowhere else. A name, a code, a path or a command that is longer has a line of its
// own, however long, so that it can be found and copied. (The text package of the style
// library breaks at hyphens, which names and options have.) Each character is examined
// a bounded number of times.
func wrap(text string, width int) []string {
	width = max(width, leastWidth)
	if len(text) <= width {
		return []string{text}
	}
	text = join(text)
	var out []string
	for {
		cut := fitting(text, width)
		if cut < len(text) && text[cut] != ' ' {
			if at := strings.LastIndexAny(text[:cut], " ,"); at >= 0 {
				cut = at + 1
			} else if at := strings.IndexAny(text[cut:], " ,"); at >= 0 {
				cut += at + 1
			} else {
				cut = len(text)
			}
		}
		out = append(out, strings.ReplaceAll(strings.TrimRight(text[:cut], " "), joined, " "))
		if text = strings.TrimLeft(text[cut:], " "); text == "" {
			return out
		}
	}
}

// joined replaces a blank at which no line is broken. No text has it: it is escaped.
const joined = "\x00"

// width is how many columns a text takes.
func width(text string) int {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c > '~' {
			return lipgloss.Width(text)
		}
	}
	return len(text)
}

func columns(text string) int { return width(text) + strings.Count(text, joined) }

// part is an attribute of a distinguished name, up to the comma or the end.
var part = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\b[A-Z]+=[^,=]+(,|$)`) })

// join keeps together what is read or typed as one: attributes of names, and commands.
func join(text string) string {
	if !strings.Contains(text, "=") && !strings.Contains(text, "ironseal ") {
		return text
	}
	text = part().ReplaceAllStringFunc(text, func(s string) string { return strings.ReplaceAll(s, " ", joined) })
	return joinCommands(text)
}

func joinCommands(text string) string {
	at := strings.Index(text, "ironseal ")
	if at < 0 {
		return text
	}
	end := len(text)
	for _, mark := range []string{", ", "; ", " (", ". ", ": ", "   "} {
		if i := strings.Index(text[at:end], mark); i >= 0 {
			end = at + i
		}
	}
	return text[:at] + strings.ReplaceAll(text[at:end], " ", joined) + joinCommands(text[end:])
}

// longest is the width of the longest piece that wrap keeps whole.
func longest(text string, enough int) int {
	most := 0
	for _, piece := range strings.FieldsFunc(join(text), func(r rune) bool { return r == ' ' || r == ',' }) {
		if len(piece) > most {
			most = max(most, columns(piece)+1)
		}
		if most >= enough {
			return enough
		}
	}
	return most
}

// fitting is how many bytes of text fit into width columns, at least one rune.
func fitting(text string, width int) int {
	used := 0
	for i, r := range text {
		used += columns(string(r))
		if used > width && i > 0 {
			return i
		}
	}
	return len(text)
}

// Wrapped prints a paragraph, every line indented.
func (s *Screen) Wrapped(indent int, tone Tone, text string) {
	for _, l := range wrap(text, s.text-indent) {
		s.Say("%s%s", strings.Repeat(" ", indent), s.Paint(tone, l))
	}
}

// Hung prints a paragraph behind a word, its further lines indented under the first.
func (s *Screen) Hung(head string, tone Tone, text string) {
	for _, l := range wrap(text, s.text-lipgloss.Width(head)-1) {
		s.Say("%s %s", s.Paint(tone, head), l)
		head = strings.Repeat(" ", lipgloss.Width(head))
	}
}

// Beside prints two texts on a line, or below each other where there is no room. Neither is broken: the second is
// a command to be copied.
func (s *Screen) Beside(left, right string) {
	if s.text != unwrapped && lipgloss.Width(left)+2+lipgloss.Width(right) > s.text {
		s.Say("%s", left)
		s.Say("  %s", right)
		return
	}
	s.Say("%s  %s", left, right)
}

// Item prints a marked paragraph, its further lines indented under the first.
func (s *Screen) Item(mark, text string) {
	for i, l := range wrap(text, s.text-4) {
		if i > 0 {
			mark = " "
		}
		s.Say("  %s %s", mark, l)
	}
}

// Pair prints a word or two and, beside them, what they mean. Where they need more than
// their width, the meaning begins on the next line.
func (s *Screen) Pair(indent, width int, left, right string) {
	lines := wrap(right, s.text-indent-width-2)
	if lipgloss.Width(left) > width {
		s.Say("%s%s", strings.Repeat(" ", indent), left)
		left = ""
	}
	for i, l := range lines {
		if i > 0 {
			left = ""
		}
		s.Say("%s%s  %s", strings.Repeat(" ", indent), pad(left, width), s.Paint(Quiet, l))
	}
}

func pad(text string, to int) string { return text + strings.Repeat(" ", max(0, to-width(text))) }
