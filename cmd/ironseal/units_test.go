package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The sample units in docs/units work: the command of the service publishes with the credential of the one
// authority, needs no passphrase of the root while its list is fresh, and says so by its status when that ends.
func TestTheSampleUnitsPublish(t *testing.T) {
	t.Parallel()
	service, err := os.ReadFile(filepath.Join("..", "..", "docs", "units", "ironseal-publish.service"))
	if err != nil {
		t.Fatal(err)
	}
	field := func(name string) string {
		_, after, ok := strings.Cut(string(service), "\n"+name+"=")
		if !ok {
			t.Fatalf("%s is missing", name)
		}
		return strings.SplitN(after, "\n", 2)[0]
	}
	p := harbour(t)
	if err := os.Mkdir(filepath.Join(filepath.Dir(p.dir), "creds"), 0o700); err != nil {
		t.Fatal(err)
	}
	root, services := p.file("../root.pass", []byte("the root's own words\n")), p.file("../creds/services",
		[]byte("tern and gull\n"))
	p.must("authority", "passphrase", "root", "--new-passphrase-file", root)
	public := filepath.Join(filepath.Dir(p.dir), "public")
	p.must("revocations", "publish", "--to", public, "--passphrase-file", "root="+root)
	p.send("pier.ternbay.example", []string{"pier.ternbay.example"})
	p.must("sign", "R1", "--template", "web-server", "--by", "services", "--yes")
	p.must("revoke", "R1", "--reason", "superseded", "--yes")
	p.env = nil // as under the service manager
	typed := strings.NewReplacer("/usr/local/bin/ironseal ", "", "/srv/www/pki", public, "%d",
		filepath.Dir(services)).Replace(field("ExecStart"))
	out := p.must(strings.Fields(typed)...)
	if !strings.Contains(out, "services.g1.crl") || strings.Contains(out, "root.g1.crl  ") && strings.Contains(out,
		"+  root") {
		t.Error(out)
	}
	if out := p.must("revocations", "show", filepath.Join(public, "services.g1.crl")); !strings.Contains(out,
		"superseded") {
		t.Error(out)
	}
	for _, want := range []string{"LoadCredentialEncrypted", "NoNewPrivileges", "ProtectSystem", "User"} {
		field(want)
	}
	if analyze, err := exec.LookPath("systemd-analyze"); err == nil {
		for _, name := range []string{"ironseal-publish.service", "ironseal-publish.timer"} {
			out, _ := exec.Command(analyze, "verify", filepath.Join("..", "..", "docs", "units", name)).CombinedOutput()
			for _, bad := range []string{"Unknown", "Failed to parse", "Invalid"} {
				if strings.Contains(string(out), bad) {
					t.Errorf("%s: %s", name, out)
				}
			}
		}
	}
}
