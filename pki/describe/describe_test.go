package describe

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"ironseal/pki/bundle"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/pbes"
	"ironseal/pki/specimen"
)

func TestCertificateSaysWhatMattersFirst(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root,O=Tern Bay", Authority: true})
	e := specimen.Make(t, root, specimen.Plan{Subject: "CN=a.ternbay.example",
		Names: []string{"a.ternbay.example", "xn--fjre-woa.example"}, Extended: []string{"serverAuth"}})
	o := Certificate(e.Cert, specimen.Now)
	want := "subject ca names usages issuer not_before not_after check_code paste_tail"
	if got := strings.Join(o.Keys(), " "); !strings.HasPrefix(got, want) {
		t.Errorf("the facts begin %q, want %q", got, want)
	}
	for key, value := range map[string]string{"subject": "CN=a.ternbay.example", "ca": "no",
		"issuer": "CN=Root,O=Tern Bay", "serial": e.Cert.SerialHex(),
		"check_code": label.CheckCode(e.Cert.Raw), "not_after": "2027-11-23T12:00:00Z"} {
		t.Run(key, func(t *testing.T) {
			if got, ok := o.Field(key); !ok || len(got) != 1 || got[0] != value {
				t.Errorf("%s = %v, want %s", key, got, value)
			}
		})
	}
	for _, f := range o.Facts {
		if f.Key == "names" && !strings.Contains(strings.Join(f.Shown, " "), "fjære.example") {
			t.Errorf("an internationalised name must be shown both ways: %v", f.Shown)
		}
	}
}

func TestJSONKeepsItsNamesAndShapes(t *testing.T) {
	r := specimen.Request(t, nil, "CN=a.example", []string{"a.example"})
	data, err := json.Marshal(Request(r))
	if err != nil {
		t.Fatal(err)
	}
	var m map[string]any
	if err := json.Unmarshal(data, &m); err != nil {
		t.Fatal(err)
	}
	if _, ok := m["names"].([]any); !ok {
		t.Errorf("names must be a list even for one: %v", m["names"])
	}
	if _, ok := m["asks"].([]any); !ok {
		t.Errorf("asks must be a list even when empty: %v", m["asks"])
	}
	if m["kind"] != "request" || m["subject"] != "CN=a.example" || m["findings"] == nil {
		t.Errorf("%s", data)
	}
}

func TestEveryKindOfObjectIsTold(t *testing.T) {
	signer := specimen.Key(t, key.P256)
	pub, _ := key.Of(signer)
	plain, _ := key.Plain(signer)
	encrypted, err := pbes.Encrypt(signer, []byte("x"), pbes.Work{Iterations: 1000}, zeros{})
	if err != nil {
		t.Fatal(err)
	}
	e := specimen.Make(t, nil, specimen.Plan{Subject: "CN=x", Authority: true})
	for kind, der := range map[bundle.Kind][]byte{bundle.PublicKey: pub.SPKI, bundle.PrivateKey: plain,
		bundle.EncryptedKey: encrypted, bundle.Certificate: e.Cert.Raw,
		bundle.Request: specimen.Request(t, signer, "CN=x", nil).Raw} {
		t.Run(fmt.Sprint(kind), func(t *testing.T) {
			if got := bundle.KindOf(der); got != kind {
				t.Errorf("a %s is taken for a %s", kind, got)
			}
			o, err := Any(bundle.Object{Kind: kind, DER: der}, specimen.Now)
			if err != nil || o.Kind != string(kind) || len(o.Facts) == 0 {
				t.Errorf("%s: %+v, %v", kind, o, err)
			}
			text, _ := json.Marshal(o)
			if kind == bundle.PrivateKey && strings.Contains(string(text), string(plain[40:60])) {
				t.Error("a private key must not be shown")
			}
		})
	}
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }

func TestFindingsRegistryIsSound(t *testing.T) {
	seen := map[finding.Code]bool{}
	for _, r := range finding.Rules() {
		if seen[r.Code] || r.Code == "" || r.Severity < finding.Note || r.Title == "" || r.Why == "" ||
			r.Remedy == "" && len(r.Next) == 0 {
			t.Errorf("rule %+v", r)
		}
		seen[r.Code] = true
	}
	if f := finding.New("no-such-code", "x"); f.Severity != finding.Refused {
		t.Error("an unregistered code must not let anything through")
	}
}
