package httpd

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"ironseal/internal/app/ops/service"
	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/revoke/responding"
	"ironseal/pki/ocsp"
	"ironseal/pki/template"
)

// metrics are what the health address tells programs.
type metrics struct {
	s *service.Service

	requests, answers, enrolled *counters
	took, answered              *histograms
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

func newMetrics(s *service.Service) *metrics {
	m := &metrics{s: s, requests: newCounters("ironseal_requests_total"),
		answers: newCounters("ironseal_ocsp_answers_total"), enrolled: newCounters("ironseal_enrolments_total"),
		took: newHistograms("ironseal_request_seconds"), answered: newHistograms("ironseal_ocsp_seconds")}
	for _, by := range template.Protocols() {
		for _, outcome := range []string{"signed", "waits", "refused"} {
			m.enrolled.add(0, by, outcome) // a series that begins later has no rate before
		}
	}
	return m
}

func (m *metrics) request(on string, status int, took time.Duration) {
	m.requests.add(1, on, strconv.Itoa(status))
	m.took.observe(took, on)
}

func (m *metrics) answer(t responding.Told, took time.Duration) {
	says := ""
	if t.Status == ocsp.Successful {
		says = t.Of.String()
	}
	m.answers.add(1, t.Status.String(), says)
	m.answered.observe(took)
}

// enrol counts the outcome of a machine's request.
func (m *metrics) enrol(by string, out enrol.Outcome, err error) {
	outcome := "waits"
	switch {
	case err != nil:
		outcome = "refused"
	case out.Certificate != nil:
		outcome = "signed"
	}
	m.enrolled.add(1, by, outcome)
}

// write writes all of them in their order. Gauges are read now.
func (m *metrics) write(ctx context.Context, w io.Writer) error {
	gauges := m.gauges(ctx)
	out := bufio.NewWriter(w)
	for _, one := range Metrics {
		out.WriteString(one.head())
		switch one.Name {
		case m.requests.Name, m.answers.Name, m.enrolled.Name:
			map[string]*counters{m.requests.Name: m.requests, m.answers.Name: m.answers,
				m.enrolled.Name: m.enrolled}[one.Name].write(out)
		case m.took.Name:
			m.took.write(out)
		case m.answered.Name:
			m.answered.write(out)
		default:
			out.WriteString(gauges[one.Name])
		}
	}
	return out.Flush()
}

// gauges are those that are read when they are asked for, by name.
func (m *metrics) gauges(ctx context.Context) map[string]string {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	out := map[string]string{}
	tell := func(name string, v float64, labels ...string) {
		out[name] += metric(name).line("", v, labels...)
	}
	told := m.s.State(ctx)
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
	return out
}
