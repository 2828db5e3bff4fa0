package httpd

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ironseal/pki/runes"
)

// Metrics are written in the text format that collectors read (version 0.0.4): a head for each, and a line for each
// series. A library for that would take a fifth of the time in which every command starts.

// figuresType is the media type of that format.
const figuresType = "text/plain; version=0.0.4; charset=utf-8"

func (m Metric) head() string {
	help := strings.NewReplacer(`\`, `\\`, "\n", `\n`).Replace(m.Help)
	return fmt.Sprintf("# HELP %s %s\n# TYPE %s %s\n", m.Name, help, m.Name, m.Kind)
}

var escaping = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`)

// line is one series; more is a suffix of the name. The values are those of the metric's labels, and what follows them
// is the bound of a bucket.
func (m Metric) line(more string, v float64, values ...string) string {
	names := append(m.labels(), "le")
	var b strings.Builder
	b.WriteString(m.Name + more)
	for i, value := range values {
		b.WriteString(map[bool]string{true: "{", false: ","}[i == 0])
		b.WriteString(names[i] + `="` + escaping.Replace(runes.Escape(value)) + `"`)
	}
	if len(values) > 0 {
		b.WriteByte('}')
	}
	b.WriteString(" " + number(v) + "\n")
	return b.String()
}

func number(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }

// apart stands between the values of the labels in a key.
const apart = "\xff"

// counters are the series of one metric.
type counters struct {
	Metric
	mu sync.Mutex
	by map[string]float64
}

func newCounters(name string) *counters {
	return &counters{Metric: metric(name), by: map[string]float64{}}
}

func (c *counters) add(n float64, values ...string) {
	key := strings.Join(values, apart)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.by[key] += n
}

func (c *counters) write(w io.StringWriter) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, key := range slices.Sorted(maps.Keys(c.by)) {
		_, _ = w.WriteString(c.line("", c.by[key], strings.Split(key, apart)...)) // flushing tells
	}
}

// buckets are in seconds.
var buckets = [...]float64{.0001, .00025, .0005, .001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 10}

// histograms are the series of one metric that tells how long things took.
type histograms struct {
	Metric
	mu sync.Mutex
	by map[string]*histogram
}

type histogram struct {
	within [len(buckets) + 1]uint64 // the last is beyond all
	sum    float64
}

func newHistograms(name string) *histograms {
	h := &histograms{Metric: metric(name), by: map[string]*histogram{}}
	if len(h.labels()) == 0 {
		h.by[""] = &histogram{}
	}
	return h
}

func (h *histograms) observe(took time.Duration, values ...string) {
	key, seconds := strings.Join(values, apart), took.Seconds()
	at, _ := slices.BinarySearch(buckets[:], seconds)
	h.mu.Lock()
	defer h.mu.Unlock()
	one := h.by[key]
	if one == nil {
		one = &histogram{}
		h.by[key] = one
	}
	one.within[at]++
	one.sum += seconds
}

func (h *histograms) write(w io.StringWriter) {
	h.mu.Lock()
	defer h.mu.Unlock()
	tell := func(more string, v float64, values ...string) {
		_, _ = w.WriteString(h.line(more, v, values...)) // flushing tells
	}
	for _, key := range slices.Sorted(maps.Keys(h.by)) {
		var values []string
		if len(h.labels()) > 0 {
			values = strings.Split(key, apart)
		}
		all := uint64(0)
		for i, n := range h.by[key].within {
			all += n
			bound := "+Inf"
			if i < len(buckets) {
				bound = number(buckets[i])
			}
			tell("_bucket", float64(all), append(slices.Clone(values), bound)...)
		}
		tell("_sum", h.by[key].sum, values...)
		tell("_count", float64(all), values...)
	}
}
