package httpd

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"ironseal/internal/app/ops/service"
	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/revoke/responding"
	"ironseal/pki/ocsp"
	"ironseal/pki/template"
)

// metrics are what the health address tells programs.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.CounterVec
	took     *prometheus.HistogramVec
	answers  *prometheus.CounterVec
	enrolled *prometheus.CounterVec
	answered prometheus.Histogram
}

// Metric is one metric, for the page that lists them.
type Metric struct{ Name, Kind, Labels, Help string }

// Metrics are all of them, in the order of the page.
var Metrics = []Metric{
	{"ironseal_requests_total", "counter", "on, status", "HTTP requests, by address and status."},
	{"ironseal_request_seconds", "histogram", "on", "How long HTTP requests took."},
	{"ironseal_ocsp_answers_total", "counter", "status, certificate", "OCSP answers, by status and by what they " +
		"say of the certificate."},
	{"ironseal_ocsp_seconds", "histogram", "", "How long OCSP answers took."},
	{"ironseal_authority_days", "gauge", "generation", "Days until a generation of an authority ends."},
	{"ironseal_list_days", "gauge", "list", "Days until the next update of a revocation list; below 0 it is stale."},
	{"ironseal_responder_days", "gauge", "generation", "Days until the certificate of an OCSP responder ends."},
	{"ironseal_desk_certificate_days", "gauge", "temporary", "Days until the desk's certificate ends."},
	{"ironseal_requests_waiting", "gauge", "", "Signing requests that wait."},
	{"ironseal_oldest_waiting_seconds", "gauge", "", "Age of the oldest signing request that waits."},
	{"ironseal_enrolments_total", "counter", "by, outcome", "Requests of machines, by protocol and by outcome: " +
		"signed, waits, refused."},
	{"ironseal_machines_late", "gauge", "", "Certificates that machines should have renewed and did not."},
	{"ironseal_failing", "gauge", "what", "1 for each duty that fails and is tried again."},
	{"ironseal_records_readable", "gauge", "", "1 if the records could be read for this answer, else 0."},
}

func metric(name string) Metric {
	for _, m := range Metrics {
		if m.Name == name {
			return m
		}
	}
	panic("no such metric: " + name) // a fault in the program that its first test finds
}

func (m Metric) labels() []string {
	if m.Labels == "" {
		return nil
	}
	return strings.Split(m.Labels, ", ")
}

func (m Metric) desc() *prometheus.Desc { return prometheus.NewDesc(m.Name, m.Help, m.labels(), nil) }

// buckets are in seconds.
var buckets = []float64{.0001, .00025, .0005, .001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 10}

func newMetrics(s *service.Service) *metrics {
	counter := func(name string) *prometheus.CounterVec {
		d := metric(name)
		return prometheus.NewCounterVec(prometheus.CounterOpts{Name: d.Name, Help: d.Help}, d.labels())
	}
	histogram := func(name string) prometheus.HistogramOpts {
		d := metric(name)
		return prometheus.HistogramOpts{Name: d.Name, Help: d.Help, Buckets: buckets}
	}
	m := &metrics{registry: prometheus.NewRegistry(), requests: counter("ironseal_requests_total"),
		answers: counter("ironseal_ocsp_answers_total"), enrolled: counter("ironseal_enrolments_total"),
		took: prometheus.NewHistogramVec(histogram("ironseal_request_seconds"),
			metric("ironseal_request_seconds").labels()),
		answered: prometheus.NewHistogram(histogram("ironseal_ocsp_seconds"))}
	m.registry.MustRegister(m.requests, m.took, m.answers, m.enrolled, m.answered, gauges{s})
	for _, by := range template.Protocols() {
		for _, outcome := range []string{"signed", "waits", "refused"} {
			m.enrolled.WithLabelValues(by, outcome).Add(0) // a series that begins later has no rate before
		}
	}
	return m
}

func (m *metrics) request(on string, status int, took time.Duration) {
	m.requests.WithLabelValues(on, strconv.Itoa(status)).Inc()
	m.took.WithLabelValues(on).Observe(took.Seconds())
}

func (m *metrics) answer(t responding.Told, took time.Duration) {
	says := ""
	if t.Status == ocsp.Successful {
		says = t.Of.String()
	}
	m.answers.WithLabelValues(t.Status.String(), says).Inc()
	m.answered.Observe(took.Seconds())
}

// enrol counts what became of a machine's request.
func (m *metrics) enrol(by string, out enrol.Outcome, err error) {
	outcome := "waits"
	switch {
	case err != nil:
		outcome = "refused"
	case out.Certificate != nil:
		outcome = "signed"
	}
	m.enrolled.WithLabelValues(by, outcome).Inc()
}

// gauges are read when they are asked for.
type gauges struct{ s *service.Service }

// Describe implements prometheus.Collector.
func (g gauges) Describe(to chan<- *prometheus.Desc) {
	for _, m := range Metrics {
		if m.Kind == "gauge" {
			to <- m.desc()
		}
	}
}

// Collect implements prometheus.Collector.
func (g gauges) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	tell := func(name string, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(metric(name).desc(), prometheus.GaugeValue, v, labels...)
	}
	told := g.s.State(ctx)
	days := func(until time.Time) float64 { return until.Sub(told.Now).Hours() / 24 }
	for _, a := range told.Generations {
		tell("ironseal_authority_days", days(a.Until), a.Name)
	}
	for _, l := range told.Lists {
		tell("ironseal_list_days", days(l.Until), l.Name)
	}
	for _, r := range told.Responders {
		tell("ironseal_responder_days", days(r.Until), r.Name)
	}
	if i := told.Desk; i != nil {
		tell("ironseal_desk_certificate_days", days(i.Until), fmt.Sprint(i.Temporary))
	}
	for _, t := range told.Troubles {
		tell("ironseal_failing", 1, t.What)
	}
	readable := 0.0
	if told.Readable {
		readable = 1
		tell("ironseal_requests_waiting", float64(told.Waiting))
		tell("ironseal_oldest_waiting_seconds", told.Oldest.Seconds())
		tell("ironseal_machines_late", float64(told.Late))
	}
	tell("ironseal_records_readable", readable)
}
