package match

import (
	"strings"
	"testing"

	"ironseal/pki/key"
	"ironseal/pki/specimen"
)

func TestRelationsOfAHeap(t *testing.T) {
	c := specimen.NewLine(t)
	pub, _ := key.Of(c.Signer)
	r := specimen.Request(t, c.Signer, "CN=a.ternbay.example", nil)
	lone := specimen.Request(t, nil, "CN=lone", nil)
	var got []string
	for _, x := range Find([]Thing{{Source: "k", Key: &pub}, {Source: "r", Request: r},
		{Source: "c", Certificate: c.Leaf.Cert}, {Source: "c2", Certificate: c.Leaf.Cert},
		{Source: "m", Certificate: c.Mid.Cert}, {Source: "l", Request: lone}}) {
		got = append(got, x.Text)
	}
	want := []string{
		"one key: k (private key (ECDSA P-256)), r (request for a.ternbay.example), c (certificate of " +
			"a.ternbay.example), c2 (the same certificate as c)",
		"a.ternbay.example was issued by Services (c, m)", "missing: the issuer of Services: CN=Root",
		"l (request for lone) belongs to nothing else here",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func TestDifferencesInWords(t *testing.T) {
	c := specimen.NewLine(t)
	other := specimen.Make(t, c.Mid, specimen.Plan{Subject: "CN=a.ternbay.example",
		Names: []string{"b.ternbay.example"}, Extended: []string{"clientAuth"}})
	fields := map[string]Difference{}
	for _, d := range Compare(c.Leaf.Cert, other.Cert) {
		fields[d.Field] = d
	}
	for _, f := range []string{"names", "extended usage", "key", "serial"} {
		if _, ok := fields[f]; !ok {
			t.Errorf("the difference in %s is not told: %v", f, fields)
		}
	}
	if len(Compare(c.Leaf.Cert, c.Leaf.Cert)) > 0 {
		t.Error("a certificate differs from itself")
	}
}
