package span

import (
	"testing"
	"time"
)

func day(s string) time.Time {
	t, err := time.Parse("2006-01-02", s)
	if err != nil {
		panic(err)
	}
	return t
}

func TestAfterKeepsTheDayOrTakesTheLastOfTheMonth(t *testing.T) {
	for _, c := range []struct{ from, span, want string }{
		{"2028-02-29", "1y", "2029-02-28"}, // not 1 March: that would be a day too long
		{"2028-02-29", "4y", "2032-02-29"},
		{"2096-02-29", "4y", "2100-02-28"}, // 2100 is no leap year
		{"2026-01-31", "1m", "2026-02-28"},
		{"2026-03-31", "1m", "2026-04-30"},
		{"2026-10-31", "4m", "2027-02-28"},
		{"2026-12-15", "1m", "2027-01-15"},
		{"2026-11-23", "397d", "2027-12-25"},
		{"2026-11-23", "P10Y", "2036-11-23"},
		{"2026-11-23", "P1Y6M2W", "2028-06-06"},
		{"2026-11-23", "2w", "2026-12-07"},
		{"2026-11-23", "PT48H", "2026-11-25"},
		{"2026-11-23", "3333333h", "2407-02-27"}, // more hours than a Duration holds
	} {
		t.Run(c.from, func(t *testing.T) {
			s, err := Parse(c.span)
			if err != nil {
				t.Fatalf("%s: %v", c.span, err)
			}
			if got := s.After(day(c.from)).Format("2006-01-02"); got != c.want {
				t.Errorf("%s after %s = %s, want %s", c.span, c.from, got, c.want)
			}
		})
	}
}

func TestParseRefusesWhatIsNotALifetime(t *testing.T) {
	for _, s := range []string{"", "0d", "d", "10", "ten years", "-5d", "5x", "P", "PT", "P5H", "99999999999999999999d",
		"5000000d", "777777w", "3000000d3000000d", "1y 2m", "1.5y"} {
		if got, err := Parse(s); err == nil {
			t.Errorf("Parse(%q) = %v, want an error", s, got)
		}
	}
}

func TestStringReadsBack(t *testing.T) {
	for _, s := range []string{"397d", "10y", "1y6m", "12h", "2y3m4d5h"} {
		p, err := Parse(s)
		if err != nil || p.String() != s {
			t.Errorf("Parse(%q).String() = %q, %v", s, p, err)
		}
	}
}

func TestDistanceInWords(t *testing.T) {
	now := day("2026-11-23")
	for _, c := range []struct {
		to   time.Time
		want string
	}{
		{day("2027-10-30"), "in 11 months"},
		{day("2026-11-20"), "3 days ago"},
		{day("2036-11-23"), "in 10 years"},
		{day("2029-01-01"), "in 2 years 1 month"},
		{now.Add(90 * time.Minute), "in 1 hour"},
		{now, "now"},
	} {
		t.Run(c.want, func(t *testing.T) {
			if got := Distance(now, c.to); got != c.want {
				t.Errorf("Distance to %s = %q, want %q", c.to, got, c.want)
			}
		})
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"397d", "P1Y2M3W4DT5H", "1y6m", "", "PT", "9999999999y"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		p, err := Parse(s)
		if err != nil {
			return
		}
		back, err := Parse(p.String())
		if err != nil || back != p {
			t.Fatalf("%q -> %v -> %v, %v", s, p, back, err)
		}
		if start := day("2026-11-23"); !p.After(start).After(start) {
			t.Fatalf("%q does not move forward", s)
		}
	})
}
