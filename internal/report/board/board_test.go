package board

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/html"

	"ironseal/pki/endpoint"
	"ironseal/pki/finding"
)

var now = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func rows(n int) (out []endpoint.Row) {
	for i := range n {
		until := now.AddDate(0, 0, i%500-20)
		r := endpoint.Row{Endpoint: fmt.Sprintf("host-%d.ternbay.example:8443", i), Trusted: i%10 != 3,
			Until: until.Format(time.RFC3339), Left: i%500 - 20, Protocol: "TLS 1.3", Record: "R7, serial 0e173dcb",
			Anchor: "Tern Bay Ferries Root"}
		if !r.Trusted {
			r.Findings = finding.List{finding.New(finding.MissingIssuer, "It does not send Tern Bay Ferries Services, "+
				"which is between its certificate and the root.").WithRemedy("add it to its chain file")}
		}
		out = append(out, r)
	}
	return out
}

// text is what a reader of HTML shows, and how often each element stands in it.
func text(t *testing.T, data []byte) (shown string, elements map[string]int) {
	t.Helper()
	root, err := html.Parse(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	elements = map[string]int{}
	var b strings.Builder
	for n := range root.Descendants() {
		switch n.Type {
		case html.ElementNode:
			elements[n.Data]++
			for _, a := range n.Attr {
				if strings.HasPrefix(a.Key, "on") || a.Key == "src" || a.Key == "href" {
					t.Errorf("<%s %s=%q>", n.Data, a.Key, a.Val)
				}
			}
		case html.TextNode:
			if n.Parent.Data != "script" && n.Parent.Data != "style" {
				b.WriteString(n.Data + "\n")
			}
		}
	}
	return b.String(), elements
}

// What peers say is text on the page and in the figures, whatever it is.
func TestHostileTextStaysText(t *testing.T) {
	bad := `"><script>alert(1)</script>` + "\u202e\x1b[2J\n" + `\" {}`
	r := endpoint.Row{Endpoint: bad, Until: "2027-01-01T00:00:00Z", Left: 3, Protocol: bad, Record: bad, Anchor: bad,
		Findings: finding.List{{Code: finding.Expired, Severity: finding.Refused, Message: bad, Remedy: bad}}}
	b := Board{Title: bad, Set: bad, Rows: []endpoint.Row{r}, Now: now}
	data, err := b.Page()
	if err != nil {
		t.Fatal(err)
	}
	shown, elements := text(t, data)
	if elements["script"] != 1 || !strings.Contains(shown, "<script>alert(1)</script>") {
		t.Errorf("%v\n%s", elements, shown)
	}
	if bytes.ContainsAny(data, "\x1b\u202e") {
		t.Error("something raw stands on the page")
	}
	for _, line := range strings.Split(strings.TrimSpace(string(b.Metrics())), "\n") {
		if !strings.HasPrefix(line, "# ") && !strings.HasPrefix(line, "ironseal_endpoint_") ||
			strings.Count(strings.ReplaceAll(strings.ReplaceAll(line, `\\`, ""), `\"`, ""), `"`)%2 != 0 {
			t.Errorf("%q", line)
		}
	}
}

// A page of 5,000 endpoints is small, says what is wrong first, and counts rightly.
func TestALargePage(t *testing.T) {
	b := Board{Title: "Tern Bay Ferries", Set: "own", Rows: rows(5000), Now: now}
	data, err := b.Page()
	if err != nil {
		t.Fatal(err)
	}
	if len(data) > 3<<20 {
		t.Errorf("%d bytes", len(data))
	}
	shown, elements := text(t, data)
	if elements["tr"] != 5001 || elements["p"] != 2*500 {
		t.Errorf("%v", elements)
	}
	summary := shown[:strings.Index(shown, "Expiry by month")]
	for _, want := range []string{"5000\nendpoints", "500\nnot trusted", "your own roots"} {
		if !strings.Contains(summary, want) {
			t.Errorf("%q is missing:\n%s", want, summary)
		}
	}
	if first := strings.Index(shown, "✓ trusted"); first < strings.LastIndex(shown, "✗ not trusted") {
		t.Error("what is trusted stands before what is not")
	}
	var ends int
	for _, m := range b.calendar() {
		ends += m.Count
	}
	if ends != 5000 || b.calendar()[0].Count != 200 {
		t.Errorf("%+v", b.calendar())
	}
}

func TestMetrics(t *testing.T) {
	got := string(Board{Rows: rows(4)[3:], Now: now}.Metrics())
	for _, want := range []string{`ironseal_endpoint_trusted{endpoint="host-3.ternbay.example:8443"} 0`,
		"# UNIT ironseal_endpoint_not_after_seconds seconds",
		fmt.Sprintf(`ironseal_endpoint_not_after_seconds{endpoint="host-3.ternbay.example:8443"} %d`,
			now.AddDate(0, 0, -17).Unix()), `ironseal_endpoint_findings{endpoint="host-3.ternbay.example:8443"} 1`} {
		if !strings.Contains(got, want+"\n") {
			t.Errorf("%q is missing:\n%s", want, got)
		}
	}
	if !strings.HasSuffix(got, "\n# EOF\n") {
		t.Error("it has no end")
	}
}
