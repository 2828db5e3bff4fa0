package template

import (
	"strings"
	"testing"

	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/san"
)

func TestStartersAreSound(t *testing.T) {
	names := StarterNames()
	for _, want := range []string{"client", "intermediate-authority", "mutual-peer", "root-authority", "web-server"} {
		if Starter(want) == "" {
			t.Errorf("there is no starter %s among %v", want, names)
		}
	}
	for _, n := range names {
		tm, err := Parse(n, []byte(Starter(n)))
		if err != nil {
			t.Errorf("%s: %v", n, err)
			continue
		}
		if c := tm.Contradictions(); len(c) > 0 {
			t.Errorf("%s: %v", n, c)
		}
		if tm.IsAuthority() && tm.TakesKey(key.RSA2048, 2048) {
			t.Errorf("%s: an authority's key must be stronger than rsa-2048", n)
		}
	}
}

const small = "title = \"x\"\nmakes = \"end-entity\"\nlifetime = \"10d\"\nkeys = [\"ecdsa-p256\"]\n"

func TestMistakesAreToldWithTheirPlace(t *testing.T) {
	for _, c := range []struct{ what, text, word string }{
		{"misspelt key", small + "lifetme = \"5d\"\n", `templates/t.toml:5:1: unknown key "lifetme"; did you mean "lifetime"?`},
		{"misspelt key in a table", small + "[names]\n  wildcard = true\n", `6:3: unknown key "names.wildcard"; did you mean "wildcards"?`},
		{"unknown table", small + "[secrets]\nx = 1\n", "unknown key"},
		{"broken TOML", "title = \n", "t.toml:1:"},
		{"wrong type", "title = 5\n", "t.toml:1:"},
		{"not a lifetime", strings.Replace(small, "10d", "ten days", 1), "is not a lifetime"},
		{"no title", strings.Replace(small, "title", "purpose", 1), "title is missing"},
		{"makes what", strings.Replace(small, "end-entity", "leaf", 1), `makes = "leaf"`},
		{"no keys", strings.Replace(small, "keys", "issuers", 1), "keys is missing"},
		{"small key", strings.Replace(small, "ecdsa-p256", "rsa-1024", 1), "between 2048"},
		{"unknown key kind", strings.Replace(small, "ecdsa-p256", "dsa", 1), "not a key kind"},
		{"usage", small + "key-usage = [\"signing\"]\n", "not a key usage"},
		{"extended usage", small + "extended-key-usage = [\"web\"]\n", "not an extended key usage"},
		{"name kind", small + "[names]\nkinds = [\"host\"]\n", "not a kind of name"},
		{"subject field", small + "[subject]\ntake = [\"NICK\"]\n", "not a subject field"},
		{"fixed country", small + "[subject]\nfixed = { C = \"Norway\" }\n", "two capital letters"},
		{"bounds", small + "[names]\nleast = 3\nmost = 1\n", "least = 3"},
	} {
		if _, err := Parse("t", []byte(c.text)); err == nil || !strings.Contains(err.Error(), c.word) {
			t.Errorf("%s: %v; want %q", c.what, err, c.word)
		}
	}
}

func TestKeysAndUsages(t *testing.T) {
	tm, err := Parse("web-server", []byte(Starter("web-server")))
	if err != nil {
		t.Fatal(err)
	}
	for kind, want := range map[key.Kind]bool{key.RSA2048: true, "rsa-2100": true, "rsa-1024": false, key.P256: true, key.P521: false, key.Ed25519: false} {
		bits := map[key.Kind]int{key.RSA2048: 2048, "rsa-2100": 2100, "rsa-1024": 1024}[kind]
		if got := tm.TakesKey(kind, bits); got != want {
			t.Errorf("takes %s: %v", kind, got)
		}
	}
	if u := tm.KeyUsage(key.P256); u != ext.DigitalSignature {
		t.Errorf("encipherment makes no sense for elliptic keys: %s", u)
	}
	if u := tm.KeyUsage(key.RSA2048); u != ext.DigitalSignature|ext.KeyEncipherment {
		t.Errorf("usage for RSA: %s", u)
	}
	if !tm.TakesName(san.IP) || tm.TakesName(san.Email) || !tm.TakesField("cn") || tm.TakesField("UID") {
		t.Error("names or fields")
	}
	if !tm.SignedBy("services", false) || tm.SignedBy("root", true) {
		t.Error("web-server is signed by intermediates only")
	}
	tm.Issuers = []string{"root"}
	if !tm.SignedBy("root", true) || tm.SignedBy("services", false) {
		t.Error("a handle in issuers means this authority only")
	}
}

func TestContradictionsAreNamed(t *testing.T) {
	for _, c := range []struct{ add, word string }{
		{"issuers = [\"any\"]\nextended-key-usage = [\"serverAuth\"]\nkey-usage = [\"keyAgreement\"]\n", "digitalSignature"},
		{"issuers = [\"any\"]\nkey-usage = [\"keyEncipherment\"]\n", "no RSA keys"},
		{"issuers = [\"any\"]\nkey-usage = [\"keyCertSign\"]\n", "makes no authority"},
		{"key-usage = [\"digitalSignature\"]\n", "signed by nobody"},
	} {
		tm, err := Parse("t", []byte(small+c.add))
		if err != nil {
			t.Fatal(err)
		}
		text := ""
		for _, f := range tm.Contradictions() {
			text += f.Message
		}
		if !strings.Contains(text, c.word) {
			t.Errorf("%q: %q", c.word, text)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, n := range StarterNames() {
		f.Add([]byte(Starter(n)))
	}
	f.Add([]byte("a.b.c = 1"))
	f.Add([]byte("[subject.fixed]\nC = \"NO\""))
	f.Fuzz(func(t *testing.T, data []byte) {
		tm, err := Parse("t", data)
		if err != nil {
			return
		}
		_, _ = tm.Words(), tm.Contradictions()
		if tm.Lifetime.IsZero() || len(tm.Keys) == 0 {
			t.Fatal("a template without life or keys was taken")
		}
	})
}
