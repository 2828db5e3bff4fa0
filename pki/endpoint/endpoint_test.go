package endpoint

import (
	"errors"
	"strings"
	"testing"

	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/path"
	"ironseal/pki/san"
	"ironseal/pki/specimen"
)

const host = "gate.ternbay.example"

// Each way to be wrong has its own words, and its own advice.
func TestEveryCauseIsToldApart(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	other := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Other Root", Authority: true})
	mid := specimen.Make(t, root, specimen.Plan{Subject: "CN=Services", Authority: true})
	plan := specimen.Plan{Subject: "CN=" + host, Names: []string{host}, Extended: []string{"serverAuth"}}
	leaf := specimen.Make(t, mid, plan)
	newer := plan
	newer.From = specimen.Now.AddDate(0, 0, -1)
	newest := specimen.Make(t, mid, newer)
	ended := plan
	ended.From, ended.Until = specimen.Now.AddDate(-1, 0, 0), specimen.Now.AddDate(0, 0, -3)
	early := plan
	early.From = specimen.Now.AddDate(0, 0, 2)
	client := plan
	client.Extended = []string{"clientAuth"}
	self := specimen.Make(t, nil, plan)
	elsewhere := specimen.Make(t, other, plan)
	stranger := specimen.Make(t, specimen.Make(t, nil, specimen.Plan{Subject: "CN=Stranger", Authority: true}), plan)
	foreign := specimen.Make(t, specimen.Make(t, nil, specimen.Plan{Subject: "CN=Foreign Root", Authority: true}),
		specimen.Plan{Subject: "CN=Foreign Services", Authority: true})
	below := specimen.Make(t, foreign, plan)
	twin := specimen.Make(t, root, specimen.Plan{Subject: "CN=Services", Authority: true})
	asName := plan
	asName.Names = nil
	odd, err := ext.NamesExtension([]san.Name{san.Found(san.DNS, "192.0.2.7")}, false)
	if err != nil {
		t.Fatal(err)
	}
	asName.Extra = ext.Set{odd}
	byAddress := specimen.Make(t, mid, asName)
	usage, err := ext.ParseExtendedUsage("serverAuth")
	if err != nil {
		t.Fatal(err)
	}
	q := Question{Question: path.Question{Anchors: []*cert.Certificate{root.Cert}, Now: specimen.Now, Usage: usage},
		Set: "own"}
	known := Known{Issuers: []Issuer{{mid.Cert, advice.To("", advice.ExportAuthority, "authority", "services.g1")}},
		Roots: []*cert.Certificate{root.Cert, other.Cert}}
	seen := func(list ...*specimen.Entity) Seen {
		s := Seen{Name: host, Proven: true, Protocol: "TLS 1.3"}
		for _, e := range list {
			s.Presented = append(s.Presented, e.Cert)
		}
		return s
	}
	with := func(s Seen, change func(*Seen)) Seen { change(&s); return s }
	on := func(change func(*Known)) Known { k := known; change(&k); return k }
	good := seen(leaf, mid)
	for name, c := range map[string]struct {
		seen    Seen
		known   Known
		trusted bool
		code    finding.Code
		words   string // of the message or the remedy
	}{
		"right":           {good, known, true, "", ""},
		"no intermediate": {seen(leaf), known, false, finding.MissingIssuer, "authority.export services.g1"},
		"a short name": {with(good, func(s *Seen) { s.Name = "gate" }), known, false, finding.WrongName,
			"short form"},
		"an address": {with(good, func(s *Seen) { s.Name = "192.0.2.7" }), known, false, finding.WrongName,
			"no names of the address kind"},
		"a wrong order": {seen(leaf, root, mid), known, true, finding.OutOfOrder, ""},
		"another root":  {seen(elsewhere, other), known, false, finding.UnknownAnchor, "trust.show own"},
		"a root that nobody knows": {seen(below, foreign), known, false, finding.UnknownAnchor,
			"It leads to CN=Foreign Root, which is not in the trust set own."},
		"another generation": {seen(leaf, twin), known, false, finding.BadSignature,
			"another generation of that authority. put the one that signed it into its chain file authority.export " +
				"services.g1"},
		"sent twice": {seen(leaf, mid, mid), known, true, finding.Stray, "is sent twice"},
		"an address as a name": {with(seen(byAddress, mid), func(s *Seen) { s.Name = "192.0.2.7" }), known, false,
			finding.WrongName, "sign ip:192.0.2.7"},
		"no suite of today": {with(good, func(s *Seen) { s.Weak, s.WeakOnly = "TLS_RSA_RC4", true }), known, false,
			finding.DeadSuite, "TLS_RSA_RC4"},
		"TLS switched off": {Seen{Name: host, Failed: "x", Declines: "it does not offer TLS"}, known, false,
			finding.NoTLS, "does not offer TLS"},
		"refuses ours, and says whom it wants": {with(good, func(s *Seen) {
			s.Asks, s.Given, s.Failed, s.Accepts = true, true, "alert", []string{"CN=a"}
		}), known, false, finding.ClientWanted, "It accepts certificates from CN=a"},
		"an unknown root": {seen(stranger), known, false, finding.MissingIssuer, "CN=Stranger"},
		"expired":         {seen(specimen.Make(t, mid, ended), mid), known, false, finding.Expired, ""},
		"not yet":         {seen(specimen.Make(t, mid, early), mid), known, false, finding.NotYetValid, "clock"},
		"our clock is late": {seen(specimen.Make(t, mid, early), mid), on(func(k *Known) {
			k.State, k.Title = "valid",
				"R7"
		}),
			false, finding.NotYetValid, "clock of this machine"},
		"its own":     {seen(self), known, false, finding.SelfMade, "import the certificate"},
		"for clients": {seen(specimen.Make(t, mid, client), mid), known, false, finding.UsageMissing, ""},
		"an older one": {good, on(func(k *Known) { k.State, k.Newest = "replaced", newest.Cert }), true,
			finding.ServedOlder, newest.Cert.Serial.Short()},
		"older by its dates": {good, on(func(k *Known) { k.Newest = newest.Cert }), true, finding.ServedOlder,
			"restart the service"},
		"the newest": {seen(newest, mid), on(func(k *Known) { k.State, k.Newest = "valid", leaf.Cert }), true,
			"", ""},
		"revoked": {good, on(func(k *Known) { k.State, k.Title = "revoked", "R7" }), false, finding.ServedRevoked,
			"R7"},
		"prepared": {good, on(func(k *Known) { k.State, k.Title = "prepared", "R7" }), true, finding.ServedOlder,
			"switch day"},
		"old protocols": {with(good, func(s *Seen) { s.OldOnly, s.Protocol = true, "TLS 1.1" }), known, false,
			finding.OldProtocol, "TLS 1.1"},
		"a weak suite": {with(good, func(s *Seen) { s.Weak = "TLS_RSA_X" }), known, true, finding.WeakSuite,
			"TLS_RSA_X"},
		"other nameless": {with(good, func(s *Seen) { s.Differs = true }), known, true, finding.NamelessDiffers, ""},
		"asks": {with(good, func(s *Seen) { s.Asks, s.Accepts = true, []string{"CN=a", "CN=b", "CN=c", "CN=d"} }),
			known,
			true, finding.ClientAsked, "CN=c and others"},
		"wants": {with(good, func(s *Seen) { s.Asks, s.Failed = true, "alert" }), known, false,
			finding.ClientWanted, "option.client"},
		"refuses ours": {with(good, func(s *Seen) { s.Asks, s.Given, s.Failed = true, true, "alert" }), known, false,
			finding.ClientWanted, "refuses"},
		"no key": {with(good, func(s *Seen) { s.Proven, s.Failed = false, "bad signature" }), known, false,
			finding.HandshakeFailed, "bad signature"},
		"nobody": {Seen{Name: host, Failed: "nothing listens on this port"}, known, false, finding.NoAnswer,
			"Nothing listens"},
		"junk": {Seen{Name: host, Failed: "x", Unreadable: []error{errors.New("not ASN.1")}}, known, false,
			finding.Malformed, "not ASN.1"},
	} {
		t.Run(name, func(t *testing.T) {
			j := Judge(c.seen, q, c.known)
			if j.Trusted != c.trusted {
				t.Errorf("%s: trusted %v: %+v", name, j.Trusted, j.Findings)
			}
			found := c.code == "" && len(j.Findings) == 0
			for _, f := range j.Findings {
				found = found || f.Code == c.code && strings.Contains(told(f), c.words)
			}
			if !found {
				t.Errorf("%s: %+v", name, j.Findings)
			}
			if j.Trusted && (j.Anchor == nil || !j.Until.Equal(leaf.Cert.NotAfter)) {
				t.Errorf("%s: anchor %v, until %s", name, j.Anchor, j.Until)
			}
		})
	}
}

// What was kept is compared on another day: the worse first, and nothing of what is as it was.
func TestComparing(t *testing.T) {
	row := func(endpoint string, trusted bool, sum string, codes ...finding.Code) Row {
		r := Row{Endpoint: endpoint, Trusted: trusted, SHA256: sum, Serial: sum + "00", Subject: "CN=" + endpoint,
			Presented: []string{endpoint}, Protocol: "TLS 1.3"}
		for _, c := range codes {
			r.Findings = append(r.Findings, finding.New(c, "because of %s.", c))
		}
		return r
	}
	before := []Row{row("same", true, "1"), row("mended", false, "1", finding.Expired), row("broken", true, "1"),
		row("renewed", true, "1"), row("gone", true, "1")}
	data, err := Keep(before)
	if err != nil {
		t.Fatal(err)
	}
	if before, err = ReadKept(data); err != nil {
		t.Fatal(err)
	}
	got := Compare(before, []Row{row("same", true, "1"), row("mended", true, "2"), row("broken", false, "",
		finding.NoAnswer),
		row("renewed", true, "2"), row("new", true, "1")})
	want := []string{"worse broken", "gone gone", "changed renewed", "new new", "better mended"}
	for i, c := range got {
		if i >= len(want) || c.What+" "+c.Endpoint != want[i] || len(c.Words) == 0 {
			t.Errorf("%+v", c)
		}
	}
	if len(got) != len(want) || !strings.Contains(strings.Join(got[0].Words, " "), "not trusted (before: trusted)") {
		t.Errorf("%+v", got)
	}
	if words := Peers.Differences(before[0], before[2]); len(words) != 1 || !strings.Contains(words[0], "the other: ") {
		t.Error(words)
	}
	for _, bad := range []string{"", "[]", `{"form":2}`, `{"form":1,"endpoints":[{"days_left":"x"}]}`} {
		if _, err := ReadKept([]byte(bad)); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

// told is all that a finding tells: its message, its remedy, and the acts that it advises.
func told(f finding.Finding) string {
	out := f.Message
	for _, step := range f.Steps() {
		out += " " + step.Words + " " + string(step.Act)
		for _, v := range step.With {
			out += " " + v.Text
		}
	}
	return out
}
