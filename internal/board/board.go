// Package board shows many endpoints at once: as a page that needs nothing but itself, and as
// figures for a collector. What peers say stands on both, and is escaped by the one rule of
// each form.
package board

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"ironseal/pki/endpoint"
	"ironseal/pki/runes"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Parse(pageText))

// Board is what is shown.
type Board struct {
	Title string // whose endpoints they are
	Set   string // the trust set by which they were judged
	Rows  []endpoint.Row
	Now   time.Time
}

// line is a row as the page has it.
type line struct {
	Class, Mark, Word string
	Endpoint, Record  string
	Protocol, Anchor  string
	Left              string
	Days, Bar         int
	Until             string
	Reasons           []reason
}

type reason struct{ Message, Remedy string }

// month is one month of the calendar.
type month struct {
	Name  string
	Count int
	Bar   int
	Past  bool
}

// Page writes the page.
func (b Board) Page() ([]byte, error) {
	var lines []line
	good, careful := 0, 0
	for _, r := range b.sorted() {
		l := lineOf(r)
		switch l.Class {
		case "good":
			good++
		case "careful":
			careful++
		}
		lines = append(lines, l)
	}
	var out bytes.Buffer
	err := page.Execute(&out, map[string]any{"Title": runes.Escape(b.Title), "Set": runes.Escape(b.Set),
		"When": b.Now.UTC().Format("2006-01-02 15:04 UTC"), "Lines": lines, "All": len(lines), "Good": good,
		"Careful": careful, "Bad": len(lines) - good - careful, "Months": b.calendar()})
	return out.Bytes(), err
}

// sorted puts first what is not trusted, then what ends first.
func (b Board) sorted() []endpoint.Row {
	rows := slices.Clone(b.Rows)
	slices.SortStableFunc(rows, func(x, y endpoint.Row) int {
		if x.Trusted != y.Trusted {
			if x.Trusted {
				return 1
			}
			return -1
		}
		return x.Left - y.Left
	})
	return rows
}

// fullBar is how many days fill the bar.
const fullBar = 398

func lineOf(r endpoint.Row) line {
	l := line{Class: "good", Mark: "✓", Word: "trusted", Endpoint: runes.Escape(r.Endpoint),
		Record: runes.Escape(r.Record), Protocol: runes.Escape(r.Protocol), Anchor: runes.Escape(r.Anchor),
		Days: r.Left, Left: "–"}
	if r.Until != "" {
		l.Until, l.Left = r.Until[:10], r.LeftWords()
		l.Bar = max(1, min(100, r.Left*100/fullBar))
	}
	for _, f := range r.ToDo() {
		l.Reasons = append(l.Reasons, reason{runes.Escape(f.Message), runes.Escape(f.Remedy)})
	}
	switch {
	case !r.Trusted:
		l.Class, l.Mark, l.Word = "bad", "✗", "not trusted"
	case r.Pressing():
		l.Class, l.Mark = "careful", "!"
	}
	return l
}

// calendar counts the ends by month, from this month for a year; what has ended stands before
// it, and what ends later behind.
func (b Board) calendar() (out []month) {
	count := map[string]int{}
	first := time.Date(b.Now.Year(), b.Now.Month(), 1, 0, 0, 0, 0, time.UTC)
	names := []string{"ended"}
	for i := range 13 {
		names = append(names, first.AddDate(0, i, 0).Format("2006-01"))
	}
	names = append(names, "later")
	most := 1
	for _, r := range b.Rows {
		if r.Until == "" {
			continue
		}
		name := r.Until[:7]
		switch {
		case r.Left < 0:
			name = "ended"
		case name > names[len(names)-2]:
			name = "later"
		}
		count[name]++
		most = max(most, count[name])
	}
	for _, n := range names {
		out = append(out, month{Name: n, Count: count[n], Bar: count[n] * 100 / most, Past: n == "ended"})
	}
	return out
}

// Metrics writes figures as OpenMetrics text, for the file of a collector.
func (b Board) Metrics() []byte {
	var out bytes.Buffer
	family := func(name, unit, help string, value func(endpoint.Row) (string, bool)) {
		full := "ironseal_endpoint_" + name
		fmt.Fprintf(&out, "# TYPE %s gauge\n", full)
		if unit != "" {
			fmt.Fprintf(&out, "# UNIT %s %s\n", full, unit)
		}
		fmt.Fprintf(&out, "# HELP %s %s\n", full, help)
		for _, r := range b.Rows {
			if v, ok := value(r); ok {
				fmt.Fprintf(&out, "%s{endpoint=\"%s\"} %s\n", full, labelled(r.Endpoint), v)
			}
		}
	}
	family("trusted", "", "Whether a client that holds the trust set gets in.", func(r endpoint.Row) (string, bool) {
		return map[bool]string{true: "1", false: "0"}[r.Trusted], true
	})
	family("not_after_seconds", "seconds", "The first end in the chain, since 1970.", func(r endpoint.Row) (string,
		bool) {
		end, err := time.Parse(time.RFC3339, r.Until)
		return fmt.Sprint(end.Unix()), err == nil
	})
	family("findings", "", "How many things are wrong with it.", func(r endpoint.Row) (string, bool) {
		return fmt.Sprint(len(r.ToDo())), true
	})
	family("looked_at_seconds", "seconds", "When it was looked at, since 1970.", func(endpoint.Row) (string, bool) {
		return fmt.Sprint(b.Now.Unix()), true
	})
	out.WriteString("# EOF\n")
	return out.Bytes()
}

// labelled escapes the value of a label.
func labelled(s string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(runes.Escape(s))
}
