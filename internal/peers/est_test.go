//go:build linux

package peers

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// enrolling is an estate where machines enrol.
type enrolling struct {
	estate
	at  string // where machines reach it
	log *lines
}

// newEnrolling serves an estate where machines enrol by a protocol, with its settings changed.
func newEnrolling(t *testing.T, by, lifetime string, settings [][2]string) enrolling {
	t.Helper()
	e := newEstate(t, "ecdsa-p256")
	write(t, e.path("harbour/templates/gates.toml"), fmt.Sprintf("based-on = \"web-server\"\ntitle = \"Quay "+
		"gate\"\nextended-key-usage = [\"serverAuth\", \"clientAuth\"]\n\n[unattended]\nby = [%q]\nauthority = "+
		"\"services\"\nnames = [\"dns:*.quay.ternbay.example\"]\nlifetime = %q\nper-day = 100\n", by, lifetime))
	for _, s := range settings {
		file := e.path("harbour/ironseal.toml")
		text := string(readFile(t, file))
		if !strings.Contains(text, s[0]) {
			t.Fatalf("the settings do not say %s", s[0])
		}
		write(t, file, strings.Replace(text, s[0], s[1], 1))
	}
	port := freePort(t)
	m := enrolling{e, fmt.Sprintf("https://localhost:%d", port), &lines{}}
	cmd := exec.Command(program, "serve", "--publish", "--sign=services", "--public", "", "--health", "", "--desk", "",
		"--machines", fmt.Sprintf("127.0.0.1:%d", port))
	cmd.Dir = e.path("harbour")
	cmd.Env = append(os.Environ(), "IRONSEAL_PASSPHRASE_FILE="+e.path("pass"), "IRONSEAL_ESTATE=")
	cmd.Stdout, cmd.Stderr = m.log, m.log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Signal(syscall.SIGTERM); cmd.Wait() })
	e.do("authority", "export", "root", "--out", "../root.pem")
	for range 200 {
		if _, err := http.Get(m.at); err != nil && strings.Contains(err.Error(),
			"certificate") { // it is not trusted here
			return m
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("it does not serve:\n%s", m.log)
	return m
}

// lines keeps what a program says.
type lines struct {
	mu   sync.Mutex
	text strings.Builder
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *lines) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// est is an estate where machines enrol by EST, and a machine that has curl alone.
type est struct {
	enrolling
	curl string
}

func newEST(t *testing.T) est {
	t.Helper()
	m := est{newEnrolling(t, "est", "30d", nil), peer(t, "curl")}
	m.at += "/.well-known/est"
	return m
}

// asks runs curl, and returns the status and the body.
func (m est) asks(path string, args ...string) (status, body string) {
	m.t.Helper()
	args = append([]string{"-sS", "--cacert", m.path("root.pem"), "-w", "\n%{http_code}", m.at + path}, args...)
	cmd := exec.Command(m.curl, args...)
	cmd.Dir = m.dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		m.t.Fatalf("curl: %v %s", err, out)
	}
	text := strings.TrimRight(string(out), "\n")
	at := strings.LastIndex(text, "\n")
	return text[at+1:], text[:max(at, 0)]
}

// request drafts a request and takes the lines around its base64 off, as a person does with grep.
func (m est) request(host string) {
	m.t.Helper()
	m.run(m.dir, "request", "draft", host, "--out", m.dir)
	pem := string(readFile(m.t, m.path(host+".request.pem")))
	var lines []string
	for line := range strings.Lines(pem) {
		if !strings.HasPrefix(line, "-----") {
			lines = append(lines, line)
		}
	}
	write(m.t, m.path(host+".b64"), strings.Join(lines, ""))
}

// A machine that has curl alone fetches the roots, enrols by a code, waits for a person, fetches, renews by its
// certificate, and is refused once that was revoked.
func TestESTByCurl(t *testing.T) {
	t.Parallel()
	m := newEST(t)
	if status, body := m.asks("/cacerts"); status != "200" || len(body) < 200 {
		t.Fatalf("%s %s", status, body)
	}
	made := m.do("enrol", "code", "gates", "--template", "gates", "--names", "ternbay.example", "--count", "3")
	code := strings.TrimSpace(strings.Split(made, "\n")[1])
	enrol := func(host, path string, more ...string) (string, string) {
		return m.asks("/gates/"+path, append(more, "-H", "Content-Type: application/pkcs10", "--data-binary",
			"@"+host+".b64")...)
	}
	m.request("gate-1.quay.ternbay.example")
	status, body := enrol("gate-1.quay.ternbay.example", "simpleenroll", "--user", "gate:"+code)
	if status != "200" {
		t.Fatalf("%s %s", status, body)
	}
	write(t, m.path("got.p7.b64"), "-----BEGIN PKCS7-----\n"+body+"-----END PKCS7-----\n")
	m.run(m.dir, "convert", "got.p7.b64", "--to", "pem", "--out", "gate-1.pem")
	m.request("crane.ternbay.example")
	status, body = enrol("crane.ternbay.example", "simpleenroll", "--user", "gate:"+code)
	number, _, _ := strings.Cut(body, " ")
	if status != "202" {
		t.Fatalf("%s %s", status, body)
	}
	m.do("sign", number, "--template", "web-server", "--yes")
	if status, body = enrol("crane.ternbay.example", "simpleenroll", "--user", "gate:"+code); status != "200" {
		t.Errorf("after a person signed: %s %s", status, body)
	}
	by := []string{"--cert", "gate-1.pem", "--key", "gate-1.quay.ternbay.example.key.pem"}
	if err := os.Rename(m.path("gate-1.quay.ternbay.example.request.pem"), m.path("old.request.pem")); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(m.path("gate-1.quay.ternbay.example.key.pem"), m.path("old.key.pem")); err != nil {
		t.Fatal(err)
	}
	by[3] = "old.key.pem"
	m.request("gate-1.quay.ternbay.example")
	if status, body = enrol("gate-1.quay.ternbay.example", "simplereenroll", by...); status != "200" {
		t.Errorf("renewed by its certificate: %s %s", status, body)
	}
	m.do("revoke", m.path("gate-1.pem"), "--reason", "key-compromise", "--yes")
	m.request("gate-9.quay.ternbay.example")
	if status, _ = enrol("gate-9.quay.ternbay.example", "simplereenroll", by...); status != "401" {
		t.Errorf("renewed by a certificate that was revoked: %s", status)
	}
	if status, _ = enrol("gate-9.quay.ternbay.example", "simpleenroll", "--user", "gate:WRONG"); status != "401" {
		t.Errorf("by a wrong code: %s", status)
	}
}
