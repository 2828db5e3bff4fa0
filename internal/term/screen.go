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
	"strings"
	"unicode"

	"github.com/charmbracelet/lipgloss"
	"github.com/muesli/termenv"
	xterm "golang.org/x/term"
)

// Screen prints to one writer.
type Screen struct {
	out      io.Writer
	width    int
	Terminal bool // whether out is a terminal
	plain    bool // no colour
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

// NewScreen prints to w. noColour is the NO_COLOR environment variable.
func NewScreen(w io.Writer, colour When, noColour string) *Screen {
	s := &Screen{out: w, width: 80}
	if f, ok := w.(*os.File); ok && xterm.IsTerminal(int(f.Fd())) {
		s.Terminal = true
		if cols, _, err := xterm.GetSize(int(f.Fd())); err == nil && cols >= 40 {
			s.width = min(cols, 120)
		}
	}
	profile := termenv.Ascii
	if colour == Always || colour == Auto && s.Terminal && noColour == "" && os.Getenv("TERM") != "dumb" {
		profile = termenv.ANSI
	}
	s.plain = profile == termenv.Ascii
	r := lipgloss.NewRenderer(w)
	r.SetColorProfile(profile) // otherwise it asks the environment again
	base := r.NewStyle()
	s.styles = map[Tone]lipgloss.Style{
		Normal: base, Strong: base.Bold(true), Quiet: base.Faint(true), Good: base.Foreground(lipgloss.Color("2")),
		Careful: base.Foreground(lipgloss.Color("3")), Bad: base.Foreground(lipgloss.Color("1")).Bold(true), Accent: base.Foreground(lipgloss.Color("6")),
	}
	return s
}

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

// Safe makes outside text harmless on a terminal: control characters,
// bidirectional marks and invisible characters are shown as \u escapes, and
// text that is not UTF-8 byte by byte.
func Safe(text string) string {
	clean := true
	for _, r := range text {
		if hostile(r) {
			clean = false
			break
		}
	}
	if clean {
		return text
	}
	var b strings.Builder
	for i, r := range text {
		switch {
		case r == unicode.ReplacementChar && !strings.HasPrefix(text[i:], "\uFFFD"):
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case hostile(r) && r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		case hostile(r):
			fmt.Fprintf(&b, `\u{%x}`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

func hostile(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == unicode.ReplacementChar || r == 0x2028 || r == 0x2029
}

// wrap breaks text into lines of at most width columns: after a blank or a comma
// where there is one, else after a dot or a slash, else anywhere.
func wrap(text string, width int) []string {
	width = max(width, 8)
	var out []string
	for lipgloss.Width(text) > width {
		cut := fitting(text, width)
		line := text[:cut]
		if at := strings.LastIndexAny(line, " ,"); at > 0 {
			cut = at + 1
		} else if at := strings.LastIndexAny(line, "./"); at > len(line)/3 {
			cut = at + 1
		}
		out = append(out, strings.TrimRight(text[:cut], " "))
		text = strings.TrimLeft(text[cut:], " ")
	}
	return append(out, text)
}

// fitting is how many bytes of text fit into width columns, at least one rune.
func fitting(text string, width int) int {
	used := 0
	for i, r := range text {
		used += lipgloss.Width(string(r))
		if used > width && i > 0 {
			return i
		}
	}
	return len(text)
}

// Wrapped prints a paragraph, every line indented.
func (s *Screen) Wrapped(indent int, tone Tone, text string) {
	for _, l := range wrap(text, s.width-indent) {
		s.Say("%s%s", strings.Repeat(" ", indent), s.Paint(tone, l))
	}
}

// Item prints a marked paragraph, its further lines indented under the first.
func (s *Screen) Item(mark, text string) {
	for i, l := range wrap(text, s.width-4) {
		if i > 0 {
			mark = " "
		}
		s.Say("  %s %s", mark, l)
	}
}

func pad(text string, width int) string {
	if w := lipgloss.Width(text); w < width {
		return text + strings.Repeat(" ", width-w)
	}
	return text
}
