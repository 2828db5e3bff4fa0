package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ocsp"
)

// stop ends it as systemd does, and wants a clean end.
func (r *running) stop(t testing.TB) {
	t.Helper()
	r.cmd.Process.Signal(syscall.SIGTERM)
	if err := r.cmd.Wait(); err != nil {
		t.Errorf("it ends with %v:\n%s", err, r.out)
	}
}

func TestDemoOfADeskEndsWell(t *testing.T) {
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	out := p.must("demo", "play", "--story", "desk")
	for _, want := range []string{"handed in; her page has a private address", "for the receiver nginx",
		"asked for by the sender, not by the request", "a client connects to the gate: trusted",
		"the certificate of the gate is good", "the certificate of the gate is revoked", "the list has it",
		"her page says that it is not to be used"} {
		if !strings.Contains(out, want) {
			t.Errorf("the story does not show %q:\n%s", want, out)
		}
	}
}

func TestDemoOfMachinesEndsWell(t *testing.T) {
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	out := p.must("demo", "play", "--story", "machines")
	for _, want := range []string{"the gate has its certificate: gate-1.quay.ternbay.example",
		"the answer to the crane is to come again", "is outside what may be signed without a person",
		"the crane, which asks again, has its certificate", "the web server has its certificate",
		"renewal information tells the web server to renew at once", "web/1",
		"the gateway has its certificate: vpn.quay.ternbay.example", "at most 50 a day"} {
		if !strings.Contains(out, want) {
			t.Errorf("the story does not show %q:\n%s", want, out)
		}
	}
	if n := strings.Count(out, "the web server has its certificate"); n != 2 {
		t.Errorf("the web server got %d certificates", n)
	}
}

// A server says what it would do, starts without any settings, reads them again, and ends when it is told to.
func TestServing(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	if out := p.must("serve", "--check"); !strings.Contains(out, "127.0.0.1:8085") || !strings.Contains(out,
		"in order") {
		t.Error(out)
	}
	var places []struct{ Name, Address string }
	if err := json.Unmarshal([]byte(p.must("serve", "--check", "--json")), &places); err != nil || len(places) != 3 {
		t.Errorf("%+v %v", places, err)
	}
	r := p.serve("--logs", "json", "--log-level", "debug")
	if code, text := fetched(t, "http://"+r.health+"/healthz"); code != 200 || !strings.Contains(text, "sign R1") {
		t.Errorf("%d %s", code, text)
	}
	if code, _ := fetched(t, "http://"+r.public+"/services.g1.cer"); code != 200 {
		t.Errorf("%d", code)
	}
	p.must("sign", "R1", "--template", "serve-tls", "--yes")
	eventually(t, "the desk presents what was signed", func() bool {
		_, text := fetched(t, "http://"+r.health+"/healthz")
		return !strings.Contains(text, "temporary")
	}, r.out)
	settings := filepath.Join(p.dir, "ironseal.toml")
	text, err := os.ReadFile(settings)
	if err != nil {
		t.Fatal(err)
	}
	p.file("ironseal.toml", []byte("nonsense"))
	r.cmd.Process.Signal(syscall.SIGHUP)
	eventually(t, "broken settings are told of", func() bool { return strings.Contains(r.out.String(), "failed") },
		r.out)
	if code, _ := fetched(t, "http://"+r.public+"/services.g1.cer"); code != 200 {
		t.Errorf("with broken settings: %d", code)
	}
	p.file("ironseal.toml", bytes.Replace(text, []byte(`desk-open-to   = "all"`),
		[]byte(`desk-open-to   = "nobody"`), 1))
	eventually(t, "the new settings count", func() bool {
		return strings.Contains(r.out.String(), "opened again") || strings.Contains(r.out.String(), "read again")
	}, r.out)
	r.stop(t)
	for line := range strings.Lines(r.out.String()) {
		if strings.HasPrefix(line, "{") && !json.Valid([]byte(line)) {
			t.Errorf("no JSON: %s", line)
		}
	}
	if strings.Contains(r.out.String(), "tern and gull") {
		t.Error("the passphrase was logged")
	}
	p.must("estate", "check")
}

// What is wrong with the settings is said before anything is served.
func TestSettingsOfAServerAreChecked(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	settings, err := os.ReadFile(filepath.Join(p.dir, "ironseal.toml"))
	if err != nil {
		t.Fatal(err)
	}
	for from, to := range map[string]string{
		`public         = "127.0.0.1:8085"`: `public = "8085"`, `answer-life    = "1h"`: `answer-life = "1s"`,
		`desk-open-to   = "all"`: `desk-open-to = "friends"`, `proxies        = []`: `proxies = ["the front"]`,
		`pace           = 600`: `pace = -1`, `health         = "127.0.0.1:8095"`: `health = "unix:relative.sock"`,
		`connections    = 10000`: `conections = 1`,
	} {
		p.file("ironseal.toml", bytes.Replace(settings, []byte(from), []byte(to), 1))
		key, _, _ := strings.Cut(to, " ")
		if r := p.run("", "serve", "--check"); r.code == 0 || !strings.Contains(r.errors, key) {
			t.Errorf("%s: %+v", to, r)
		}
	}
}

// Systemd hands sockets over, is told when the server is ready, and that it lives.
func TestStartedBySystemd(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	socket, err := l.(*net.TCPListener).File()
	if err != nil {
		t.Fatal(err)
	}
	told := filepath.Join(t.TempDir(), "notify")
	ear, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: told, Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	defer ear.Close()
	cmd := exec.Command("sh", "-c", "LISTEN_PID=$$ WATCHDOG_PID=$$ exec "+program+" serve --desk '' --health ''")
	cmd.Dir, cmd.ExtraFiles = p.dir, []*os.File{socket}
	cmd.Env = append(append(os.Environ(), p.env...), "LISTEN_FDS=1", "LISTEN_FDNAMES=public", "NOTIFY_SOCKET="+told,
		"WATCHDOG_USEC=600000")
	var out safeBuffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { cmd.Process.Kill(); cmd.Wait() }()
	heard := map[string]bool{}
	buffer := make([]byte, 4096)
	ear.SetReadDeadline(time.Now().Add(20 * time.Second))
	for !heard["READY=1"] || !heard["WATCHDOG=1"] {
		n, err := ear.Read(buffer)
		if err != nil {
			t.Fatalf("%v, %v:\n%s", heard, err, out.String())
		}
		heard[string(buffer[:n])] = true
	}
	if code, _ := fetched(t, "http://"+l.Addr().String()+"/services.g1.cer"); code != 200 {
		t.Errorf("by the socket that was handed over: %d", code)
	}
	cmd.Process.Signal(syscall.SIGTERM)
	for !heard["STOPPING=1"] {
		n, err := ear.Read(buffer)
		if err != nil {
			t.Fatalf("%v, %v", heard, err)
		}
		heard[string(buffer[:n])] = true
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("%v\n%s", err, out.String())
	}
}

// Two servers of one estate answer alike: a second after an act, both tell what it did. Servers and acts are killed
// meanwhile; no answer is wrong, and nothing is lost. IRONSEAL_ROUNDS says how many acts of each kind there are.
func TestTwoServersOfOneEstate(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("authority", "export", "services", "--out", "../services.pem")
	issuer := certificateIn(t, filepath.Join(p.dir, "../services.pem"))
	servers := []*running{p.serve("--publish", "--answer"), p.serve("--publish", "--answer")}
	rounds := 4
	if thorough() {
		rounds = 40
	}
	if n, err := strconv.Atoi(os.Getenv("IRONSEAL_ROUNDS")); err == nil {
		rounds = n
	}
	var latest time.Duration
	revoked := map[string]*cert.Certificate{}
	for n := range rounds {
		host := fmt.Sprintf("h%d.ternbay.example", n)
		p.must("request", "draft", host, "--out", "../drafts")
		p.must("sign", "../drafts/"+host+".request.pem", "--template", "web-server", "--by", "services", "--yes")
		p.must("certificate", "export", host, "--out", "../"+host+".pem")
		c := certificateIn(t, filepath.Join(p.dir, "..", host+".pem"))
		for _, s := range servers {
			latest = max(latest, within(t, "issued", s, issuer, c, ocsp.Good))
		}
		if n%3 == 2 { // one of the servers is killed in the middle of whatever it does
			s := servers[n%2]
			s.cmd.Process.Kill()
			s.cmd.Wait()
			servers[n%2] = p.serve("--publish", "--answer")
		}
		p.must("revoke", host, "--reason", "superseded", "--yes")
		for _, s := range servers {
			latest = max(latest, within(t, "revoked", s, issuer, c, ocsp.Revoked))
		}
		revoked[host] = c
		for host, c := range revoked {
			for i, s := range servers {
				if got, ok := s.status(t, issuer, c.Serial); ok && got != ocsp.Revoked {
					t.Errorf("server %d says %s of %s, which was revoked", i, got, host)
				}
			}
		}
	}
	t.Logf("the latest answer came after %v", latest)
	for _, s := range servers {
		eventually(t, "the list has all", func() bool {
			_, text := fetched(t, "http://"+s.public+"/services.g1.crl.pem")
			return entriesIn(text) == rounds
		}, s.out)
		s.stop(t)
	}
	p.must("estate", "check")
	p.must("journal", "verify")
}
