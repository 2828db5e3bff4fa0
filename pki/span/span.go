// Package span computes with calendar lifetimes: "397d", "10y", "1y6m", or
// ISO 8601 durations such as "P10Y".
//
// A lifetime of ten years is not a number of seconds. It ends on the same day
// of the same month, ten years on, and where that day does not exist (29
// February, 31 April) it ends on the last day of that month: never a day later,
// because a certificate that lives a day too long can outlive its issuer. All
// arithmetic is in UTC, since certificates carry UTC.
package span

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Span is a calendar lifetime. The zero value is no time at all. Parts are
// never negative.
type Span struct {
	Years, Months, Days, Hours int
}

// most bounds each part, so that no sum can overflow or pass the year 9999 by far.
const most = 4_000_000

// Years returns a span of n years.
func Years(n int) Span { return Span{Years: n} }

// Days returns a span of n days.
func Days(n int) Span { return Span{Days: n} }

// Parse reads a span: parts of a number and a letter (y years, m months, w
// weeks, d days, h hours), or an ISO 8601 duration with years, months, weeks,
// days and hours. A span of nothing is an error.
func Parse(text string) (Span, error) {
	s := strings.ToLower(strings.TrimSpace(text))
	iso := strings.HasPrefix(s, "p")
	s = strings.TrimPrefix(s, "p")
	var out Span
	clock := false
	for s != "" {
		if iso && s[0] == 't' {
			clock, s = true, s[1:]
			continue
		}
		digits := 0
		for digits < len(s) && s[digits] >= '0' && s[digits] <= '9' {
			digits++
		}
		if digits == 0 || digits == len(s) {
			return Span{}, badSpan(text)
		}
		n, err := strconv.Atoi(s[:digits])
		if err != nil || n > most {
			return Span{}, fmt.Errorf("lifetime %q: the number is too large", text)
		}
		if (s[digits] == 'h') != clock && iso {
			return Span{}, badSpan(text)
		}
		if !out.add(n, s[digits]) {
			return Span{}, badSpan(text)
		}
		s = s[digits+1:]
	}
	if out == (Span{}) {
		return Span{}, badSpan(text)
	}
	if max(out.Years, out.Months, out.Days, out.Hours) > most {
		return Span{}, fmt.Errorf("lifetime %q: the number is too large", text)
	}
	return out, nil
}

func (s *Span) add(n int, unit byte) bool {
	switch unit {
	case 'y':
		s.Years += n
	case 'm':
		s.Months += n
	case 'w':
		s.Days += 7 * n
	case 'd':
		s.Days += n
	case 'h':
		s.Hours += n
	default:
		return false
	}
	return true
}

func badSpan(text string) error {
	return fmt.Errorf("%q is not a lifetime: write for example 397d, 18m, 10y or P10Y", text)
}

// After returns the moment one span after t, in UTC. The day is kept; where the
// month is too short for it, it is the month's last day.
func (s Span) After(t time.Time) time.Time {
	t = t.UTC()
	y, m, d := t.Date()
	months := int(m) - 1 + s.Months
	y += s.Years + months/12
	month := time.Month(months%12 + 1)
	if last := daysIn(y, month); d > last {
		d = last
	}
	hh, mm, ss := t.Clock()
	moved := time.Date(y, month, d, hh, mm, ss, t.Nanosecond(), time.UTC)
	// In UTC a day has 24 hours; whole days keep the hours within a Duration.
	return moved.AddDate(0, 0, s.Days+s.Hours/24).Add(time.Duration(s.Hours%24) * time.Hour)
}

// LastDay returns the last UTC day (its midnight) on which a span may begin at
// any moment and still ends by end. Days are tried around a first guess, since
// months differ in length and a calendar span has no exact inverse.
func (s Span) LastDay(end time.Time) time.Time {
	end = end.UTC()
	fits := func(day time.Time) bool { return !s.After(day.Add(24*time.Hour - time.Second)).After(end) }
	day := end.AddDate(-s.Years, -s.Months, -s.Days-s.Hours/24).Truncate(24 * time.Hour)
	for range most { // the guess is off by days; the bound is for spans beyond the calendar
		switch {
		case fits(day.AddDate(0, 0, 1)):
			day = day.AddDate(0, 0, 1)
		case !fits(day):
			day = day.AddDate(0, 0, -1)
		default:
			return day
		}
	}
	return day
}

// Between is the calendar span from one moment to another as people would have
// asked for it: whole years or months where that fits to within slack, else days.
func Between(from, to time.Time, slack time.Duration) Span {
	from, to = from.UTC(), to.UTC()
	months := (to.Year()-from.Year())*12 + int(to.Month()) - int(from.Month())
	for _, n := range []int{months, months + 1, months - 1} {
		if n <= 0 {
			continue
		}
		if d := (Span{Months: n}).After(from).Sub(to); d.Abs() <= slack {
			return Span{Years: n / 12, Months: n % 12}
		}
	}
	return Span{Days: max(1, int(to.Sub(from).Hours()+12)/24)}
}

func daysIn(y int, m time.Month) int { return time.Date(y, m+1, 0, 0, 0, 0, 0, time.UTC).Day() }

// Longer reports whether s lasts longer than o when both begin at t.
func (s Span) Longer(o Span, t time.Time) bool { return s.After(t).After(o.After(t)) }

// IsZero reports whether the span is no time at all.
func (s Span) IsZero() bool { return s == Span{} }

// String writes the span the way Parse reads it: "1y6m", "397d".
func (s Span) String() string {
	var b strings.Builder
	for _, part := range s.parts() {
		if part.n > 0 {
			fmt.Fprintf(&b, "%d%c", part.n, part.word[0])
		}
	}
	return b.String()
}

// Words writes the span for people: "1 year 6 months", "397 days".
func (s Span) Words() string {
	var out []string
	for _, part := range s.parts() {
		if part.n > 0 {
			out = append(out, Count(part.n, part.word))
		}
	}
	return strings.Join(out, " ")
}

type part struct {
	n    int
	word string
}

func (s Span) parts() []part {
	return []part{{s.Years, "year"}, {s.Months, "month"}, {s.Days, "day"}, {s.Hours, "hour"}}
}

// Count writes a number with its word: "1 day", "5 days".
func Count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	if stem, found := strings.CutSuffix(word, "y"); found && !strings.ContainsAny(stem[len(stem)-1:], "aeou") {
		return strconv.Itoa(n) + " " + stem + "ies"
	}
	return strconv.Itoa(n) + " " + word + "s"
}

// MarshalText writes the span as String does.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads the span as Parse does.
func (s *Span) UnmarshalText(b []byte) error {
	if len(b) > 64 {
		return errors.New("a lifetime is at most 64 characters")
	}
	p, err := Parse(string(b))
	if err == nil {
		*s = p
	}
	return err
}

// Length says how long it is from one moment to another, to the precision that
// people use: "4 years 11 months", "12 days", "3 hours". The order of the two
// does not matter.
func Length(from, to time.Time) string {
	if to.Before(from) {
		from, to = to, from
	}
	from, to = from.UTC(), to.UTC()
	months := (to.Year()-from.Year())*12 + int(to.Month()) - int(from.Month())
	for months > 0 && (Span{Months: months}).After(from).After(to) {
		months--
	}
	if months >= 12 { // to the nearest month, so that ten years less a second are ten years
		for !(Span{Months: months + 1}).After(from).After(to.AddDate(0, 0, 15)) {
			months++
		}
	}
	switch d := to.Sub(from); {
	case months >= 12 && months%12 > 0 && months < 120:
		return Count(months/12, "year") + " " + Count(months%12, "month")
	case months >= 12:
		return Count(months/12, "year")
	case months >= 3:
		return Count(months, "month")
	case d >= 48*time.Hour:
		return Count(int(d.Hours())/24, "day")
	case d >= time.Hour:
		return Count(int(d.Hours()), "hour")
	case d >= time.Minute:
		return Count(int(d.Minutes()), "minute")
	default:
		return Count(int(d.Seconds()), "second")
	}
}

// Distance says how far t is from now: "in 11 months", "3 days ago", "now".
func Distance(now, t time.Time) string {
	switch d := t.Sub(now); {
	case d > -time.Second && d < time.Second:
		return "now"
	case d > 0:
		return "in " + Length(now, t)
	default:
		return Length(now, t) + " ago"
	}
}
