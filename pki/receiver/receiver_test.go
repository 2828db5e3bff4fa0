package receiver

import (
	"crypto/rand"
	"strings"
	"testing"

	"ironseal/pki/cert"
	"ironseal/pki/handover"
	"ironseal/pki/key"
	"ironseal/pki/specimen"
)

func TestStarterReceiversAreSound(t *testing.T) {
	c := specimen.NewLine(t)
	g := handover.Bundle{Leaf: c.Leaf.Cert, Intermediates: []*cert.Certificate{c.Mid.Cert}, Root: c.Root.Cert,
		Key: c.Signer}
	if len(StarterNames()) < 13 {
		t.Errorf("%d receivers", len(StarterNames()))
	}
	for _, n := range StarterNames() {
		r, err := Parse(n, []byte(Starter(n)))
		if err != nil {
			t.Errorf("%s: %v", n, err)
			continue
		}
		files, notes, err := r.Pack(g, "a.ternbay.example", handover.Writing{Password: []byte("puffin"),
			Random: rand.Reader})
		if err != nil || len(files) != len(r.Files) || len(notes) > 0 {
			t.Errorf("%s: %d files, %v, %v", n, len(files), notes, err)
		}
		page := string(r.ReadMe(g, "a.ternbay.example", files, notes))
		if strings.Contains(page, "{host}") || strings.Contains(page, "{file") || !strings.Contains(page, "  1. ") ||
			r.Page.Back == "" || r.Page.Worked == "" {
			t.Errorf("%s: the page is not whole:\n%s", n, page)
		}
		if !r.NeedsPassword() {
			g2 := g
			g2.Key = nil // it stayed on the device
			if _, notes, err := r.Pack(g2, "a.ternbay.example", handover.Writing{}); err != nil ||
				(strings.Contains(Starter(n), `"key"`) && len(notes) == 0) {
				t.Errorf("%s without the key: %v %v", n, notes, err)
			}
		}
	}
}

func TestReceiverMistakesAreTold(t *testing.T) {
	const good = "title = \"x\"\n[[file]]\nname = \"a.pem\"\nparts = [\"leaf\"]\nformat = \"pem\"\n"
	for text, word := range map[string]string{
		"title = \"x\"\n": "takes no files", strings.Replace(good, "title", "titel", 1): `did you mean "title"`,
		strings.Replace(good, "parts", "part", 1):     `did you mean "parts"`,
		strings.Replace(good, `"pem"`, `"zip"`, 1):    "use one of",
		strings.Replace(good, "a.pem", "../a.pem", 1): "without directories",
		strings.Replace(good, `"leaf"`, `"stem"`, 1):  "use key, leaf",
		strings.Replace(good, `["leaf"]`, `["key"]`, 1) +
			"\n[demands]\nusages = [\"web\"]\n": "not an extended key usage",
		strings.Replace(strings.Replace(good, `["leaf"]`, `["key"]`, 1), `"pem"`, `"p7b"`, 1): "cannot hold a key",
	} {
		t.Run(text, func(t *testing.T) {
			if _, err := Parse("t", []byte(text)); err == nil || !strings.Contains(err.Error(), word) {
				t.Errorf("%q: %v, want %q", text, err, word)
			}
		})
	}
}

func TestDemandsBecomeFindings(t *testing.T) {
	r, err := Parse("t", []byte("title = \"Gate\"\n[demands]\nusages = [\"serverAuth\", "+
		"\"clientAuth\"]\nkeys = [\"rsa-2048+\"]\nissuer-keys = [\"rsa-2048+\"]\nnames = [\"ip\"]\n[[file]]\nname = "+
		"\"a\"\nparts = [\"leaf\"]\nformat = \"pem\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	c := specimen.NewLine(t)
	l := r.Unmet(Offer{Extended: c.Leaf.Cert.Extended, Names: c.Leaf.Cert.Names, Key: key.P256, Bits: 256,
		Issuers: []*cert.Certificate{c.Mid.Cert}})
	if len(l) != 4 || len(l.Refusing()) != 4 {
		t.Errorf("%v", l)
	}
}

func FuzzParse(f *testing.F) {
	for _, n := range StarterNames() {
		f.Add([]byte(Starter(n)))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := Parse("t", data)
		if err == nil && (len(r.Files) == 0 || r.Title == "") {
			t.Fatal("a receiver without files or title was taken")
		}
	})
}

// A receiver is shown with the names of its files, and without the marks that its file has.
func TestTheLinesNameTheFiles(t *testing.T) {
	for _, name := range StarterNames() {
		t.Run(name, func(t *testing.T) {
			r, err := Parse(name, []byte(Starter(name)))
			if err != nil {
				t.Fatal(err)
			}
			for _, l := range r.Lines() {
				if strings.Contains(l.Text, "[[") || strings.Contains(l.Text, "{file") {
					t.Errorf("%s: %s", l.Label, l.Text)
				}
			}
		})
	}
}
