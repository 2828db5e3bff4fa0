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

func TestAHeapIsPutInOrder(t *testing.T) {
	c := specimen.NewLine(t)
	stray := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Stray", Authority: true})
	for _, list := range [][]*cert.Certificate{
		{c.Leaf.Cert, c.Mid.Cert, c.Root.Cert}, {c.Root.Cert, c.Mid.Cert, c.Leaf.Cert},
		{c.Mid.Cert, stray.Cert, c.Leaf.Cert, c.Root.Cert, c.Mid.Cert},
	} {
		g, notes, err := Sort(list, []crypto.Signer{c.Signer})
		if err != nil || g.Leaf != c.Leaf.Cert || g.Root != c.Root.Cert || len(g.Intermediates) != 1 || g.Key == nil {
			t.Fatalf("%+v %v", g, err)
		}
		text := strings.Join(notes, "; ")
		if len(list) == 5 && (!strings.Contains(text, "1 duplicate") || !strings.Contains(text, "Stray") ||
			!strings.Contains(text, "put in order")) {
			t.Errorf("notes: %s", text)
		}
		if list[0] == c.Leaf.Cert && text != "" {
			t.Errorf("nothing was done, and it says %s", text)
		}
	}
}

func TestKeysThatDoNotFitAreRefused(t *testing.T) {
	c := specimen.NewLine(t)
	other := specimen.Key(t, key.P256)
	second := specimen.Make(t, c.Mid, specimen.Plan{Subject: "CN=b.ternbay.example",
		Names: []string{"b.ternbay.example"}, Signer: other})
	for what, try := range map[string]func() error{
		"a key of none": func() error {
			_, _, err := Sort([]*cert.Certificate{c.Leaf.Cert},
				[]crypto.Signer{other})
			return err
		},
		"two keys, two": func() error {
			_, _, err := Sort([]*cert.Certificate{c.Leaf.Cert, second.Cert}, []crypto.Signer{c.Signer, other})
			return err
		},
		"two keys, no one": func() error { _, _, err := Sort(nil, []crypto.Signer{c.Signer, other}); return err },
		"DER of two": func() error {
			_, err := Encode(Bundle{Leaf: c.Leaf.Cert, Root: c.Root.Cert},
				Writing{Parts: []string{PartLeaf, PartRoot}, Format: DER})
			return err
		},
		"no key": func() error {
			_, err := Encode(Bundle{Leaf: c.Leaf.Cert},
				Writing{Parts: []string{PartKey, PartLeaf}, Format: P12, Password: []byte("x"), Random: rand.Reader})
			return err
		},
		"elliptic as PKCS#1": func() error {
			_, err := Encode(Bundle{Key: c.Signer}, Writing{Parts: []string{PartKey}, Format: KeyPKCS1})
			return err
		},
	} {
		t.Run(what, func(t *testing.T) {
			if try() == nil {
				t.Errorf("%s: no error", what)
			}
		})
	}
	if g, _, err := Sort([]*cert.Certificate{c.Leaf.Cert, second.Cert}, []crypto.Signer{other}); err != nil ||
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
