package handover

import (
	"crypto"
	"crypto/rand"
	"strings"
	"testing"

	"ironseal/pki/cert"
	"ironseal/pki/key"
	"ironseal/pki/specimen"
)

type chain struct {
	root, mid, leaf *specimen.Entity
	signer          crypto.Signer
}

func newChain(t *testing.T) chain {
	var c chain
	c.signer = specimen.Key(t, key.P256)
	c.root = specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	c.mid = specimen.Make(t, c.root, specimen.Plan{Subject: "CN=Services", Authority: true})
	c.leaf = specimen.Make(t, c.mid, specimen.Plan{Subject: "CN=a.ternbay.example",
		Names: []string{"a.ternbay.example"}, Extended: []string{"serverAuth"}, Signer: c.signer})
	return c
}

func TestAHeapIsPutInOrder(t *testing.T) {
	c := newChain(t)
	stray := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Stray", Authority: true})
	for _, list := range [][]*cert.Certificate{
		{c.leaf.Cert, c.mid.Cert, c.root.Cert}, {c.root.Cert, c.mid.Cert, c.leaf.Cert},
		{c.mid.Cert, stray.Cert, c.leaf.Cert, c.root.Cert, c.mid.Cert},
	} {
		g, notes, err := Sort(list, []crypto.Signer{c.signer})
		if err != nil || g.Leaf != c.leaf.Cert || g.Root != c.root.Cert || len(g.Intermediates) != 1 || g.Key == nil {
			t.Fatalf("%+v %v", g, err)
		}
		text := strings.Join(notes, "; ")
		if len(list) == 5 && (!strings.Contains(text, "1 duplicate") || !strings.Contains(text, "Stray") ||
			!strings.Contains(text, "put in order")) {
			t.Errorf("notes: %s", text)
		}
		if list[0] == c.leaf.Cert && text != "" {
			t.Errorf("nothing was done, and it says %s", text)
		}
	}
}

func TestKeysThatDoNotFitAreRefused(t *testing.T) {
	c := newChain(t)
	other := specimen.Key(t, key.P256)
	second := specimen.Make(t, c.mid, specimen.Plan{Subject: "CN=b.ternbay.example",
		Names: []string{"b.ternbay.example"}, Signer: other})
	for what, try := range map[string]func() error{
		"a key of none": func() error {
			_, _, err := Sort([]*cert.Certificate{c.leaf.Cert},
				[]crypto.Signer{other})
			return err
		},
		"two keys, two": func() error {
			_, _, err := Sort([]*cert.Certificate{c.leaf.Cert, second.Cert}, []crypto.Signer{c.signer, other})
			return err
		},
		"two keys, no one": func() error { _, _, err := Sort(nil, []crypto.Signer{c.signer, other}); return err },
		"DER of two": func() error {
			_, err := Encode(Goods{Leaf: c.leaf.Cert, Root: c.root.Cert},
				Writing{Parts: []string{PartLeaf, PartRoot}, Format: DER})
			return err
		},
		"no key": func() error {
			_, err := Encode(Goods{Leaf: c.leaf.Cert},
				Writing{Parts: []string{PartKey, PartLeaf}, Format: P12, Password: []byte("x"), Random: rand.Reader})
			return err
		},
		"elliptic as PKCS#1": func() error {
			_, err := Encode(Goods{Key: c.signer}, Writing{Parts: []string{PartKey}, Format: KeyPKCS1})
			return err
		},
	} {
		if try() == nil {
			t.Errorf("%s: no error", what)
		}
	}
	if g, _, err := Sort([]*cert.Certificate{c.leaf.Cert, second.Cert}, []crypto.Signer{other}); err != nil ||
		g.Leaf != second.Cert {
		t.Errorf("the key picks its certificate: %v", err)
	}
}

func TestALoopOfIssuersEnds(t *testing.T) {
	signer := specimen.Key(t, key.P256)
	a := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Loop", Authority: true, Signer: signer})
	b := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Loop", Authority: true, Signer: signer})
	g, _, err := Sort([]*cert.Certificate{a.Cert, b.Cert}, nil)
	if err != nil || g.Leaf == nil {
		t.Errorf("%+v %v", g, err)
	}
}

func TestRelationsOfAHeap(t *testing.T) {
	c := newChain(t)
	pub, _ := key.Of(c.signer)
	r := specimen.Request(t, c.signer, "CN=a.ternbay.example", nil)
	lone := specimen.Request(t, nil, "CN=lone", nil)
	var got []string
	for _, x := range Relate([]Thing{{Source: "k", Key: &pub}, {Source: "r", Request: r},
		{Source: "c", Certificate: c.leaf.Cert}, {Source: "c2", Certificate: c.leaf.Cert},
		{Source: "m", Certificate: c.mid.Cert}, {Source: "l", Request: lone}}) {
		got = append(got, x.Text)
	}
	want := []string{
		"one key: k (private key (elliptic, P-256)), r (request for a.ternbay.example), c (certificate of " +
			"a.ternbay.example), c2 (the same certificate as c)",
		"a.ternbay.example was issued by Services (c, m)", "missing: the issuer of Services: CN=Root",
		"l (request for lone) belongs to nothing else here",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func TestStarterReceiversAreSound(t *testing.T) {
	c := newChain(t)
	g := Goods{Leaf: c.leaf.Cert, Intermediates: []*cert.Certificate{c.mid.Cert}, Root: c.root.Cert, Key: c.signer}
	if len(StarterNames()) < 13 {
		t.Errorf("%d receivers", len(StarterNames()))
	}
	for _, n := range StarterNames() {
		r, err := ParseReceiver(n, []byte(Starter(n)))
		if err != nil {
			t.Errorf("%s: %v", n, err)
			continue
		}
		files, notes, err := r.Pack(g, "a.ternbay.example", Writing{Password: []byte("puffin"), Random: rand.Reader})
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
			if _, notes, err := r.Pack(g2, "a.ternbay.example", Writing{}); err != nil ||
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
		if _, err := ParseReceiver("t", []byte(text)); err == nil || !strings.Contains(err.Error(), word) {
			t.Errorf("%q: %v, want %q", text, err, word)
		}
	}
}

func TestDemandsBecomeFindings(t *testing.T) {
	r, err := ParseReceiver("t", []byte("title = \"Gate\"\n[demands]\nusages = [\"serverAuth\", "+
		"\"clientAuth\"]\nkeys = [\"rsa-2048+\"]\nissuer-keys = [\"rsa-2048+\"]\nnames = [\"ip\"]\n[[file]]\nname = "+
		"\"a\"\nparts = [\"leaf\"]\nformat = \"pem\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	c := newChain(t)
	l := r.Unmet(Offer{Extended: c.leaf.Cert.Extended, Names: c.leaf.Cert.Names, Key: key.P256, Bits: 256,
		Issuers: []*cert.Certificate{c.mid.Cert}})
	if len(l) != 4 || len(l.Refusing()) != 4 {
		t.Errorf("%v", l)
	}
}

func TestDifferencesInWords(t *testing.T) {
	c := newChain(t)
	other := specimen.Make(t, c.mid, specimen.Plan{Subject: "CN=a.ternbay.example",
		Names: []string{"b.ternbay.example"}, Extended: []string{"clientAuth"}})
	fields := map[string]Difference{}
	for _, d := range Compare(c.leaf.Cert, other.Cert) {
		fields[d.Field] = d
	}
	for _, f := range []string{"names", "extended usage", "key", "serial"} {
		if _, ok := fields[f]; !ok {
			t.Errorf("the difference in %s is not told: %v", f, fields)
		}
	}
	if len(Compare(c.leaf.Cert, c.leaf.Cert)) > 0 {
		t.Error("a certificate differs from itself")
	}
}

func FuzzParseReceiver(f *testing.F) {
	for _, n := range StarterNames() {
		f.Add([]byte(Starter(n)))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := ParseReceiver("t", data)
		if err == nil && (len(r.Files) == 0 || r.Title == "") {
			t.Fatal("a receiver without files or title was taken")
		}
	})
}
