package httpd

import (
	"strings"
	"testing"
	"time"
)

// The lines are those that the text format asks for: values escaped, buckets that hold those before them, one sum and
// one count for each series.
func TestSeriesAsText(t *testing.T) {
	c := &counters{Metric: Metric{"x_total", "counter", "a, b", "What \\ it\ncounts."}, by: map[string]float64{}}
	c.add(1, "two", `say "no" \ or`)
	c.add(0, "one", "line\nbreak")
	c.add(2.5, "two", `say "no" \ or`)
	h := &histograms{Metric: Metric{"x_seconds", "histogram", "on", ""}, by: map[string]*histogram{}}
	for _, d := range []time.Duration{0, 100 * time.Microsecond, 101 * time.Microsecond, time.Second, time.Minute} {
		h.observe(d, "public")
	}
	alone := newHistograms("ironseal_ocsp_seconds")
	var b strings.Builder
	b.WriteString(c.head())
	c.write(&b)
	h.write(&b)
	alone.write(&b)
	text := b.String()
	for _, want := range []string{
		"# HELP x_total What \\\\ it\\ncounts.\n# TYPE x_total counter\n" +
			`x_total{a="one",b="line\\x0abreak"} 0` + "\n" + `x_total{a="two",b="say \"no\" \\ or"} 3.5` + "\n",
		`x_seconds_bucket{on="public",le="0.0001"} 2` + "\n" + `x_seconds_bucket{on="public",le="0.00025"} 3` + "\n",
		`x_seconds_bucket{on="public",le="0.5"} 3` + "\n" + `x_seconds_bucket{on="public",le="1"} 4` + "\n",
		`x_seconds_bucket{on="public",le="10"} 4` + "\n" + `x_seconds_bucket{on="public",le="+Inf"} 5` + "\n" +
			`x_seconds_sum{on="public"} 61.000201` + "\n" + `x_seconds_count{on="public"} 5` + "\n",
		`ironseal_ocsp_seconds_bucket{le="+Inf"} 0` + "\nironseal_ocsp_seconds_sum 0\nironseal_ocsp_seconds_count 0\n",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not hold\n%s\nbut is\n%s", want, text)
		}
	}
}
