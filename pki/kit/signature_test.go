package kit

import (
	"crypto/rand"
	"maps"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/path"
	"ironseal/pki/pkcs"
	"ironseal/pki/specimen"
	"ironseal/pki/trust"
)

// signedKit is a kit for Debian, signed by a leaf under an authority under a root.
func signedKit(t *testing.T, plan specimen.Plan) (files map[string][]byte, root *cert.Certificate) {
	t.Helper()
	top := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	mid := specimen.Make(t, top, specimen.Plan{Subject: "CN=Services", Authority: true})
	leaf := specimen.Make(t, mid, plan)
	p, err := Parse("debian", []byte(Starter("debian")))
	if err != nil {
		t.Fatal(err)
	}
	j := Job{Set: trust.Set{Name: "own", Title: "t", Anchors: []trust.Anchor{{Certificate: top.Cert,
		Purposes: trust.Purposes()}}}, Mark: "tern", Owner: "Tern", Signed: true}
	list, _, err := p.Pack(j)
	if err != nil {
		t.Fatal(err)
	}
	files = map[string][]byte{}
	for _, f := range list {
		files[f.Name] = f.Data
	}
	files[SignatureFile], err = pkcs.SignDetached(files[SumsFile], leaf.Signer, [][]byte{leaf.Cert.Raw, mid.Cert.Raw},
		specimen.Now, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return files, top.Cert
}

var forKits = specimen.Plan{Subject: "CN=Trust kits,O=Tern", Extended: []string{"documentSigning"}}

// A kit is whole and signed, or it is said what is at odds.
func TestKitsAreChecked(t *testing.T) {
	files, root := signedKit(t, forKits)
	another, _ := signedKit(t, forKits)
	check := func(change func(f map[string][]byte), anchors []*cert.Certificate, now time.Time) string {
		t.Helper()
		f := maps.Clone(files)
		change(f)
		c, err := Check(f, path.Question{Anchors: anchors, Now: now})
		if err != nil {
			return err.Error()
		}
		if c.Good() {
			return "good"
		}
		return strings.Join(append(c.Faults, c.Against...), "; ")
	}
	none := func(map[string][]byte) {}
	ours := []*cert.Certificate{root}
	if said := check(none, ours, specimen.Now); said != "good" {
		t.Fatal(said)
	}
	for want, change := range map[string]func(f map[string][]byte){
		"trust.sh was changed":   func(f map[string][]byte) { f["trust.sh"] = append([]byte("x"), f["trust.sh"]...) },
		"READ-ME.txt is missing": func(f map[string][]byte) { delete(f, PageFile) },
		"more.crt was added":     func(f map[string][]byte) { f["more.crt"] = nil },
		"of another content": func(f map[string][]byte) {
			f["trust.sh"], f[SumsFile] = another["trust.sh"], another[SumsFile]
		},
		"it is no kit":     func(f map[string][]byte) { delete(f, SumsFile) },
		"cannot be parsed": func(f map[string][]byte) { f[SumsFile] = append(f[SumsFile], "x\n"...) },
		"ASN.1":            func(f map[string][]byte) { f[SignatureFile] = []byte("x") },
	} {
		t.Run(want, func(t *testing.T) {
			if said := check(change, ours, specimen.Now); !strings.Contains(said, want) {
				t.Errorf("%q is wanted: %s", want, said)
			}
		})
	}
	if said := check(func(f map[string][]byte) { delete(f, SignatureFile) }, ours, specimen.Now); said != "" {
		t.Error(said)
	}
	if said := check(func(f map[string][]byte) { maps.Copy(f, another) }, ours, specimen.Now); said == "good" {
		t.Error("another estate's kit is good")
	}
	if said := check(none, nil, specimen.Now); said == "good" {
		t.Error("it is trusted by nobody, and good")
	}
	if said := check(none, ours, specimen.Now.AddDate(3, 0, 0)); !strings.Contains(said, "expired") {
		t.Error(said)
	}
}

// Only a certificate for kits signs kits: no server's, no person's, no authority's.
func TestOnlyKitKeysSignKits(t *testing.T) {
	for name, plan := range map[string]specimen.Plan{
		"a server's":         {Subject: "CN=Trust kits", Extended: []string{"serverAuth"}},
		"a program's":        {Subject: "CN=Trust kits", Extended: []string{"codeSigning"}},
		"a person's":         {Subject: "CN=Somebody", Extended: []string{"documentSigning"}},
		"one without usages": {Subject: "CN=Trust kits"},
		"an authority's":     {Subject: "CN=Trust kits", Extended: []string{"documentSigning"}, Authority: true},
	} {
		t.Run(name, func(t *testing.T) {
			files, root := signedKit(t, plan)
			if c, err := Check(files, path.Question{Anchors: []*cert.Certificate{root},
				Now: specimen.Now}); err != nil ||
				c.Good() {
				t.Errorf("%s is taken: %v %+v", name, err, c)
			}
		})
	}
}
