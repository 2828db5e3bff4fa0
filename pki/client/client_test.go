package client

import (
	"strings"
	"testing"

	"ironseal/pki/cert"
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
		if _, err := Parse("t", []byte(strings.Replace(good, old, bad, 1))); err == nil {
			t.Errorf("%s was taken", bad)
		}
	}
}
