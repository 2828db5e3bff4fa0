package term

import (
	"bytes"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/charmbracelet/lipgloss"

	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/renewal"
	"ironseal/pki/runes"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
)

func screen() (*Screen, *bytes.Buffer) {
	var b bytes.Buffer
	return NewScreen(&b, Auto, ""), &b
}

func TestHostileTextIsMadeHarmless(t *testing.T) {
	for in, want := range map[string]string{
		"plain text, åæø": "plain text, åæø", "a\x1b[31mb": `a\x1b[31mb`, "a\nb": `a\x0ab`, "a\u202eb": `a\u{202e}b`,
		"a\u200bb": `a\u{200b}b`, "a\x00b": `a\x00b`,
		"a\xffb": `a\xffb`, "a\u0085b": `a\x85b`, "a\u2028b": `a\u{2028}b`, "\ufeffx": `\u{feff}x`,
	} {
		t.Run(in, func(t *testing.T) {
			if got := Safe(in); got != want {
				t.Errorf("Safe(%q) = %q, want %q", in, got, want)
			}
		})
	}
}

func FuzzSafe(f *testing.F) {
	f.Add("a\x1b[31m\u202e\xff")
	f.Fuzz(func(t *testing.T, s string) {
		for _, r := range Safe(s) {
			if runes.Hostile(r) {
				t.Fatalf("%q lets %U through", s, r)
			}
		}
	})
}

// On a screen, text is wrapped and columns are left out; what is a name, a code or a
// command is whole wherever it stands. Into a pipe, nothing is wrapped at all.
func TestNamesAreNeverBroken(t *testing.T) {
	long := strings.Repeat("very-long-label.", 12) + "ternbay.example"
	command := "ironseal estate restore ../harbour.backup ../restored"
	print := func() string {
		s, b := screen()
		s.Table([]string{"a", "b", "c", "d", "e"},
			[][]Cell{{{Text: "s1"}, {Text: strings.Repeat("words ", 12)}, {Text: "short"},
				{Text: "left.ternbay.example"}, {Text: strings.Repeat("x", 30)}}}, "e", "d")
		s.Sheet("x", "", issue.Plan{Rows: []issue.Row{{Field: "subject", Asked: "CN=" + long, Signed: "CN=" + long,
			Cause: strings.Repeat("because ", 30)}, {Field: "name", Asked: "dns:" + long, Signed: "dns:" + long}},
			Findings: finding.List{finding.New(finding.ShortName, "%s is long.", long)}}, "code", "head")
		s.Wrapped(9, Normal, strings.Repeat("some words ", 5)+"restore it from a backup: "+command)
		return b.String()
	}
	t.Setenv("COLUMNS", "80")
	narrow := print()
	for _, l := range strings.Split(narrow, "\n") {
		if lipgloss.Width(l) > 80 && !strings.Contains(l, long) {
			t.Errorf("%d columns: %s", lipgloss.Width(l), l)
		}
	}
	if !strings.Contains(narrow, "Hidden at this width: d, e.") {
		t.Errorf("it is not said which columns are left out:\n%s", narrow)
	}
	t.Setenv("COLUMNS", "")
	wide := print()
	for name, out := range map[string]string{"80 columns": narrow, "a pipe": wide} {
		if strings.Count(out, long) < 3 || !strings.Contains(out, command) {
			t.Errorf("%s: a name or a command is broken:\n%s", name, out)
		}
		if strings.Contains(out, "\x1b") || strings.Contains(out, joined) {
			t.Errorf("%s: escapes", name)
		}
		if !strings.Contains(strings.ReplaceAll(strings.ReplaceAll(out, "\n", ""), " ", ""), "because)") {
			t.Errorf("%s: text was lost in wrapping", name)
		}
	}
	if strings.Contains(wide, "Hidden at") || !strings.Contains(wide, strings.Repeat("because ", 29)) ||
		!strings.Contains(wide, "left.ternbay.example  xxx") {
		t.Errorf("a pipe gets wrapped lines:\n%s", wide)
	}
}

func TestWrapLosesNothing(t *testing.T) {
	for _, text := range []string{"", "short", strings.Repeat("x", 100), "one two three four five six seven",
		"dns:www.booking.ternbay.example,dns:booking.ternbay.example", "日本語日本語日本語日本語",
		"with: ironseal sign R5 --by services, and then more"} {
		for width := 1; width < 40; width++ {
			lines := wrap(text, width)
			if got := strings.ReplaceAll(strings.Join(lines, ""), " ", ""); got != strings.ReplaceAll(text, " ", "") {
				t.Fatalf("width %d: %q became %q", width, text, lines)
			}
			for _, l := range lines {
				if lipgloss.Width(l) > max(width, 8) && lipgloss.Width(l) > longest(text, 1000) {
					t.Fatalf("width %d: line %q", width, l)
				}
			}
		}
	}
}

func TestLifetimeBarsShareOneAxis(t *testing.T) {
	now := specimen.Now
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true, From: now.AddDate(-10, 0, 0),
		Until: now.AddDate(10, 0, 0)})
	mid := specimen.Make(t, root, specimen.Plan{Subject: "CN=Mid", Authority: true, From: now,
		Until: now.AddDate(5, 0, 0)})
	r := &hierarchy.Authority{Handle: "root"}
	m := &hierarchy.Authority{Handle: "services", Parent: r}
	rg := &hierarchy.Generation{Number: 1, Certificate: root.Cert, Authority: r}
	r.Generations = []*hierarchy.Generation{rg}
	m.Generations = []*hierarchy.Generation{{Number: 1, Certificate: mid.Cert, Issuer: rg, Authority: m}}
	s, b := screen()
	s.Tree(hierarchy.Hierarchy{r, m}, now)
	lines := strings.Split(b.String(), "\n")
	column := func(line, mark string) int {
		before, _, ok := strings.Cut(line, mark)
		if !ok {
			t.Fatalf("%q has no %q:\n%s", line, mark, b.String())
		}
		return lipgloss.Width(before)
	}
	today := column(lines[3], "▲")
	if got := column(lines[1], "━"); got != today {
		t.Errorf("the root's passed life ends at column %d, today is %d", got, today)
	}
	if got := column(lines[2], "━"); got != today {
		t.Errorf("the child begins at column %d, today is %d", got, today)
	}
	full, half := column(lines[1], "┫")-today, column(lines[2], "┫")-today
	if d := full - 2*half; d < -1 || d > 1 {
		t.Errorf("ten years are %d columns and five are %d", full, half)
	}
}

func TestAxisAtItsEdges(t *testing.T) {
	now := specimen.Now
	for _, a := range []Axis{{now, now, now, 30}, {now, now.Add(time.Hour), now, 30},
		{now.AddDate(-1, 0, 0), now.AddDate(100, 0, 0), now, 20}} {
		if w := lipgloss.Width(a.Bar(a.From, a.To)); w != a.Width {
			t.Errorf("a bar of %d columns on an axis of %d", w, a.Width)
		}
		if w := lipgloss.Width(a.Years()); w > a.Width {
			t.Errorf("years of %d columns on an axis of %d", w, a.Width)
		}
	}
}

// The forecast names what is short, what is overdue and what is planned, within
// the width of the screen, without colour and without escapes.
func TestForecastIsDrawn(t *testing.T) {
	now := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	at := func(years int) time.Time { return now.AddDate(years, 0, 0) }
	r := renewal.Report{Now: now,
		Rows: []renewal.Row{{Authority: "root", Template: "sub", Full: span.Years(5), Until: at(1), Short: "4 years",
			LastFull: at(-4)},
			{Authority: "services", Template: "web-server", Full: span.Days(397), Until: at(1), LastFull: at(2)},
			{Authority: "services", Template: "mail-server", Full: span.Days(397), Until: at(1), LastFull: at(2)}},
		Acts: []renewal.Act{{Day: now, Handle: "root", Number: 2, Until: at(15), Why: "it could not grant",
			Overdue: true}, {Day: at(2), Handle: "services", Number: 3, Until: at(7),
			Why: "its grants begin to shrink"}},
		Bars: []renewal.Bar{{Handle: "root", Number: 1, From: at(-14), Until: at(1), ShrinksAt: at(-4)},
			{Handle: "root", Number: 2, From: now, Until: at(15), ShrinksAt: at(10), Scheduled: true},
			{Handle: "services", Level: 1, Number: 1, From: at(-14), Until: at(-9), ShrinksAt: at(-10)},
			{Handle: "services", Level: 1, Number: 2, From: at(-2), Until: at(1), ShrinksAt: at(0)}},
		Hollow: []string{"ships"}}
	t.Setenv("COLUMNS", "80")
	var b bytes.Buffer
	s := NewScreen(&b, Never, "")
	s.Forecast(r)
	out := b.String()
	for _, want := range []string{"! 4 years", "✓ full", "mail-server", "now", "root g2", "until 2041-11-23",
		"ships lives less than what it grants", "  services", "▲ today", "━g1", "═g2", "╌"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not shown in\n%s", want, out)
		}
	}
	if strings.Contains(out, "\x1b") || strings.Count(out, "web-server") != 1 {
		t.Error(out)
	}
	for _, l := range strings.Split(out, "\n") {
		if utf8.RuneCountInString(l) > 80 {
			t.Errorf("wider than 80 columns: %q", l)
		}
	}
	// Generations that do not touch share a row; those that do, take two.
	if lanes := (Axis{From: at(-14), To: at(15), Now: now, Width: 60}).lanes(r.Bars[2:]); len(lanes) != 1 {
		t.Errorf("%d rows", len(lanes))
	}
	if lanes := (Axis{From: at(-14), To: at(15), Now: now, Width: 60}).lanes(r.Bars[:2]); len(lanes) != 2 {
		t.Errorf("%d rows", len(lanes))
	}
}

func TestRenewalIsDrawn(t *testing.T) {
	now := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	var b bytes.Buffer
	s := NewScreen(&b, Never, "")
	s.Renewal([]renewal.Reason{{New: true, Say: "the key is \u202eold"}, {Say: "it is not"}},
		[]renewal.Level{{Handle: "services", Template: "web", Full: span.Days(397), Before: now,
			After: now.AddDate(1, 0, 0), Short: "32 days short"},
			{Handle: "services", Template: "mail", Full: span.Days(397), Before: now, After: now}},
		[]string{"bring it", "publish it"})
	out := b.String()
	for _, want := range []string{"new key:  the key is", "same key: it is not", "! 32 days short", "2. publish it"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not shown in\n%s", want, out)
		}
	}
	if strings.Contains(out, "\u202e") || strings.Count(out, "services") != 1 {
		t.Error(out)
	}
}
