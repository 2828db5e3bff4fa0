//go:build linux

package peers

import (
	"encoding/json"
	"fmt"
	"html"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
)

// saw is what a browser saw at the desk.
type saw struct {
	Preview, Page, URL string
	Wide               []string // pages that are wider than a telephone
}

// browse uses the desk in Chromium.
func browse(t *testing.T, args ...string) (out saw) {
	t.Helper()
	cmd := exec.Command(peer(t, "node-newer"), append([]string{filepath.Join("testdata", "desk.mjs"),
		peer(t, "chromium")}, args...)...)
	var errs strings.Builder
	cmd.Stderr = &errs
	text, err := cmd.Output()
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil {
		t.Fatalf("%v\n%s", err, errs.String())
	}
	out.Preview, out.Page = html.UnescapeString(out.Preview), html.UnescapeString(out.Page)
	return out
}

// A person uses the desk with a keyboard alone, on a telephone, in a browser that runs no scripts: pastes, reads,
// hands in, comes back, and fetches the certificate. Pictures are kept where IRONSEAL_PICTURES names a folder.
func TestTheDeskInABrowser(t *testing.T) {
	t.Parallel()
	peer(t, "node-newer")
	e := newEstate(t, "ecdsa-p256")
	port := freePort(t)
	at := fmt.Sprintf("https://localhost:%d", port)
	cmd := exec.Command(program, "serve", "--publish", "--public", "", "--health", "", "--desk",
		fmt.Sprintf("127.0.0.1:%d", port))
	cmd.Dir = e.path("harbour")
	cmd.Env = append(os.Environ(), "IRONSEAL_PASSPHRASE_FILE="+e.path("pass"), "IRONSEAL_ESTATE=")
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Signal(syscall.SIGTERM); cmd.Wait() })
	for range 200 {
		if _, err := http.Get(at); err != nil && strings.Contains(err.Error(),
			"certificate") { // it is not trusted here
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	pictures := os.Getenv("IRONSEAL_PICTURES")
	if pictures == "" {
		pictures = "-"
	}
	e.do("request", "draft", "crane.ternbay.example", "--out", "..")
	first := browse(t, at, "hand-in", e.path("crane.ternbay.example.request.pem"), pictures)
	for _, want := range []string{"crane.ternbay.example", "192.0.2.44", "Crane control panel", "Ana Tide",
		"Check code"} {
		if !strings.Contains(first.Preview, want) {
			t.Errorf("the preview lacks %q:\n%s", want, first.Preview)
		}
	}
	if !strings.Contains(first.Page, "It waits") || !regexp.MustCompile(`/request/[\w-]{22}$`).MatchString(first.URL) {
		t.Fatalf("%s\n%s", first.URL, first.Page)
	}
	if shown := e.do("request", "show", "R2"); !strings.Contains(shown, "web-server") || !strings.Contains(shown,
		"nginx") {
		t.Errorf("what was chosen by the keyboard did not come:\n%s", shown)
	}
	e.do("sign", "R2", "--template", "web-server", "--yes")
	downloads := t.TempDir()
	second := browse(t, first.URL, "fetch", downloads, pictures)
	if !strings.Contains(second.Page, "It is signed") {
		t.Errorf("%s", second.Page)
	}
	if len(first.Wide)+len(second.Wide) > 0 {
		t.Errorf("wider than a telephone: %v %v", first.Wide, second.Wide)
	}
	got, err := os.ReadFile(filepath.Join(downloads, "crane.ternbay.example.certificate.pem"))
	if err != nil || !strings.Contains(string(got), "BEGIN CERTIFICATE") {
		entries, _ := os.ReadDir(downloads)
		t.Errorf("%v: %v", entries, err)
	}
}
