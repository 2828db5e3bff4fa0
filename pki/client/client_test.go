package client

import (
	"strings"
	"testing"

	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/specimen"
)

// Every kind reads, and is judged by its own differences alone; a fact is named for each.
func TestKindsReadAndJudge(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	leaf := specimen.Make(t, root, specimen.Plan{Subject: "CN=a.ternbay.example", Key: key.Ed25519})
	v := path.Verify(leaf.Cert, nil, path.Question{Anchors: []*cert.Certificate{root.Cert}, Now: specimen.Now,
		Name: "a.ternbay.example"})
	want := map[string]bool{"curl": true, "wget": true, "python": true, "node": true, "java": true, "psql": true}
	for _, name := range Names() {
		k, err := Of(name)
		if err != nil {
			t.Fatal(err)
		}
		a := k.Judge(v)
		if a.Accepts != want[name] || len(a.Because) == 0 {
			t.Errorf("%+v", a)
		}
	}
	chromium, err := Of("chromium")
	if err != nil {
		t.Fatal(err)
	}
	if a := chromium.Judge(v); len(a.Because) != 2 || !strings.Contains(strings.Join(a.Because, " "), "Ed25519") {
		t.Errorf("%+v", a)
	}
	if _, err := Of("chromum"); err == nil || !strings.Contains(err.Error(), `did you mean "chromium"`) {
		t.Error(err)
	}
}

func TestMistakesInKindsAreTold(t *testing.T) {
	good := "title = \"t\"\n[[differs]]\nwhen = \"p521-leaf\"\ntakes = false\nfact = \"f\"\n"
	if _, err := Parse("t", []byte(good)); err != nil {
		t.Fatal(err)
	}
	for old, bad := range map[string]string{"p521-leaf": "p512-leaf", "takes = false": "takes = true",
		`fact = "f"`: `fact = ""`, "title": "titel"} {
		t.Run(old, func(t *testing.T) {
			if _, err := Parse("t", []byte(strings.Replace(good, old, bad, 1))); err == nil {
				t.Errorf("%s was taken", bad)
			}
		})
	}
}

// What a machine presents is judged by its first name; kinds that are wanted have to accept,
// and those that a change would lose are reported.
func TestKindsThatWouldBeLost(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	judged := func(p specimen.Plan) path.Verdict {
		p.Subject = "CN=a.ternbay.example"
		leaf := specimen.Make(t, root, p)
		return Presented([]*cert.Certificate{leaf.Cert}, []*cert.Certificate{root.Cert},
			path.Question{Now: specimen.Now})
	}
	today := judged(specimen.Plan{Names: []string{"a.ternbay.example"}})
	long := judged(specimen.Plan{Names: []string{"a.ternbay.example"}, Key: key.P521})
	person := judged(specimen.Plan{Names: []string{"mate@ternbay.example"}, Extended: []string{"clientAuth"}})
	if free := judged(specimen.Plan{Names: []string{"mate@ternbay.example"}}); !free.Valid {
		t.Error("a person's certificate is judged as a server's:", free.Reasons())
	}
	if !today.Valid || !long.Valid || !person.Valid {
		t.Fatal(today.Reasons(), long.Reasons(), person.Reasons())
	}
	if l := Losing(All(), today, long); len(l) != 1 || l[0].Kind != "chromium" || l[0].Because[0] == "" {
		t.Errorf("%+v", l)
	}
	if l := Losing(All(), long, today); len(l) != 0 || len(Findings(today, All())) != 0 {
		t.Errorf("%+v", l)
	}
	chromium, err := Of("chromium")
	if err != nil {
		t.Fatal(err)
	}
	told, wanted := Findings(long, nil), Findings(long, []Kind{chromium})
	if len(told) != 1 || told[0].Severity != finding.Warn || len(wanted) != 1 ||
		wanted[0].Severity != finding.Waivable {
		t.Errorf("%+v %+v", told, wanted)
	}
}
