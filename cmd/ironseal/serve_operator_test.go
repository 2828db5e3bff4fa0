package main

import (
	"path/filepath"
	"strings"
	"testing"

	"ironseal/pki/ocsp"
)

// A server of an estate with operators is one of them: it acts by a key of its own, as far as its role goes.
func TestAServerIsAnOperator(t *testing.T) {
	t.Parallel()
	p, ana, _, _, _ := crew(t)
	robot := p.person("quay-server")
	ana.must("operator", "add", "quay-server", "--key", "../quay-server.pub", "--role", "signer")
	ana.must("authority", "export", "services", "--out", "../services.pem")
	issuer := certificateIn(t, filepath.Join(p.dir, "../services.pem"))
	n := ana.send("pier.ternbay.example", []string{"pier.ternbay.example"})
	ana.must("sign", n, "--template", "web-server", "--by", "services", "--yes")
	ana.must("certificate", "export", n, "--out", "../pier.pem")
	c := certificateIn(t, filepath.Join(p.dir, "../pier.pem"))

	r := robot.serve("--publish", "--answer")
	within(t, "issued", r, issuer, c, ocsp.Good)
	ana.must("revoke", n, "--reason", "superseded", "--yes")
	within(t, "revoked", r, issuer, c, ocsp.Revoked)
	eventually(t, "the list has it", func() bool {
		_, text := fetched(t, "http://"+r.public+"/services.g1.crl.pem")
		return entriesIn(text) == 1
	}, r.out)
	if out := ana.must("journal", "list"); !strings.Contains(out, "quay-server") {
		t.Errorf("the journal does not tell what the server did:\n%s", out)
	}
	ana.must("journal", "verify")
	ana.must("estate", "check")

	nobody := p
	nobody.env = append(append([]string{}, p.env...), "SSH_AUTH_SOCK=", "IRONSEAL_OPERATOR_KEY=")
	if out := nobody.run("", "serve", "--publish", "--answer", "--public", freeAddress(t), "--desk", "", "--health",
		""); out.code == 0 ||
		!strings.Contains(out.errors, "operator's key") {
		t.Errorf("a server without an operator's key: %+v", out)
	}
}
