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

// Fourteen years, ending today: at every stage that ends today, clients that hold
// only the old root, and clients that hold only the new one, accept the same
// server, through the link certificates.
func TestBothRootsThroughARenewal(t *testing.T) {
	long(t)
	dir := filepath.Join(t.TempDir(), "story")
	out, err := exec.Command(program, "demo", dir, "--story", "renewal").CombinedOutput()
	if err != nil || strings.Count(string(out),
		"through the link certificate, trusted")+strings.Count(strings.ReplaceAll(string(out), "\n", " "),
		"link certificate, trusted") < 2 {
		t.Fatalf("%v\n%s", err, out)
	}
	at := func(name string) []byte {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	for _, c := range []struct {
		chain string
		roots map[string]bool
	}{
		{"1-before", map[string]bool{"old-root": true, "new-root": false}},
		{"2-root-renewed", map[string]bool{"old-root": true, "new-root": true}},
		{"3-all-renewed", map[string]bool{"old-root": true, "new-root": true}},
	} {
		t.Run(c.chain, func(t *testing.T) {
			e := estate{t, t.TempDir()}
			for name, data := range map[string][]byte{"chain.pem": at("handed-out/" + c.chain + ".pem"),
				"localhost.key.pem": at("drafts/booking.ternbay.example.key.pem")} {
				if err := os.WriteFile(e.path(name), data, 0o600); err != nil {
					t.Fatal(err)
				}
			}
			port := nginx(t, e)
			right, wrong := fmt.Sprintf("https://localhost:%d/", port), fmt.Sprintf("https://127.0.0.1:%d/", port)
			for root, trusted := range c.roots {
				file := filepath.Join(dir, "handed-out", root+".pem")
				for _, cl := range clients {
					binary := peer(t, cl.program...)
					out, err := exec.Command(binary, cl.command(file, right, "localhost", port)...).CombinedOutput()
					if ok := err == nil && strings.Contains(string(out), "all aboard"); ok != trusted {
						t.Errorf("%s with the %s alone: trusted %v, want %v\n%s", cl.name, root, ok, trusted, out)
					}
				}
				said := strings.HasPrefix(java(t, "TrustClient.java", nil, file, right, wrong), "trusted 200")
				if said != trusted {
					t.Errorf("Java with the %s alone: trusted %v, want %v", root, said, trusted)
				}
			}
		})
	}
}
