package renewal

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
	"ironseal/pki/template"
)

var now = specimen.Now

// line makes a hierarchy of one authority below the other, each with the given
// end; what they are signed with does not matter to a forecast.
func line(ends ...time.Time) hierarchy.Hierarchy {
	var out hierarchy.Hierarchy
	var parent *hierarchy.Authority
	for i, end := range ends {
		a := &hierarchy.Authority{Handle: fmt.Sprintf("level%d", i), Parent: parent}
		c := &cert.Certificate{NotBefore: now.AddDate(-10, 0, 0), NotAfter: end}
		c.Basic.PathLength = -1
		g := &hierarchy.Generation{Number: 1, Certificate: c, Authority: a}
		if parent != nil {
			g.Issuer = parent.Current()
		}
		a.Generations = []*hierarchy.Generation{g}
		out, parent = append(out, a), a
	}
	return out
}

func grants(name string, life span.Span, issuers ...string) template.Template {
	return template.Template{Name: name, Makes: template.EndEntity, Lifetime: life, Issuers: issuers}
}

// The last full day that is computed is the one that is found by trying every
// day, over random hierarchies, lives and leap days.
func TestLastFullDayAgainstEveryDay(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	for n := range 500 {
		var ends []time.Time
		for range 1 + r.IntN(3) {
			ends = append(ends, now.Add(time.Duration(r.Int64N(int64(12*365*24*time.Hour)))).Truncate(time.Second))
		}
		if n%7 == 0 { // ends of months, and leap days, at odd times
			ends[0] = time.Date(2028, 2, 29, r.IntN(24), r.IntN(60), r.IntN(60), 0, time.UTC)
		}
		life := []span.Span{{Years: r.IntN(4), Months: r.IntN(12)}, {Days: 1 + r.IntN(800)}, {Months: 1 + r.IntN(30)},
			{Years: 1, Days: r.IntN(40), Hours: r.IntN(30)}}[r.IntN(4)]
		if life.IsZero() {
			life = span.Days(90)
		}
		h := line(ends...)
		last := h[len(h)-1]
		report := Forecast(Question{Hierarchy: h, Templates: []template.Template{grants("web", life, last.Handle)},
			Now: now})
		if len(report.Rows) != 1 {
			t.Fatalf("%d rows", len(report.Rows))
		}
		want := everyDay(h, last, life, ends)
		if got := report.Rows[0].LastFull; !got.Equal(want) {
			t.Fatalf("lives of %s under ends %v: %s, and trying every day gives %s", life, ends, got, want)
		}
	}
}

// everyDay finds the last day at whose last moment a life is granted in full, by
// asking the hierarchy for each.
func everyDay(h hierarchy.Hierarchy, a *hierarchy.Authority, life span.Span, ends []time.Time) time.Time {
	first := ends[0]
	for _, e := range ends {
		if e.Before(first) {
			first = e
		}
	}
	for d := first.Truncate(24 * time.Hour); ; d = d.AddDate(0, 0, -1) {
		if g := hierarchy.Life(a.Current().Line(), d.Add(24*time.Hour-time.Second), 0, life); g.CutBy == nil {
			return d
		}
	}
}

func TestScheduleRunsFromTheRootDown(t *testing.T) {
	h := line(now.AddDate(1, 0, 0), now.AddDate(1, 0, 0))
	h[0].Current().Certificate.NotBefore = now.AddDate(-14, 0, 0)
	h[1].Current().Certificate.NotBefore = now.AddDate(-4, 0, 0)
	q := Question{Hierarchy: h, Templates: []template.Template{grants("web", span.Days(397), "level1")}, Now: now,
		Horizon: span.Years(15)}
	r := Forecast(q)
	if r.Rows[0].Short != "32 days" {
		t.Errorf("today it is short by %q", r.Rows[0].Short)
	}
	if len(r.Acts) < 3 || r.Acts[0].Handle != "level0" || r.Acts[1].Handle != "level1" || !r.Acts[0].Overdue {
		t.Fatalf("%+v", r.Acts)
	}
	for i, a := range r.Acts {
		if i > 0 && a.Day.Before(r.Acts[i-1].Day) {
			t.Errorf("act %d is before the one before it", i)
		}
		if full := span.Days(397).After(a.Day); a.Handle == "level1" && a.Until.Before(full) {
			t.Errorf("%s g%d ends on %s and cannot grant what it should", a.Handle, a.Number, a.Until)
		}
	}
	// A life that was never granted has no last day.
	q.Templates = []template.Template{grants("web", span.Years(9000), "level1")}
	if r := Forecast(q); !r.Rows[0].LastFull.IsZero() {
		t.Errorf("%+v", r.Rows[0])
	} else if _, err := json.Marshal(r); err != nil {
		t.Error(err)
	}
	q.Templates = []template.Template{grants("web", span.Days(397), "level1")}
	// An authority that lives less than what it grants ends the play, and is named.
	h = line(now.AddDate(20, 0, 0), now.AddDate(0, 6, 0))
	h[1].Current().Certificate.NotBefore = now.AddDate(0, -1, 0)
	q.Hierarchy, q.Horizon = h, span.Years(50)
	if r := Forecast(q); fmt.Sprint(r.Hollow) != "[level1]" {
		t.Errorf("%v", r.Hollow)
	}
}

// generation makes an authority with real certificates.
func generation(t *testing.T, e *specimen.Entity, number int, a *hierarchy.Authority) *hierarchy.Generation {
	t.Helper()
	g := &hierarchy.Generation{Number: number, Certificate: e.Cert, Authority: a}
	a.Generations = append(a.Generations, g)
	return g
}

// With the links, a client that holds either root accepts what stands under the
// other: by our judgement and by the standard library's.
func TestLinksCarryBothWays(t *testing.T) {
	for _, kinds := range [][2]key.Kind{{key.P256, key.P384}, {key.RSA2048, key.P256}} {
		old := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true, Key: kinds[0]})
		renewed := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true, Key: kinds[1],
			Until: now.AddDate(9, 0, 0)})
		first, second, err := Links(old.Cert, renewed.Cert, now, time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		sign := func(d cert.Draft, by *specimen.Entity) *cert.Certificate {
			d.Serial = big.NewInt(77)
			der, err := d.Sign(by.Signer, nil)
			if err != nil {
				t.Fatal(err)
			}
			c, err := cert.Read(der)
			if err != nil || len(c.Faults) > 0 {
				t.Fatal(err, c.Faults)
			}
			if !bytes.Equal(c.AuthorityKey, by.Cert.SubjectKey) || c.NotAfter.After(old.Cert.NotAfter) ||
				c.NotAfter.After(renewed.Cert.NotAfter) {
				t.Errorf("the link signed by %x names the key %x and ends on %s", by.Cert.SubjectKey, c.AuthorityKey,
					c.NotAfter)
			}
			return c
		}
		newByOld, oldByNew := sign(first, old), sign(second, renewed)
		for _, c := range []struct {
			under  *specimen.Entity
			anchor *cert.Certificate
			link   *cert.Certificate
		}{{renewed, old.Cert, newByOld}, {old, renewed.Cert, oldByNew}} {
			leaf := specimen.Make(t, c.under, specimen.Plan{Subject: "CN=a.ternbay.example",
				Names: []string{"a.ternbay.example"}})
			if v := path.Verify(leaf.Cert, []*cert.Certificate{c.link},
				path.Question{Anchors: []*cert.Certificate{c.anchor}, Now: now}); !v.Valid {
				t.Errorf("%v: %v", kinds, v.Reasons())
			}
			if v := path.Verify(leaf.Cert, nil,
				path.Question{Anchors: []*cert.Certificate{c.anchor}, Now: now}); v.Valid {
				t.Error("it holds without the link")
			}
			o := x509.VerifyOptions{Roots: x509.NewCertPool(), Intermediates: x509.NewCertPool(), CurrentTime: now}
			for _, p := range []struct {
				pool *x509.CertPool
				c    *cert.Certificate
			}{{o.Roots, c.anchor}, {o.Intermediates, c.link}} {
				x, err := x509.ParseCertificate(p.c.Raw)
				if err != nil {
					t.Fatal(err)
				}
				p.pool.AddCert(x)
			}
			x, err := x509.ParseCertificate(leaf.Cert.Raw)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := x.Verify(o); err != nil {
				t.Errorf("the standard library: %v", err)
			}
		}
		if _, _, err := Links(old.Cert, old.Cert, now, 0); err == nil {
			t.Error("a root is not linked with itself")
		}
	}
}

func TestLinksThatWouldBeCounted(t *testing.T) {
	root := &hierarchy.Authority{Handle: "root"}
	g := generation(t, specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true, PathLength: 1}),
		1, root)
	h := hierarchy.Hierarchy{root, {Handle: "services", Parent: root}}
	if l := LinkFindings(h, g); !l.Has(finding.LinkCounted) {
		t.Error("one level below a path length of 1 leaves no room for clients that count the link")
	}
	if l := LinkFindings(h[:1], g); len(l) > 0 {
		t.Error(l)
	}
}

func TestEvidenceIsWeighed(t *testing.T) {
	a := &hierarchy.Authority{Handle: "root"}
	g := generation(t, specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true,
		From: now.AddDate(-11, 0, 0)}), 1, a)
	reasons := fmt.Sprint(Weigh(Evidence{Generation: g, Now: now, Suspicion: "a lost laptop", Revoked: 5000,
		Template: template.Template{Name: "t", Keys: []string{"rsa-4096"}}}))
	if a := Advise(Weigh(Evidence{Generation: g, Now: now.AddDate(-10, 0, 0),
		Template: template.Template{Keys: []string{"ecdsa-p256"}}})); !strings.HasPrefix(a, "either") {
		t.Errorf("a key of one year: %s", a)
	}
	for _, want := range []string{"a lost laptop", "11 years old", "5000 entries",
		"no longer takes a key of kind ecdsa-p256"} {
		if !strings.Contains(reasons, want) {
			t.Errorf("%q is not said: %s", want, reasons)
		}
	}
	if strings.Contains(reasons, "{false") {
		t.Errorf("something speaks for a key that is suspected: %s", reasons)
	}
	if r := Weigh(Evidence{Generation: g, Now: now.AddDate(-10, 0, 0), Compromise: "an incident is open",
		Template: template.Template{Keys: []string{"ecdsa-p256"}}}); len(r) != 1 || Advise(r) != "take a new key" {
		t.Errorf("in an incident: %v", r)
	}
}

// A renewal with the same key serves the chains below at once; one with a new
// key leaves them as they are.
func TestLevelsBeforeAndAfter(t *testing.T) {
	h := line(now.AddDate(0, 6, 0), now.AddDate(0, 6, 0))
	ts := []template.Template{grants("web", span.Years(1), "level1")}
	until := now.AddDate(10, 0, 0)
	if l := Levels(h, ts, h[0].Current(), until, now, false); len(l) != 1 || !l[0].After.Equal(l[0].Before) ||
		!strings.Contains(l[0].Short, "until it is renewed itself") {
		t.Errorf("%+v", l)
	}
	h[1].Current().Certificate.NotAfter = now.AddDate(5, 0, 0)
	if l := Levels(h, ts, h[0].Current(), until, now, true); l[0].Short != "" {
		t.Errorf("with the same key: %+v", l)
	}
}

func TestCalendarFollowsTheStandard(t *testing.T) {
	text := string(Calendar([]Event{{now, "Ågot's bøker; a, b\\c \u202e" + strings.Repeat("ø", 60), "line\nline\x07",
		"k"}}, now))
	for _, l := range strings.SplitAfter(text, "\n") {
		if l != "" && (!strings.HasSuffix(l, "\r\n") || len(l) > 77) {
			t.Errorf("%d bytes: %q", len(l), l)
		}
	}
	for _, want := range []string{"BEGIN:VCALENDAR\r\n", "DTSTART;VALUE=DATE:20261123\r\n",
		"DTEND;VALUE=DATE:20261124\r\n", `SUMMARY:Ågot's bøker\; a\, b\\c`, `DESCRIPTION:line\nline ` + "\r\n",
		"TRIGGER:-P7D\r\n"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing in\n%s", want, text)
		}
	}
	if again := string(Calendar([]Event{{now, "x", "", "k"}}, now)); !strings.Contains(again,
		text[strings.Index(text, "UID:"):strings.Index(text, "\r\nDTSTAMP")]) {
		t.Error("the same thing must have the same identifier, or it is imported twice")
	}
}

// BenchmarkForecast plays 50 years of 50 authorities and 20 templates; the budget
// is a second.
func BenchmarkForecast(b *testing.B) {
	root := line(now.AddDate(15, 0, 0))
	h := root
	for i := range 49 {
		a := &hierarchy.Authority{Handle: fmt.Sprintf("sub%d", i), Parent: root[0]}
		c := &cert.Certificate{NotBefore: now, NotAfter: now.AddDate(5, i%12, i)}
		c.Basic.PathLength = -1
		a.Generations = []*hierarchy.Generation{{Number: 1, Certificate: c, Issuer: root[0].Current(), Authority: a}}
		h = append(h, a)
	}
	var ts []template.Template
	for i := range 20 {
		ts = append(ts, grants(fmt.Sprintf("t%d", i), span.Days(90+40*i), template.AnyIntermediate))
	}
	for b.Loop() {
		r := Forecast(Question{Hierarchy: h, Templates: ts, Now: now, Horizon: span.Years(50)})
		b.ReportMetric(float64(len(r.Acts)), "acts")
	}
}
