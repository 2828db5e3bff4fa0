//go:build linux

package peers

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// A root that is kept offline is renewed in its own estate, and the online estate
// goes on: by the guide's steps alone, clients that hold only the old root accept
// what the renewed authority signed.
func TestAnOfflineRootIsRenewed(t *testing.T) {
	long(t)
	safe := newEstate(t, "ecdsa-p256")
	online := estate{t, safe.path("online")}
	if err := os.MkdirAll(online.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(online.path("pass"), []byte("skua and gull\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	online.run(online.dir, "estate", "create", "harbour", "--organisation", "Tern Bay Gates", "--country", "NO")
	safe.do("authority", "export", "root", "--out", "../root.pem")
	transfer := func(n int, open ...string) {
		stick, back := safe.path(fmt.Sprintf("stick-%d", n)), safe.path(fmt.Sprintf("back-%d", n))
		online.do("authority", "apply", "gates", "--parent", "offline-root", "--key", "ecdsa-p256", "--out",
			fmt.Sprintf("../gates-%d.request.pem", n))
		online.do("transfer", "pack", stick, "--authority", "gates", "--template", "intermediate-authority")
		safe.do("transfer", "open", stick, "--yes")
		safe.do("sign", fmt.Sprintf("R%d", n), "--template", "intermediate-authority", "--by", "root", "--yes")
		safe.do("transfer", "answer", stick, "--out", back)
		online.do(append([]string{"transfer", "open", back, "--yes"}, open...)...)
	}
	transfer(1, "--anchor", safe.path("root.pem"))
	online.do("request", "draft", "localhost", "--out", "..")
	online.do("request", "receive", "../localhost.request.pem")
	online.do("sign", "R1", "--template", "web-server", "--yes")
	safe.do("authority", "renew", "root", "--yes")
	transfer(2) // the old root is on record; the link that comes along vouches for the new one
	online.do("certificate", "renew", "R1", "--yes")
	online.do("certificate", "export", "R1", "--with", "issuers", "--out", "../chain.pem")
	if out := online.do("certificate", "show", "R1"); !strings.Contains(out, "gates.g2") {
		t.Errorf("it is not below the renewed authority:\n%s", out)
	}
	port := nginx(t, online)
	url := fmt.Sprintf("https://localhost:%d/", port)
	for name, root := range map[string]string{"the old root": safe.path("root.pem"), "the new root": newRoot(t, safe)} {
		out, err := exec.Command(peer(t, "curl"), "-sS", "--cacert", root, url).CombinedOutput()
		if err != nil || !strings.Contains(string(out), "all aboard") {
			t.Errorf("curl with %s alone: %v\n%s", name, err, out)
		}
		if out := java(t, "TrustClient.java", nil, root, url); !strings.HasPrefix(out, "trusted 200") {
			t.Errorf("Java with %s alone: %q", name, out)
		}
	}
	online.do("estate", "check")
	safe.do("estate", "check")
}

func newRoot(t *testing.T, safe estate) string {
	t.Helper()
	to := filepath.Join(safe.dir, "new-root.pem")
	safe.do("authority", "export", "root", "--out", to)
	return to
}
