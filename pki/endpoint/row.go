package endpoint

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/pki/finding"
	"ironseal/pki/lifecycle"
	"ironseal/pki/span"
)

// Row is what is kept of an endpoint: for a list, a page, or a comparison on another day.
type Row struct {
	Endpoint  string          `json:"endpoint" doc:"as a person writes it"`
	Name      string          `json:"name" doc:"the name that clients go by"`
	Address   string          `json:"address" doc:"host and port"`
	Trusted   bool            `json:"trusted" doc:"whether a client that holds the set gets in"`
	Anchor    string          `json:"anchor,omitempty" doc:"the root on which it hangs"`
	Subject   string          `json:"subject,omitempty" doc:"of the certificate that it serves"`
	Serial    string          `json:"serial,omitempty" doc:"of it"`
	SHA256    string          `json:"sha256,omitempty" doc:"of it"`
	Issuer    string          `json:"issuer,omitempty" doc:"of it"`
	Until     string          `json:"not_after,omitempty" doc:"the first end in the chain"`
	Life      int             `json:"days_of_life" doc:"whole days from its beginning until then"`
	Left      int             `json:"days_left" doc:"whole days until then; negative when it has passed"`
	Protocol  string          `json:"protocol,omitempty" doc:"such as TLS 1.3"`
	Presented []string        `json:"presented" doc:"titles of what it presents, in its order"`
	Asks      bool            `json:"asks_client" doc:"whether it asks for a client's certificate"`
	Accepts   []string        `json:"accepts" doc:"the authorities of which it takes one"`
	Record    string          `json:"on_record,omitempty" doc:"how the certificate is called there"`
	State     lifecycle.State `json:"state,omitempty" doc:"its state there"`
	Signer    string          `json:"signed_by,omitempty" doc:"the generation that signed it"`
	Template  string          `json:"template,omitempty" doc:"by what template"`
	Holders   []string        `json:"holders" doc:"who is known to hold it"`
	Findings  finding.List    `json:"findings" doc:"what is wrong, and what to do"`
	Took      int64           `json:"milliseconds" doc:"how long it took"`
}

// RowOf is what is kept of an endpoint that was judged.
func RowOf(s Seen, j Judgement, now time.Time) Row {
	r := Row{Name: s.Name, Trusted: j.Trusted, Protocol: s.Protocol, Asks: s.Asks,
		Accepts: append([]string{}, s.Accepts...), Presented: []string{}, Holders: []string{},
		Findings: append(finding.List{}, j.Findings...)}
	if j.Anchor != nil {
		r.Anchor = j.Anchor.Title()
	}
	for _, c := range s.Presented {
		r.Presented = append(r.Presented, c.Title())
	}
	if len(s.Presented) > 0 {
		leaf := s.Presented[0]
		r.Subject, r.Serial, r.Issuer = leaf.Subject.String(), leaf.SerialHex(), leaf.Issuer.String()
		r.SHA256 = fmt.Sprintf("%x", leaf.SHA256())
		r.Until, r.Left = j.Until.UTC().Format(time.RFC3339), daysBetween(now, j.Until)
		r.Life = daysBetween(leaf.NotBefore, j.Until)
	}
	return r
}

func daysBetween(now, end time.Time) int {
	d := end.Sub(now)
	if d < 0 {
		return int(d/(24*time.Hour)) - 1
	}
	return int(d / (24 * time.Hour))
}

// LeftWords is how long it is to the end, in whole days, or how long it ended ago.
func (r Row) LeftWords() string {
	switch {
	case r.Left == -1:
		return "ended less than a day ago"
	case r.Left < 0:
		return "ended " + span.Count(-r.Left-1, "day") + " ago"
	}
	return span.Count(r.Left, "day")
}

// Soon is how many days before its end an endpoint asks for attention.
const Soon = 30

// ToDo are the findings of which something comes: all but notes.
func (r Row) ToDo() (out finding.List) {
	for _, f := range r.Findings {
		if f.Severity > finding.Note {
			out = append(out, f)
		}
	}
	return out
}

// Pressing reports whether something is to be done about an endpoint, trusted or not.
func (r Row) Pressing() bool { return !r.Trusted || len(r.ToDo()) > 0 || r.Left < Soon }

// Why is the first thing that is wrong, in a line; "" where nothing is.
func (r Row) Why() string {
	if len(r.Findings) == 0 {
		return ""
	}
	return r.Findings[0].Message
}

// Terms are the words by which two rows are compared.
type Terms struct{ Other, Only, OnlyOther string }

// The terms for one endpoint on two days, and for two endpoints.
var (
	Days  = Terms{"before", "new", "gone"}
	Peers = Terms{"the other", "only here", "only there"}
)

// Differences says in words in what an endpoint differs from another, or from itself on
// another day.
func (t Terms) Differences(from, to Row) (out []string) {
	say := func(now, then string) { out = append(out, fmt.Sprintf("%s (%s: %s)", now, t.Other, then)) }
	if from.Trusted != to.Trusted {
		say(trusted(to), trusted(from))
	}
	switch {
	case from.SHA256 == to.SHA256 && !slices.Equal(from.Presented, to.Presented):
		say("it presents "+presented(to), presented(from))
	case from.SHA256 == to.SHA256:
	case from.Subject == to.Subject && from.Issuer == to.Issuer:
		say("another certificate, serial "+short(to)+", until "+date(to.Until), "serial "+short(from)+", until "+
			date(from.Until))
	default:
		say("another certificate: "+whose(to), whose(from))
	}
	if from.Protocol != to.Protocol && to.Protocol != "" && from.Protocol != "" {
		say("it speaks "+to.Protocol, from.Protocol)
	}
	if from.Anchor != to.Anchor && to.Anchor != "" && from.Anchor != "" {
		say("it depends on "+to.Anchor, from.Anchor)
	}
	if from.Asks != to.Asks {
		asks := map[bool]string{true: "it asks for a client's certificate",
			false: "it asks for no client's certificate"}
		out = append(out, asks[to.Asks])
	}
	for _, f := range to.Findings {
		if !from.Findings.Has(f.Code) {
			out = append(out, t.Only+": "+f.Message)
		}
	}
	for _, f := range from.Findings {
		if !to.Findings.Has(f.Code) {
			out = append(out, t.OnlyOther+": "+f.Message)
		}
	}
	return out
}

func short(r Row) string { return r.Serial[:min(len(r.Serial), 8)] }

func presented(r Row) string {
	return fmt.Sprintf("%s: %s", span.Count(len(r.Presented), "certificate"), strings.Join(r.Presented, ", "))
}

func whose(r Row) string {
	if r.SHA256 == "" {
		return "none"
	}
	return r.Subject + ", by " + r.Issuer
}

func trusted(r Row) string {
	if r.Trusted {
		return "trusted"
	}
	return "not trusted"
}

func date(stamp string) string { return stamp[:min(len(stamp), len("2006-01-02"))] }

// Change is the outcome of an endpoint from one day to another.
type Change struct {
	Endpoint string   `json:"endpoint" doc:"which"`
	What     string   `json:"what" doc:"better, worse, changed, new or gone"`
	Words    []string `json:"words" doc:"in what it differs"`
}

// Compare says the outcome of endpoints, the worse first; of those that are as they were,
// nothing.
func Compare(before, after []Row) (out []Change) {
	was := map[string]Row{}
	for _, r := range before {
		was[r.Endpoint] = r
	}
	for _, r := range after {
		old, there := was[r.Endpoint]
		delete(was, r.Endpoint)
		words := Days.Differences(old, r)
		switch {
		case !there:
			out = append(out, Change{r.Endpoint, "new", []string{trusted(r)}})
		case len(words) == 0:
		case old.Trusted && !r.Trusted, old.Trusted == r.Trusted && len(r.Findings) > len(old.Findings):
			out = append(out, Change{r.Endpoint, "worse", words})
		case !old.Trusted && r.Trusted, len(r.Findings) < len(old.Findings):
			out = append(out, Change{r.Endpoint, "better", words})
		default:
			out = append(out, Change{r.Endpoint, "changed", words})
		}
	}
	for _, r := range before {
		if _, left := was[r.Endpoint]; left {
			out = append(out, Change{r.Endpoint, "gone", []string{"it was not looked at"}})
			delete(was, r.Endpoint)
		}
	}
	order := []string{"worse", "gone", "changed", "new", "better"}
	slices.SortStableFunc(out, func(a, b Change) int {
		return slices.Index(order, a.What) - slices.Index(order,
			b.What)
	})
	return out
}

// kept is the form in which rows are kept in a file.
type kept struct {
	Form      int   `json:"form"`
	Endpoints []Row `json:"endpoints"`
}

const mostRows = 100_000

// Keep writes rows for another day.
func Keep(rows []Row) ([]byte, error) {
	data, err := json.MarshalIndent(kept{Form: 1, Endpoints: rows}, "", "  ")
	return append(data, '\n'), err
}

// ReadKept reads what Keep wrote.
func ReadKept(data []byte) ([]Row, error) {
	var k kept
	if err := json.Unmarshal(data, &k); err != nil {
		return nil, fmt.Errorf("it is no result that was kept: %w", err)
	}
	if k.Form != 1 || len(k.Endpoints) > mostRows {
		return nil, fmt.Errorf("it is a result of form %d with %d endpoints, and cannot be compared", k.Form,
			len(k.Endpoints))
	}
	return k.Endpoints, nil
}
