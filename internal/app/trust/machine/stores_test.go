package machine

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/specimen"
	"ironseal/pki/trust"
)

// put writes a file of a system that is mounted somewhere.
func put(t *testing.T, root, path string, data []byte) string {
	t.Helper()
	at := filepath.Join(root, path)
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at, data, 0o644); err != nil {
		t.Fatal(err)
	}
	return at
}

// Every store of a system is found, and each is judged by what is in it.
func TestEveryStoreIsNamedRightly(t *testing.T) {
	one := specimen.Make(t, nil, specimen.Plan{Subject: "CN=One", Authority: true}).Cert
	two := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Two", Authority: true}).Cert
	old := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Old", Authority: true}).Cert
	other := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Other", Authority: true}).Cert
	set := trust.Set{Name: "s", Anchors: []trust.Anchor{{Certificate: one}, {Certificate: two}}}
	pem := func(list ...*cert.Certificate) (out []byte) {
		for _, c := range list {
			out = append(out, bundle.PEM(bundle.Certificate, c.Raw)...)
		}
		return out
	}
	root := t.TempDir()
	put(t, root, "etc/ssl/certs/ca-certificates.crt", pem(one, old))
	put(t, root, "usr/local/share/ca-certificates/tern_s_one-1.crt", pem(one))
	put(t, root, "usr/local/share/ca-certificates/tern_s_old-1.crt", pem(old))
	put(t, root, "usr/local/share/ca-certificates/other.crt", pem(old))
	put(t, root, "usr/local/share/ca-certificates/tern_o_other-1.crt", pem(other))
	put(t, root, "etc/ssl/private-roots/tern_all.go.pem", pem(two))
	put(t, root, "etc/firefox/policies/policies.json",
		[]byte(`{"policies":{"Certificates":{"Install":["/etc/firefox/policies/two.der"]}}}`))
	put(t, root, "etc/firefox/policies/two.der", two.Raw)
	put(t, root, "etc/chromium/policies/managed/a.json", fmt.Appendf(nil,
		`{"CACertificates":["%s"],"CACertificatesWithConstraints":[{"certificate":"%s"}]}`,
		base64.StdEncoding.EncodeToString(one.Raw), base64.StdEncoding.EncodeToString(two.Raw)))
	put(t, root, "etc/opt/chrome/policies/managed/a.json", []byte(`{"CACertificates":`))
	put(t, root, "usr/lib/jvm/a/lib/security/cacerts", []byte("\xfe\xed\xfe\xed\x00\x00\x00\x02\x00\x00\x00\x09"))
	node := put(t, root, "node.der", one.Raw)
	m := Machine{Root: root, Env: func(name string) string {
		return map[string]string{"NODE_EXTRA_CA_CERTS": node, "SSL_CERT_FILE": filepath.Join(root,
			"etc/ssl/certs/ca-certificates.crt")}[name]
	}}
	judge := Judge{Set: set, Mark: "tern", Former: []*cert.Certificate{old, one},
		Other: []trust.Set{{Anchors: []trust.Anchor{{Certificate: other}}}}}
	got := map[string]Checked{}
	for _, c := range m.Check(judge, []string{filepath.Join(root, "none")}) {
		path, err := filepath.Rel(root, c.Path)
		if err != nil {
			t.Fatal(err)
		}
		got[filepath.ToSlash(path)] = c
	}
	for path, want := range map[string]struct{ there, missing, stale, note string }{
		"etc/ssl/certs/ca-certificates.crt":     {"One", "Two", "Old, which ends ", ""},
		"etc/firefox/policies/policies.json":    {"Two", "One", "", ""},
		"etc/chromium/policies/managed":         {"One Two", "", "", ""},
		"etc/opt/chrome/policies/managed":       {"", "One Two", "", "cannot be parsed"},
		"usr/lib/jvm/a/lib/security/cacerts":    {"", "One Two", "", "an entry cannot be parsed"},
		"node.der":                              {"", "One Two", "", "ignores a file that is not PEM"},
		"etc/ssl/private-roots/tern_all.go.pem": {"Two", "One", "", ""},
		"none":                                  {"", "One Two", "", "there is no such file"},
	} {
		t.Run(path, func(t *testing.T) {
			c, ok := got[path]
			if !ok || strings.Join(c.There, " ") != want.there || strings.Join(c.Missing, " ") != want.missing ||
				!strings.HasPrefix(strings.Join(c.Stale, " "), want.stale) || !strings.Contains(c.Note, want.note) {
				t.Errorf("%s: %+v", path, c)
			}
		})
	}
	if len(got) != 8 {
		t.Errorf("%d stores", len(got))
	}
	system := got["etc/ssl/certs/ca-certificates.crt"]
	if system.Store != "system, by SSL_CERT_FILE" || !slices.Contains(system.Stale, "tern_s_old-1.crt") ||
		len(system.Stale) != 2 {
		t.Errorf("%+v", system)
	}
}

func BenchmarkCheckOfTenStores(b *testing.B) {
	var all []byte
	var anchor *cert.Certificate
	for i := range 150 {
		anchor = specimen.Make(b, nil, specimen.Plan{Subject: fmt.Sprintf("CN=Root %d", i), Authority: true}).Cert
		all = append(all, bundle.PEM(bundle.Certificate, anchor.Raw)...)
	}
	var files []string
	dir := b.TempDir()
	for i := range 10 {
		files = append(files, filepath.Join(dir, fmt.Sprint(i)))
		if err := os.WriteFile(files[i], all, 0o644); err != nil {
			b.Fatal(err)
		}
	}
	m := Machine{Root: dir, Env: func(string) string { return "" }}
	set := trust.Set{Anchors: []trust.Anchor{{Certificate: anchor}}}
	for b.Loop() {
		for _, c := range m.Check(Judge{Set: set, Mark: "x"}, files) {
			if len(c.Missing) > 0 {
				b.Fatal(c)
			}
		}
	}
}
