package kit

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"
)

// policyOf packs a platform beside a policy that is there, and reads what came of it.
func policyOf(t *testing.T, platform, file, there string) (text string, err error) {
	t.Helper()
	p, err := Parse(platform, []byte(Starter(platform)))
	if err != nil {
		t.Fatal(err)
	}
	j := hostile(t)
	j.Present = []byte(there)
	files, _, err := p.Pack(j)
	for _, f := range files {
		if f.Name == file {
			text = string(f.Data)
		}
	}
	return text, err
}

// What stands in a policy stays, whatever it is, and ours is added once.
func TestPoliciesAreMerged(t *testing.T) {
	there := `{"policies":{"DisableTelemetry":true,"Big":12345678901234567890,"Text":"<a&b>",` +
		`"Certificates":{"ImportEnterpriseRoots":false,"Install":["/theirs.der"]}},"other":[1,{"x":null}]}`
	text, err := policyOf(t, "firefox", "policies.json", there)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"DisableTelemetry": true`, "12345678901234567890", `"<a&b>"`,
		`"ImportEnterpriseRoots": false`, `"/theirs.der"`, `"x": null`} {
		if !strings.Contains(text, want) {
			t.Errorf("%s is lost:\n%s", want, text)
		}
	}
	var policy struct {
		Policies struct{ Certificates struct{ Install []string } }
	}
	if err := json.Unmarshal([]byte(text), &policy); err != nil || len(policy.Policies.Certificates.Install) != 3 {
		t.Errorf("%v %+v", err, policy)
	}
	text, err = policyOf(t, "chromium", "tern-bay-x-ferries-partners-roots.json",
		`{"HomepageLocation":"x","CACertificates":["AAAA"]}`)
	if err != nil || !strings.Contains(text, `"HomepageLocation"`) || !strings.Contains(text, `"AAAA"`) {
		t.Errorf("%v %s", err, text)
	}
	// The same once more changes nothing: fingerprints of made-up roots differ from call to call, so by hand.
	p, err := Parse("firefox", []byte(Starter("firefox")))
	if err != nil {
		t.Fatal(err)
	}
	j, once := hostile(t), ""
	for range 2 {
		files, _, err := p.Pack(j)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			if f.Name == "policies.json" {
				if once != "" && once != string(f.Data) {
					t.Errorf("the second time: %s", f.Data)
				}
				once, j.Present = string(f.Data), f.Data
			}
		}
	}
}

func TestPoliciesThatCannotBeMergedAreLeftAlone(t *testing.T) {
	for _, there := range []string{"", "{", "[]", "null", `{} {}`, `{"policies":[]}`, `{"policies":{"Certificates":1}}`,
		`{"policies":{"Certificates":{"Install":"x"}}}`, "// a remark\n{}"} {
		if _, err := policyOf(t, "firefox", "policies.json", there); err == nil ||
			!strings.Contains(err.Error(), "stays as it is") {
			t.Errorf("%q: %v", there, err)
		}
	}
	if _, err := policyOf(t, "chromium", "tern-bay-x-ferries-partners-roots.json",
		`{"CACertificates":{}}`); err == nil {
		t.Error("a list that is none was taken")
	}
}

// A kit that takes roots out installs none of them by mistake, and its page says how they go.
func TestAKitThatTakesOutInstallsNothing(t *testing.T) {
	for _, name := range StarterNames() {
		t.Run(name, func(t *testing.T) {
			p, err := Parse(name, []byte(Starter(name)))
			if err != nil {
				t.Fatal(err)
			}
			j := hostile(t)
			j.Leaving = true
			files, _, err := p.Pack(j)
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range files {
				switch filepath.Ext(f.Name) {
				case ".json", ".yaml", ".mobileconfig", ".reg", ".tar":
					t.Errorf("%s only installs", f.Name)
				case ".yml":
					if strings.Contains(string(f.Data), "content:") {
						t.Errorf("%s installs", f.Name)
					}
				}
				text := strings.Join(strings.Fields(string(f.Data)), " ")
				if back := strings.Join(strings.Fields(p.Page.Back), " "); f.Name == PageFile &&
					(!strings.Contains(text, "roots to be taken out") || !strings.Contains(text, back) ||
						strings.Contains(text, p.Page.Steps[0]) && !strings.Contains(back, p.Page.Steps[0])) {
					t.Errorf("the page says\n%s", f.Data)
				}
			}
		})
	}
}
