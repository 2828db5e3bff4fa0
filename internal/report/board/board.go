// Package board shows many endpoints at once: as a page that needs nothing but itself, and as
// figures for a collector. What peers say is on both, and is escaped by the one rule of
// each form.
package board

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"sync"
	"time"

	"ironseal/pki/endpoint"
	"ironseal/pki/runes"
	"ironseal/pki/trust"
)

//go:embed page.html
var pageText string

var page = sync.OnceValue(func() *template.Template { return template.Must(template.New("page").Parse(pageText)) })

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
	Tone              string // of the time that is left
	Until             string
	Reasons           []reason
	More              []reason // behind the first
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
	_, months := b.scale()
	var out bytes.Buffer
	err := page().Execute(&out, map[string]any{"Title": runes.Escape(b.Title), "Against": b.against(),
		"When": b.Now.UTC().Format("2006-01-02 15:04 UTC"), "Lines": lines, "All": len(lines), "Good": good,
		"Careful": careful, "Bad": len(lines) - good - careful, "Months": b.calendar(),
		"Each": map[int]string{1: "month", 3: "quarter", 12: "year"}[months]})
	return out.Bytes(), err
}

// against says by which roots the endpoints were judged.
func (b Board) against() string {
	if b.Set == trust.Own {
		return "your own roots"
	}
	return "the trust set " + runes.Escape(b.Set)
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

func lineOf(r endpoint.Row) line {
	l := line{Class: "good", Mark: "✓", Word: "trusted", Endpoint: runes.Escape(r.Endpoint),
		Record: runes.Escape(r.Record), Protocol: runes.Escape(r.Protocol), Anchor: runes.Escape(r.Anchor),
		Days: r.Left, Left: "–"}
	if r.Until != "" {
		l.Until, l.Left = r.Until[:10], r.LeftWords()
		l.Bar = max(1, min(100, r.Left*100/max(r.Life, 1)))
		switch {
		case r.Left < 0:
			l.Tone = "bad"
		case r.Left < endpoint.Soon:
			l.Tone = "careful"
		}
	}
	for _, f := range r.ToDo() {
		l.Reasons = append(l.Reasons, reason{runes.Escape(f.Message), runes.Escape(f.Remedy)})
	}
	if len(l.Reasons) > 1 {
		l.Reasons, l.More = l.Reasons[:1], l.Reasons[1:]
	}
	switch {
	case !r.Trusted:
		l.Class, l.Mark, l.Word = "bad", "✗", "not trusted"
	case r.Pressing():
		l.Class, l.Mark = "careful", "!"
	}
	return l
}

// bars is how many bars the calendar has between what has ended and what ends later.
const bars = 15

// calendar counts the ends by month, from this month on. Where most end later than that, each bar is a
// quarter, or a year. What has ended stands before, and what ends later behind.
func (b Board) calendar() (out []month) {
	first, step := b.scale()
	out = []month{{Name: "ended", Past: true}}
	for i := range bars {
		out = append(out, month{Name: first.AddDate(0, i*step, 0).Format("2006-01")})
	}
	out = append(out, month{Name: "later"})
	most := 1
	for _, r := range b.Rows {
		end, err := time.Parse(time.RFC3339, r.Until)
		if err != nil {
			continue
		}
		at := 0
		if r.Left >= 0 {
			months := (end.Year()-first.Year())*12 + int(end.Month()-first.Month())
			at = 1 + min(months/step, bars)
		}
		out[at].Count++
		most = max(most, out[at].Count)
	}
	for i := range out {
		out[i].Bar = out[i].Count * 100 / most
	}
	return out
}

// scale is the month in which the calendar begins, and how many months each of its bars is.
func (b Board) scale() (first time.Time, months int) {
	first = time.Date(b.Now.Year(), b.Now.Month(), 1, 0, 0, 0, 0, time.UTC)
	for _, months = range []int{1, 3, 12} {
		if b.beyond(first.AddDate(0, bars*months, 0))*2 <= len(b.Rows) {
			break
		}
	}
	return first, months
}

// beyond counts what ends after a moment.
func (b Board) beyond(at time.Time) (n int) {
	for _, r := range b.Rows {
		if end, err := time.Parse(time.RFC3339, r.Until); err == nil && end.After(at) {
			n++
		}
	}
	return n
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
	family("looked_at_seconds", "seconds", "When it was probed, since 1970.", func(endpoint.Row) (string, bool) {
		return fmt.Sprint(b.Now.Unix()), true
	})
	out.WriteString("# EOF\n")
	return out.Bytes()
}

// labelled escapes the value of a label.
func labelled(s string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(runes.Escape(s))
}
