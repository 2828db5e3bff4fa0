package trust

import (
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/specimen"
)

// A set comes back as it was written, whatever its texts hold, and no text of a
// certificate's becomes a key of the file.
func TestSetsComeBack(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root \"one\"\\, [[anchor]] #,O=Tern Bay", Authority: true})
	other := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Partner", Authority: true})
	permitted, err := ParsePermitted([]string{"dns:partner.example"})
	if err != nil {
		t.Fatal(err)
	}
	s := Set{Name: "x", Title: "a \"title\"\n[[anchor]]"}
	for _, a := range []Anchor{{Certificate: root.Cert, From: "root.g1", Purposes: []Purpose{Servers, Mail}},
		{Certificate: other.Cert, From: "a file\"\n'''", Purposes: []Purpose{Clients}, Permitted: permitted}} {
		if err := s.Add(a); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Add(s.Anchors[0]); err == nil {
		t.Error("one anchor was added twice")
	}
	got, err := Parse("x", s.Bytes())
	if err != nil {
		t.Fatalf("%v\n%s", err, s.Bytes())
	}
	if got.Title != s.Title || len(got.Anchors) != 2 || got.Anchors[1].From != s.Anchors[1].From ||
		got.Anchors[0].Purposes[1] != Mail || len(got.Anchors[1].Permitted) != 1 ||
		got.Find(root.Cert) == nil || string(got.Bytes()) != string(s.Bytes()) {
		t.Errorf("%+v", got)
	}
}

func TestMistakesInSetsAreTold(t *testing.T) {
	pem := string(Set{Title: "t", Anchors: []Anchor{{Certificate: specimen.Make(t, nil,
		specimen.Plan{Subject: "CN=R", Authority: true}).Cert}}}.Bytes())
	for text, want := range map[string]string{"": "title is missing", "titel = 1": `did you mean "title"`,
		"title = \"t\"\n[[anchor]]\ncertificate = \"x\"":                    "anchor 1",
		strings.Replace(pem, "purposes    = []", "purposes = [\"all\"]", 1): "use one of servers",
		pem + strings.TrimPrefix(pem[strings.Index(pem, "[[anchor]]"):],
			"\n"): "is in the set already",
		strings.Replace(pem, "certificate = '''", "permitted = [\"ip:x\"]\ncertificate = '''", 1): "anchor 1",
	} {
		t.Run(text, func(t *testing.T) {
			if _, err := Parse("x", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%.60q: %v, want %q", text, err, want)
			}
		})
	}
}

// What was probably not meant as an anchor is reported.
func TestWhatIsNoAnchorIsTold(t *testing.T) {
	c := specimen.NewLine(t)
	self := specimen.Make(t, nil, specimen.Plan{Subject: "CN=device"})
	now := specimen.Now
	for name, try := range map[string]struct {
		cert *cert.Certificate
		at   time.Time
		code finding.Code
	}{
		"a leaf":            {c.Leaf.Cert, now, finding.AnchorLeaf},
		"an intermediate":   {c.Mid.Cert, now, finding.AnchorMiddle},
		"a device's own":    {self.Cert, now, finding.AnchorSelf},
		"an expired root":   {c.Root.Cert, c.Root.Cert.NotAfter.Add(time.Second), finding.AnchorExpired},
		"a root too early":  {c.Root.Cert, c.Root.Cert.NotBefore.Add(-time.Second), finding.AnchorEarly},
		"a root as it goes": {c.Root.Cert, now, ""},
	} {
		t.Run(name, func(t *testing.T) {
			list := Findings(try.cert, try.at)
			if try.code == "" && len(list) > 0 || try.code != "" && (len(list) == 0 || list[0].Code != try.code) {
				t.Errorf("%s: %v", name, list)
			}
		})
	}
}

// An estate's own set holds the roots that sign and those that something valid depends on,
// and no others.
func TestTheOwnSetHoldsWhatMatters(t *testing.T) {
	now := specimen.Now
	life := func(from, until int) specimen.Plan {
		return specimen.Plan{Subject: "CN=Root", Authority: true, From: now.AddDate(from, 0, 0),
			Until: now.AddDate(until, 0, 0)}
	}
	gone, idle, holding, current := specimen.Make(t, nil, life(-20, -1)), specimen.Make(t, nil, life(-15, 1)),
		specimen.Make(t, nil, life(-9, 5)), specimen.Make(t, nil, life(-1, 15))
	mid := specimen.Make(t, holding, specimen.Plan{Subject: "CN=Services", Authority: true, From: now.AddDate(-2, 0, 0),
		Until: now.AddDate(3, 0, 0)})
	root, services := &hierarchy.Authority{Handle: "root"}, &hierarchy.Authority{Handle: "services"}
	for i, e := range []*specimen.Entity{gone, idle, holding, current} {
		root.Generations = append(root.Generations, &hierarchy.Generation{Number: i + 1, Certificate: e.Cert,
			Authority: root})
	}
	services.Generations = []*hierarchy.Generation{{Number: 1, Certificate: mid.Cert, Issuer: root.Generations[2],
		Authority: services}}
	services.Parent = root
	h := hierarchy.Hierarchy{root, services}
	names := func(hangs map[*hierarchy.Generation]bool) string {
		var out []string
		for _, a := range OwnSet(h, hangs, now).Anchors {
			out = append(out, a.From)
		}
		return strings.Join(out, " ")
	}
	if got := names(nil); got != "root.g3 root.g4" {
		t.Error(got)
	}
	if got := names(map[*hierarchy.Generation]bool{root.Generations[1]: true}); got != "root.g2 root.g3 root.g4" {
		t.Error("a certificate that a replaced root signed itself depends on it:", got)
	}
	root.Generations[3].SwitchDay = now.AddDate(0, 1, 0)
	if got := names(nil); !strings.HasSuffix(got, "root.g4") {
		t.Error("a prepared root is to be brought to machines before it signs:", got)
	}
}

func FuzzParse(f *testing.F) {
	root := specimen.Make(f, nil, specimen.Plan{Subject: "CN=R", Authority: true})
	f.Add(Set{Title: "t", Anchors: []Anchor{{Certificate: root.Cert, From: "x", Purposes: []Purpose{Servers}}}}.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := Parse("x", data)
		if err != nil {
			return
		}
		again, err := Parse("x", s.Bytes())
		if err != nil || len(again.Anchors) != len(s.Anchors) || again.Title != s.Title {
			t.Errorf("it does not come back: %v\n%s", err, s.Bytes())
		}
	})
}
