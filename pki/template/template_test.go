package template

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"ironseal/pki/ext"
	"ironseal/pki/finding"
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
		tm, err := Parse(n, []byte(Starter(n)), starterFile)
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

func starterFile(name string) ([]byte, error) {
	if Starter(name) == "" {
		return nil, errors.New("there is none")
	}
	return []byte(Starter(name)), nil
}

func TestInheritanceIsOneStep(t *testing.T) {
	child := "based-on = \"web-server\"\ntitle = \"Quay\"\nlifetime = \"30d\"\n[names]\nkinds = [\"ip\"]\nnetworks " +
		"= [\"192.0.2.0/24\"]\n"
	tm, err := Parse("quay", []byte(child), starterFile)
	if err != nil {
		t.Fatal(err)
	}
	if tm.Title != "Quay" || tm.Lifetime.String() != "30d" || tm.Longest.String() != "30d" || tm.Names.Most != 100 ||
		strings.Join(tm.Names.Kinds, " ") != "ip" ||
		strings.Join(tm.Extended, " ") != "serverAuth" {
		t.Errorf("%+v", tm)
	}
	// What is recorded stands on its own and says the same.
	whole, err := Parse("quay", []byte(strings.Replace(string(tm.Source()), "based-on", "# based-on", 1)), nil)
	if err != nil {
		t.Fatalf("%v\n%s", err, tm.Source())
	}
	if c := Compare(tm, whole); len(c) > 0 {
		t.Errorf("the record differs: %v", c)
	}
	base, _ := Parse("web-server", []byte(Starter("web-server")), nil)
	var labels []string
	for _, c := range Compare(base, tm) {
		labels = append(labels, c.Label)
	}
	if got := strings.Join(labels, " "); got != "title lives names" {
		t.Errorf("differences in %q", got)
	}
	for what, c := range map[string][2]string{
		"itself":  {"based-on = \"loop\"\n", "based on itself"},
		"nobody":  {"based-on = \"nobody\"\n", "there is none"},
		"a chain": {"based-on = \"mail-server\"\n", "one step"},
		"unknown": {"based-on = \"web-server\"\nlifetme = \"1d\"\n", "2:1: unknown key"},
	} {
		t.Run(what, func(t *testing.T) {
			if _, err := Parse("loop", []byte(c[0]), starterFile); err == nil || !strings.Contains(err.Error(), c[1]) {
				t.Errorf("based on %s: %v", what, err)
			}
		})
	}
}

func TestPatternsAndNetworks(t *testing.T) {
	tm, err := Parse("t", []byte(small+"[names]\nkinds = [\"dns\", \"ip\"]\npatterns = [\"*.ternbay.example\", "+
		"\"gate-*\"]\nnetworks = [\"192.0.2.0/24\", \"2001:db8::/32\"]\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	for typed, want := range map[string]bool{"dns:a.ternbay.example": true, "dns:A.B.TernBay.Example": true,
		"dns:ternbay.example": false, "dns:xternbay.example": false, "dns:gate-3": true,
		"ip:192.0.2.9": true, "ip:198.51.100.1": false, "ip:2001:db8::1": true} {
		t.Run(typed, func(t *testing.T) {
			n, err := san.ParseTyped(typed)
			if err != nil {
				t.Fatal(err)
			}
			if got := tm.NameFits(n); got != want {
				t.Errorf("%s fits: %v", typed, got)
			}
		})
	}
}

func TestWeighing(t *testing.T) {
	tm, err := Parse("t", []byte(small+"[findings]\nstop = [\"short-name\"]\nallow = [\"name-not-allowed\", "+
		"\"clock-behind-records\"]\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	l := tm.Weigh(finding.List{finding.New(finding.ShortName, "x"), finding.New(finding.NameNotAllowed, "x"),
		finding.New(finding.ClockBehind, "x")})
	if l[0].Severity != finding.Waivable || l[1].Severity != finding.Warn || l[2].Severity != finding.Refused {
		t.Errorf("%v", l)
	}
}

const small = "title = \"x\"\nmakes = \"end-entity\"\nlifetime = \"10d\"\nkeys = [\"ecdsa-p256\"]\n"

func TestMistakesAreToldWithTheirPlace(t *testing.T) {
	for _, c := range []struct{ what, text, word string }{
		{"misspelt key", small + "lifetme = \"5d\"\n",
			`templates/t.toml:5:1: unknown key "lifetme"; did you mean "lifetime"?`},
		{"misspelt key in a table", small + "[names]\n  wildcard = true\n",
			`6:3: unknown key "names.wildcard"; did you mean "wildcards"?`},
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
		t.Run(c.what, func(t *testing.T) {
			if _, err := Parse("t", []byte(c.text), nil); err == nil || !strings.Contains(err.Error(), c.word) {
				t.Errorf("%s: %v; want %q", c.what, err, c.word)
			}
		})
	}
}

func TestKeysAndUsages(t *testing.T) {
	tm, err := Parse("web-server", []byte(Starter("web-server")), nil)
	if err != nil {
		t.Fatal(err)
	}
	for kind, want := range map[key.Kind]bool{key.RSA2048: true, "rsa-2100": true, "rsa-1024": false, key.P256: true,
		key.P521: false, key.Ed25519: false} {
		t.Run(fmt.Sprint(kind), func(t *testing.T) {
			bits := map[key.Kind]int{key.RSA2048: 2048, "rsa-2100": 2100, "rsa-1024": 1024}[kind]
			if got := tm.TakesKey(kind, bits); got != want {
				t.Errorf("takes %s: %v", kind, got)
			}
		})
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
		{"issuers = [\"any\"]\nextended-key-usage = [\"serverAuth\"]\nkey-usage = [\"keyAgreement\"]\n",
			"digitalSignature"},
		{"issuers = [\"any\"]\nkey-usage = [\"keyEncipherment\"]\n", "no RSA keys"},
		{"issuers = [\"any\"]\nkey-usage = [\"keyCertSign\"]\n", "makes no authority"},
		{"key-usage = [\"digitalSignature\"]\n", "No authority may sign by"},
	} {
		t.Run(c.add, func(t *testing.T) {
			tm, err := Parse("t", []byte(small+c.add), nil)
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
		})
	}
}

func FuzzParse(f *testing.F) {
	for _, n := range StarterNames() {
		f.Add([]byte(Starter(n)))
	}
	f.Add([]byte("a.b.c = 1"))
	f.Add([]byte("[subject.fixed]\nC = \"NO\""))
	f.Fuzz(func(t *testing.T, data []byte) {
		tm, err := Parse("t", data, nil)
		if err != nil {
			return
		}
		_, _ = tm.Words(), tm.Contradictions()
		if tm.Lifetime.IsZero() || len(tm.Keys) == 0 {
			t.Fatal("a template without life or keys was taken")
		}
	})
}
