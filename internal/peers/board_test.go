//go:build linux

package peers

import (
	"bufio"
	"net"
	"net/http"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/internal/report/board"
	"ironseal/pki/endpoint"
	"ironseal/pki/finding"
)

// The page is read by a browser as it is meant: hostile text stays text, it works on its own,
// and no request leaves it.
func TestTheBoardInABrowser(t *testing.T) {
	chromium := peer(t, "chromium")
	now := time.Now()
	bad := `<img src=http://127.0.0.1/x onerror=document.title='taken'>`
	var rows []endpoint.Row
	for _, name := range []string{"a.ternbay.example", bad} {
		rows = append(rows, endpoint.Row{Endpoint: name, Trusted: name != bad, Left: 40,
			Until: now.AddDate(0, 0, 40).UTC().Format(time.RFC3339), Anchor: bad, Record: "R7",
			Findings: finding.List{{Code: finding.Expired, Severity: finding.Warn, Message: bad, Remedy: bad}}})
	}
	page, err := board.Board{Title: "Tern Bay Ferries", Set: "own", Rows: rows, Now: now}.Page()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	file := write(t, dir+"/board.html", string(page))
	dom, asked := browsed(t, chromium, file)
	_, own := browsed(t, chromium, write(t, dir+"/empty.html", "<!doctype html><title>x</title>"))
	for host := range asked {
		if !own[host] && !strings.Contains(host, "google") {
			t.Errorf("a request for %s left the page", host)
		}
	}
	if strings.Count(dom, `-row">`) != 2 || !strings.Contains(dom, "&lt;img src=") || strings.Contains(dom, "<img") ||
		strings.Contains(dom, ">taken<") {
		t.Error(dom)
	}
	if !strings.Contains(dom, "<button>endpoint</button>") || strings.Contains(dom, `class="ask" hidden`) {
		t.Error("its own script does not run")
	}
}

// browsed opens a page, and says what came of it and which hosts were asked for on the way:
// those of the browser itself, and those of the page.
func browsed(t *testing.T, chromium, file string) (dom string, hosts map[string]bool) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0") // a proxy that every request goes to
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var mu sync.Mutex
	hosts = map[string]bool{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if r, err := http.ReadRequest(bufio.NewReader(c)); err == nil {
				mu.Lock()
				hosts[r.Host] = true
				mu.Unlock()
			}
			c.Close()
		}
	}()
	out, err := exec.Command("timeout", "60", chromium, "--headless", "--no-sandbox", "--disable-gpu",
		"--disable-background-networking", "--disable-component-update", "--no-first-run",
		"--user-data-dir="+t.TempDir(),
		"--proxy-server=http://"+l.Addr().String(), "--proxy-bypass-list=<-loopback>", "--virtual-time-budget=3000",
		"--dump-dom", "file://"+file).Output()
	if err != nil {
		t.Fatal(err)
	}
	mu.Lock()
	defer mu.Unlock()
	return string(out), hosts
}
