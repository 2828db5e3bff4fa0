package path

import (
	"crypto/x509"
	"encoding/asn1"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/specimen"
)

var server = func() asn1.ObjectIdentifier {
	id, err := ext.ParseExtendedUsage("serverAuth")
	if err != nil {
		panic(err)
	}
	return id
}()

type plan = specimen.Plan

// Every way a chain commonly fails, each with the code and a word that the
// person must be reported.
func TestEveryFailureIsNamed(t *testing.T) {
	now := specimen.Now
	root := specimen.Make(t, nil, plan{Subject: "CN=Root,O=Tern Bay", Authority: true})
	mid := specimen.Make(t, root, plan{Subject: "CN=Services,O=Tern Bay", Authority: true})
	leaf := plan{Subject: "CN=booking.ternbay.example",
		Names: []string{"booking.ternbay.example", "*.quay.ternbay.example"}, Extended: []string{"serverAuth"}}
	good := specimen.Make(t, mid, leaf)
	with := func(change func(p *plan)) *specimen.Entity {
		p := leaf
		change(&p)
		return specimen.Make(t, mid, p)
	}
	under := func(p plan, l plan) []*cert.Certificate {
		m := specimen.Make(t, root, p)
		return []*cert.Certificate{specimen.Make(t, m, l).Cert, m.Cert}
	}
	ca := plan{Subject: "CN=Other,O=Tern Bay", Authority: true}
	stranger := specimen.Make(t, nil, plan{Subject: "CN=Stranger", Authority: true})
	impostor := specimen.Make(t, nil, plan{Subject: "CN=Services,O=Tern Bay", Authority: true})
	twin := specimen.Make(t, nil, plan{Subject: "CN=Root,O=Tern Bay", Authority: true})
	pair := []*cert.Certificate{good.Cert, mid.Cert}
	for _, c := range []struct {
		what  string
		chain []*cert.Certificate
		name  string
		code  finding.Code
		word  string
	}{
		{"good", pair, "booking.ternbay.example", "", ""},
		{"wildcard", pair, "a.quay.ternbay.example", "", ""},
		{"wrong name", pair, "tickets.ternbay.example", finding.WrongName, "dns:booking.ternbay.example"},
		{"short name", pair, "booking", finding.WrongName, "short form"},
		{"wildcard depth", pair, "a.b.quay.ternbay.example", finding.WrongName, "exactly one level"},
		{"wildcard itself", pair, "quay.ternbay.example", finding.WrongName, "does not cover"},
		{"address", pair, "192.0.2.1", finding.WrongName, "no names of the address kind"},
		{"common name only", []*cert.Certificate{with(func(p *plan) { p.Names = nil }).Cert, mid.Cert},
			"booking.ternbay.example", finding.OnlyCommonName, "common name"},
		{"missing intermediate", []*cert.Certificate{good.Cert}, "", finding.MissingIssuer, "CN=Services,O=Tern Bay"},
		{"expired leaf", []*cert.Certificate{with(func(p *plan) { p.Until = now.AddDate(0, 0, -3) }).Cert, mid.Cert},
			"", finding.Expired, "3 days ago"},
		{"not yet valid", []*cert.Certificate{with(func(p *plan) { p.From = now.Add(2 * time.Hour) }).Cert, mid.Cert},
			"", finding.NotYetValid, "in 2 hours"},
		{"expired intermediate", under(plan{Subject: "CN=Other,O=Tern Bay", Authority: true,
			Until: now.Add(-time.Hour)}, leaf), "", finding.Expired, "Other"},
		{"not an authority", under(plan{Subject: "CN=Other,O=Tern Bay", Usage: ext.KeyCertSign}, leaf), "",
			finding.NotAuthority, "not marked"},
		{"no basic constraints", under(plan{Subject: "CN=Other,O=Tern Bay", NoBasic: true, Usage: ext.KeyCertSign},
			leaf), "", finding.NotAuthority, ""},
		{"may not sign", under(plan{Subject: "CN=Other,O=Tern Bay", Authority: true, Usage: ext.CRLSign}, leaf), "",
			finding.CannotSign, "cRLSign"},
		{"unknown anchor", []*cert.Certificate{specimen.Make(t, stranger, leaf).Cert, stranger.Cert}, "",
			finding.UnknownAnchor, "Stranger"},
		{"anchor of the same name", []*cert.Certificate{specimen.Make(t, twin, leaf).Cert, twin.Cert}, "",
			finding.UnknownAnchor, "same name and another key"},
		{"impostor issuer", []*cert.Certificate{good.Cert, impostor.Cert}, "", finding.BadSignature,
			"not made by that key"},
		{"permitted broken", under(plan{Subject: "CN=Other,O=Tern Bay", Authority: true,
			Permit: []string{"ships.ternbay.example"}}, leaf), "", finding.ConstraintBroken, "ships.ternbay.example"},
		{"excluded broken", under(plan{Subject: "CN=Other,O=Tern Bay", Authority: true,
			Exclude: []string{"booking.ternbay.example"}}, leaf), "", finding.ConstraintBroken, "excluded"},
		{"excluded under a wildcard", under(plan{Subject: "CN=Other,O=Tern Bay", Authority: true,
			Exclude: []string{"a.quay.ternbay.example"}}, leaf), "", finding.ConstraintBroken, "*.quay"},
		{"usage missing", []*cert.Certificate{with(func(p *plan) { p.Extended = []string{"clientAuth"} }).Cert,
			mid.Cert}, "booking.ternbay.example", finding.UsageMissing, "serverAuth"},
		{"usage missing above", under(plan{Subject: "CN=Other,O=Tern Bay", Authority: true,
			Extended: []string{"clientAuth"}}, leaf), "booking.ternbay.example", finding.UsageMissing,
			"Everything below"},
		{"unknown critical", []*cert.Certificate{with(func(p *plan) {
			p.Extra = ext.Set{{ID: asn1.ObjectIdentifier{1, 2, 3, 4}, Critical: true, Value: []byte{5, 0}}}
		}).Cert, mid.Cert}, "", finding.UnknownCritical, "1.2.3.4"},
		{"path length", func() []*cert.Certificate {
			m := specimen.Make(t, root, plan{Subject: ca.Subject, Authority: true, Zero: true})
			n := specimen.Make(t, m, plan{Subject: "CN=Deep", Authority: true})
			return []*cert.Certificate{specimen.Make(t, n, leaf).Cert, n.Cert, m.Cert}
		}(), "", finding.PathLength, "0 levels"},
	} {
		t.Run(c.name, func(t *testing.T) {
			q := Question{Anchors: []*cert.Certificate{root.Cert}, Now: now, Name: c.name, Usage: nil}
			if c.name != "" {
				q.Usage = server
			}
			v := Verify(c.chain[0], c.chain, q)
			if c.code == "" {
				if !v.Valid {
					t.Errorf("%s: %v", c.what, v.Reasons())
				}
				return
			}
			reasons := v.Reasons()
			if v.Valid || !reasons.Has(c.code) {
				t.Errorf("%s: valid %v, reasons %v, want %s", c.what, v.Valid, reasons, c.code)
				return
			}
			for _, f := range reasons {
				if f.Code == c.code && !strings.Contains(f.Message, c.word) {
					t.Errorf("%s: the message %q does not say %q", c.what, f.Message, c.word)
				}
			}
		})
	}
}

func TestAnySignatureBitMatters(t *testing.T) {
	root := specimen.Make(t, nil, plan{Subject: "CN=Root", Authority: true})
	leaf := specimen.Make(t, root, plan{Subject: "CN=a.example", Names: []string{"a.example"}})
	for i := 0; i < len(leaf.Cert.Raw); i += 7 {
		raw := append([]byte(nil), leaf.Cert.Raw...)
		raw[i] ^= 0x10
		c, err := cert.Read(raw)
		if err != nil {
			continue
		}
		if v := Verify(c, nil, Question{Anchors: []*cert.Certificate{root.Cert}, Now: specimen.Now}); v.Valid {
			t.Fatalf("a bit changed at byte %d of %d and it is still valid", i, len(raw))
		}
	}
}

func TestOrderIsJudged(t *testing.T) {
	root := specimen.Make(t, nil, plan{Subject: "CN=Root", Authority: true})
	mid := specimen.Make(t, root, plan{Subject: "CN=Mid", Authority: true})
	leaf := specimen.Make(t, mid, plan{Subject: "CN=a.example", Names: []string{"a.example"}})
	other := specimen.Make(t, nil, plan{Subject: "CN=Else", Authority: true})
	for _, c := range []struct {
		list []*cert.Certificate
		want []finding.Code
	}{
		{[]*cert.Certificate{leaf.Cert, mid.Cert, root.Cert}, nil},
		{[]*cert.Certificate{mid.Cert, leaf.Cert}, []finding.Code{finding.OutOfOrder}},
		{[]*cert.Certificate{leaf.Cert, root.Cert, mid.Cert}, []finding.Code{finding.OutOfOrder}},
		{[]*cert.Certificate{leaf.Cert, mid.Cert, other.Cert}, []finding.Code{finding.Stray}},
	} {
		t.Run(fmt.Sprint(c.list), func(t *testing.T) {
			got := OrderFindings(c.list).Codes()
			if fmt.Sprint(got) != fmt.Sprint(c.want) {
				t.Errorf("%v: %v, want %v", c.list, got, c.want)
			}
			o := Ordered(c.list)
			if o[0] != leaf.Cert || o[1] != mid.Cert {
				t.Errorf("put in order it begins with %s, %s", o[0].Title(), o[1].Title())
			}
		})
	}
}

// A heap of authorities that could all be each other's issuers must not keep
// the search busy.
func TestHostileHeapIsBounded(t *testing.T) {
	var signers []*specimen.Entity
	for range 20 {
		signers = append(signers, specimen.Make(t, nil, plan{Subject: "CN=Loop", Authority: true}))
	}
	var heap []*cert.Certificate
	for _, from := range signers {
		for _, to := range signers {
			heap = append(heap, specimen.Make(t, from,
				plan{Subject: "CN=Loop", Authority: true, Signer: to.Signer}).Cert)
		}
	}
	root := specimen.Make(t, nil, plan{Subject: "CN=Root", Authority: true})
	v := Verify(heap[0], heap, Question{Anchors: []*cert.Certificate{root.Cert}, Now: specimen.Now})
	if v.Valid || v.Checks > MostChecks {
		t.Errorf("valid %v after %d checks", v.Valid, v.Checks)
	}
	if !v.Reasons().Has(finding.SearchCut) {
		t.Errorf("it must say that the search was cut short: %v", v.Reasons())
	}
}

// A chain through the wrong one of two issuers with one name must not hide the
// right one.
func TestAnotherWayIsFound(t *testing.T) {
	root := specimen.Make(t, nil, plan{Subject: "CN=Root", Authority: true})
	signer := specimen.Key(t, key.P256)
	old := specimen.Make(t, root, plan{Subject: "CN=Mid", Authority: true, Signer: signer,
		Until: specimen.Now.Add(-time.Hour)})
	renewed := specimen.Make(t, root, plan{Subject: "CN=Mid", Authority: true, Signer: signer})
	leaf := specimen.Make(t, old, plan{Subject: "CN=a.example", Names: []string{"a.example"}})
	for _, order := range [][]*cert.Certificate{{old.Cert, renewed.Cert}, {renewed.Cert, old.Cert}} {
		if v := Verify(leaf.Cert, order, Question{Anchors: []*cert.Certificate{root.Cert},
			Now: specimen.Now}); !v.Valid {
			t.Errorf("%v", v.Reasons())
		}
	}
}

// TestVerdictAgreesWithTheStandardLibrary compares verdicts over generated
// hierarchies. Where the library is known to differ, the difference is listed.
func TestVerdictAgreesWithTheStandardLibrary(t *testing.T) {
	count := 3000
	if testing.Short() {
		count = 200
	}
	r := rand.New(rand.NewPCG(7, 11))
	agreed := map[bool]int{}
	for range count {
		g := generate(t, r)
		ours := Verify(g.chain[0], g.chain, Question{Anchors: []*cert.Certificate{g.anchor}, Now: specimen.Now,
			Name: g.name, Usage: server, Policies: g.policies})
		theirs := libraryVerdict(t, g)
		if ours.Valid == (theirs == nil) {
			agreed[ours.Valid]++
			continue
		}
		if known := knownDifference(g, ours); known == "" {
			t.Fatalf("%s\nours: %v %v\nlibrary: %v", g.what, ours.Valid, ours.Reasons(), theirs)
		}
	}
	if agreed[true] < count/10 || agreed[false] < count/10 {
		t.Errorf("too few of one kind to mean anything: %v", agreed)
	}
}

type generated struct {
	chain  []*cert.Certificate // leaf first, without the anchor
	anchor *cert.Certificate
	name   string
	what   string

	policies []asn1.ObjectIdentifier // acceptable to the client
}

// generate makes a random chain; about half of them have one or two faults.
func generate(t *testing.T, r *rand.Rand) generated {
	var what []string
	chance := func(n int, s string) bool {
		if r.IntN(n) == 0 {
			what = append(what, s)
			return true
		}
		return false
	}
	depth := r.IntN(4)
	politic := chance(2, "with policies")
	parent := specimen.Make(t, nil, authorityPlan(r, "CN=Anchor", chance))
	g := generated{anchor: parent.Cert}
	for i := range depth {
		p := authorityPlan(r, fmt.Sprintf("CN=Level %d", i+1), chance)
		if politic {
			p.Extra = randomPolicies(r, true)
		}
		parent = specimen.Make(t, parent, p)
		g.chain = append([]*cert.Certificate{parent.Cert}, g.chain...)
	}
	p := plan{Subject: "CN=a.ternbay.example", Names: []string{"a.ternbay.example", "192.0.2.7"},
		Extended: []string{"serverAuth"}}
	if chance(12, "leaf ended") {
		p.Until = specimen.Now.Add(-time.Minute)
	}
	if chance(15, "leaf for clients") {
		p.Extended = []string{"clientAuth"}
	}
	if chance(6, "no usage") {
		p.Extended = nil
	}
	if chance(8, "wildcard") {
		p.Names = []string{"*.ternbay.example"}
	}
	if politic {
		p.Extra = randomPolicies(r, false)
		if r.IntN(2) == 0 {
			g.policies = policyNumbers[:1+r.IntN(2)]
		}
	}
	leaf := specimen.Make(t, parent, p)
	g.chain = append([]*cert.Certificate{leaf.Cert}, g.chain...)
	if len(g.chain) > 2 && chance(15, "one missing") {
		g.chain = append(g.chain[:1:1], g.chain[2:]...)
	}
	g.name = []string{"a.ternbay.example", "a.ternbay.example", "192.0.2.7", "b.ternbay.example"}[r.IntN(4)]
	g.what = fmt.Sprintf("depth %d, name %s: %s", depth, g.name, strings.Join(what, ", "))
	return g
}

var policyNumbers = []asn1.ObjectIdentifier{{1, 3, 6, 1, 4, 1, 32473, 1}, {1, 3, 6, 1, 4, 1, 32473, 2},
	{1, 3, 6, 1, 4, 1, 32473, 3}}

// randomPolicies makes policy extensions; those of authorities map and limit too.
func randomPolicies(r *rand.Rand, authority bool) (out ext.Set) {
	var list []string
	for _, id := range policyNumbers {
		if r.IntN(2) == 0 {
			list = append(list, id.String())
		}
	}
	if r.IntN(3) == 0 {
		list = append(list, ext.AnyPolicy.String())
	}
	if len(list) > 0 {
		if e, err := ext.Policies(list); err == nil {
			out = append(out, e)
		}
	}
	if authority && r.IntN(3) == 0 {
		out = append(out, specimen.Mappings([]ext.Mapping{{Issuer: policyNumbers[r.IntN(3)],
			Subject: policyNumbers[r.IntN(3)]}, {Issuer: policyNumbers[0], Subject: policyNumbers[2]}}))
	}
	if r.IntN(3) == 0 {
		out = append(out, specimen.Limits(ext.Limits{Explicit: r.IntN(3), Mapping: r.IntN(3) - 1}))
	}
	if authority && r.IntN(4) == 0 {
		out = append(out, specimen.InhibitAnyPolicy(r.IntN(2)))
	}
	return out
}

func authorityPlan(r *rand.Rand, subject string, chance func(int, string) bool) plan {
	p := plan{Subject: subject, Authority: true}
	if chance(20, subject+" ended") {
		p.Until = specimen.Now.Add(-time.Minute)
	}
	if chance(25, subject+" no authority") {
		p.Authority, p.Usage = false, ext.KeyCertSign
	}
	if chance(6, subject+" path length 0") {
		p.Zero = true
	} else if chance(6, subject+" path length 1") {
		p.PathLength = 1
	}
	if chance(15, subject+" permits ternbay") {
		p.Permit = []string{"ternbay.example", "192.0.2.0/24"}
	}
	if chance(15, subject+" permits elsewhere") {
		p.Permit = []string{"elsewhere.example"}
	}
	if chance(20, subject+" excludes b") {
		p.Exclude = []string{"b.ternbay.example"}
	}
	if chance(15, subject+" for clients") {
		p.Extended = []string{"clientAuth"}
	}
	if chance(25, subject+" may not sign") {
		p.Usage = ext.CRLSign
	}
	return p
}

func libraryVerdict(t *testing.T, g generated) error {
	t.Helper()
	parse := func(c *cert.Certificate) *x509.Certificate {
		x, err := x509.ParseCertificate(c.Raw)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	o := x509.VerifyOptions{Roots: x509.NewCertPool(), Intermediates: x509.NewCertPool(), CurrentTime: specimen.Now,
		DNSName: g.name}
	o.Roots.AddCert(parse(g.anchor))
	for _, c := range g.chain[1:] {
		o.Intermediates.AddCert(parse(c))
	}
	for _, id := range g.policies {
		oid, err := x509.ParseOID(id.String())
		if err != nil {
			t.Fatal(err)
		}
		o.CertificatePolicies = append(o.CertificatePolicies, oid)
	}
	_, err := parse(g.chain[0]).Verify(o)
	return err
}

// knownDifference names the reason for which the standard library is known to
// judge otherwise, or "".
func knownDifference(g generated, ours Verdict) string {
	only := func(codes ...finding.Code) bool {
		for _, f := range ours.Reasons() {
			ok := false
			for _, c := range codes {
				ok = ok || f.Code == c
			}
			if !ok {
				return false
			}
		}
		return true
	}
	switch {
	case !ours.Valid && only(finding.CannotSign):
		return "the library ignores the key usage of authorities"
	case ours.Valid && len(g.anchor.Extended) > 0:
		return "the library holds an anchor's extended key usage against the chain; RFC 5280 section 6.1 takes from " +
			"an anchor its name and key only"
	case !ours.Valid && only(finding.CannotSign, finding.NotAuthority) && g.anchor.Version < 3:
		return "the library asks nothing of an anchor of an older version"
	}
	return ""
}

// TestGenerationsAndLinksAgreeWithTheStandardLibrary compares verdicts over heaps
// in which authorities have several generations, links and cross certificates, so
// that a way has to be found.
func TestGenerationsAndLinksAgreeWithTheStandardLibrary(t *testing.T) {
	count := 1000
	if testing.Short() {
		count = 100
	}
	r := rand.New(rand.NewPCG(23, 42))
	agreed := map[bool]int{}
	for range count {
		g := generateHeap(t, r)
		ours := Verify(g.chain[0], g.chain, Question{Anchors: []*cert.Certificate{g.anchor}, Now: specimen.Now,
			Name: g.name, Usage: server})
		theirs := libraryVerdict(t, g)
		if ours.Valid != (theirs == nil) && knownDifference(g, ours) == "" && !countsSelfIssued(ours) {
			t.Fatalf("%s\nours: %v %v\nlibrary: %v", g.what, ours.Valid, ours.Reasons(), theirs)
		}
		agreed[ours.Valid]++
		if ours.Checks > MostChecks {
			t.Fatalf("%d checks", ours.Checks)
		}
	}
	if agreed[true] < count/10 || agreed[false] < count/10 {
		t.Errorf("too few of one kind to mean anything: %v", agreed)
	}
}

// countsSelfIssued reports whether a chain holds only because its self-issued
// certificates do not count against a path length: the library counts them.
func countsSelfIssued(ours Verdict) bool {
	for i, st := range ours.Steps {
		if limit := st.Certificate.Basic.PathLength; i > 0 && limit >= 0 && i-1 > limit {
			return ours.Valid
		}
	}
	return false
}

// generateHeap makes up to three authorities of up to three generations each, with
// random keys kept or changed, links between them, and certificates that have ended.
func generateHeap(t *testing.T, r *rand.Rand) generated {
	g := generated{name: "a.ternbay.example"}
	var above []*specimen.Entity // the generations of the level above
	for level := range 1 + r.IntN(3) {
		subject := fmt.Sprintf("CN=Level %d", level)
		var these []*specimen.Entity
		for n := range 1 + r.IntN(3) {
			p := plan{Subject: subject, Authority: true}
			if n > 0 && r.IntN(2) == 0 {
				p.Signer = these[n-1].Signer
			}
			if r.IntN(4) == 0 {
				p.Until = specimen.Now.Add(-time.Minute)
			}
			if r.IntN(6) == 0 {
				p.PathLength = 1
			}
			var by *specimen.Entity
			if level > 0 {
				by = above[r.IntN(len(above))]
			}
			these = append(these, specimen.Make(t, by, p))
		}
		for i := range these { // links, one way or the other
			if j := r.IntN(len(these)); i != j && these[i].Signer != these[j].Signer {
				link := specimen.Make(t, these[i], plan{Subject: subject, Authority: true, Signer: these[j].Signer})
				g.chain = append(g.chain, link.Cert)
				g.what += fmt.Sprintf("link %d.%d by %d; ", level, j, i)
			}
		}
		for _, e := range these {
			g.chain = append(g.chain, e.Cert)
		}
		g.what += fmt.Sprintf("level %d has %d; ", level, len(these))
		if level == 0 {
			g.anchor = these[r.IntN(len(these))].Cert
		}
		above = these
	}
	leaf := specimen.Make(t, above[r.IntN(len(above))],
		plan{Subject: "CN=a.ternbay.example", Names: []string{"a.ternbay.example"}, Extended: []string{"serverAuth"}})
	r.Shuffle(len(g.chain), func(i, j int) { g.chain[i], g.chain[j] = g.chain[j], g.chain[i] })
	g.chain = append([]*cert.Certificate{leaf.Cert}, g.chain...)
	return g
}

// BenchmarkCrossSigned builds through a thousand authorities that certify each
// other; the budget is MostChecks signature checks.
func BenchmarkCrossSigned(b *testing.B) {
	const names, count = 40, 1000
	var signers []*specimen.Entity
	for i := range names {
		signers = append(signers, specimen.Make(b, nil, plan{Subject: fmt.Sprintf("CN=Cross %d", i), Authority: true}))
	}
	var heap []*cert.Certificate
	for i := range count {
		from, to := signers[i%names], signers[(i*7+i/names+1)%names]
		heap = append(heap, specimen.Make(b, from,
			plan{Subject: to.Cert.Subject.String(), Authority: true, Signer: to.Signer}).Cert)
	}
	leaf := specimen.Make(b, signers[0], plan{Subject: "CN=a.example", Names: []string{"a.example"}})
	root := specimen.Make(b, nil, plan{Subject: "CN=Root", Authority: true})
	for b.Loop() {
		v := Verify(leaf.Cert, heap, Question{Anchors: []*cert.Certificate{root.Cert}, Now: specimen.Now})
		if v.Valid || v.Checks > MostChecks {
			b.Fatalf("valid %v after %d checks", v.Valid, v.Checks)
		}
		b.ReportMetric(float64(v.Checks), "checks")
	}
}

func BenchmarkVerify(b *testing.B) {
	root := specimen.Make(b, nil, plan{Subject: "CN=Root", Authority: true})
	mid := specimen.Make(b, root, plan{Subject: "CN=Mid", Authority: true})
	leaf := specimen.Make(b, mid, plan{Subject: "CN=a.example", Names: []string{"a.example"}})
	q := Question{Anchors: []*cert.Certificate{root.Cert}, Now: specimen.Now, Name: "a.example"}
	for b.Loop() {
		if v := Verify(leaf.Cert, []*cert.Certificate{mid.Cert}, q); !v.Valid {
			b.Fatal(v.Reasons())
		}
	}
}

// What was found to hold is not computed again; what does not hold is never remembered, and a
// certificate that differs by a byte is another.
func TestProofsAreOfWhatHolds(t *testing.T) {
	l := specimen.NewLine(t)
	stranger := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	var found Proofs
	for range 2 {
		for name, c := range map[string]struct {
			child, issuer *cert.Certificate
			want          bool
		}{"right": {l.Mid.Cert, l.Root.Cert, true}, "another key": {l.Mid.Cert, stranger.Cert, false},
			"another child": {stranger.Cert, l.Root.Cert, false}, "a leaf": {l.Leaf.Cert, l.Mid.Cert, true}} {
			t.Run(name, func(t *testing.T) {
				if found.verified(c.child, c.issuer) != c.want {
					t.Error(name)
				}
			})
		}
	}
	if len(found.holds) != 1 {
		t.Errorf("%d are remembered", len(found.holds))
	}
	spoiled := *l.Mid.Cert
	spoiled.Raw = append([]byte(nil), spoiled.Raw...)
	spoiled.Raw[len(spoiled.Raw)-1] ^= 1
	if read, err := cert.Read(spoiled.Raw); err == nil && found.verified(read, l.Root.Cert) {
		t.Error("a spoiled signature holds")
	}
}
