package main

import (
	"bytes"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/ocsp"
)

// running is a server that was started as a person starts it.
type running struct {
	cmd                  *exec.Cmd
	public, desk, health string // addresses
	out                  *safeBuffer
}

// safeBuffer can be read while it is written.
type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

func freeAddress(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// serve starts a server and waits until it answers. A port that another program took meanwhile is no fault of it.
func (p place) serve(args ...string) *running {
	p.t.Helper()
	for try := 0; ; try++ {
		r := &running{public: freeAddress(p.t), desk: freeAddress(p.t), health: freeAddress(p.t), out: &safeBuffer{}}
		all := append([]string{"serve", "--public", r.public, "--desk", r.desk, "--health", r.health}, args...)
		r.cmd = exec.Command(program, all...)
		r.cmd.Dir, r.cmd.Env = p.dir, append(os.Environ(), p.env...)
		r.cmd.Stdout, r.cmd.Stderr = r.out, r.out
		if err := r.cmd.Start(); err != nil {
			p.t.Fatal(err)
		}
		cmd := r.cmd
		p.t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
		taken := false
		eventually(p.t, "it serves", func() bool {
			taken = strings.Contains(r.out.String(), "in use")
			return taken || r.ready()
		}, r.out)
		if !taken {
			return r
		}
		if try == 5 {
			p.t.Fatalf("no port is free:\n%s", r.out)
		}
	}
}

// ready reports whether it answers.
func (r *running) ready() bool {
	q, err := http.Get("http://" + r.health + "/readyz")
	if err == nil {
		q.Body.Close()
	}
	return err == nil
}

// eventually waits until something holds.
func eventually(t testing.TB, what string, holds func() bool, said fmt.Stringer) {
	t.Helper()
	for until := time.Now().Add(20 * time.Second); !holds(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("%s: not so after 20 s:\n%s", what, said)
		}
	}
}

func fetched(t testing.TB, address string) (int, string) {
	t.Helper()
	r, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	if err != nil {
		t.Fatal(err)
	}
	return r.StatusCode, string(body)
}

// status asks a server for the status of a certificate.
func (r *running) status(t testing.TB, issuer *cert.Certificate, serial cert.Serial) (ocsp.Status, bool) {
	t.Helper()
	id, err := ocsp.IDOf(crypto.SHA256, issuer, serial)
	if err != nil {
		t.Fatal(err)
	}
	asked, err := ocsp.Request{Asked: []ocsp.ID{id}}.DER()
	if err != nil {
		t.Fatal(err)
	}
	q, err := http.Post("http://"+r.public+"/ocsp", "application/ocsp-request", bytes.NewReader(asked))
	if err != nil {
		return 0, false
	}
	defer q.Body.Close()
	der, err := io.ReadAll(q.Body)
	if err != nil {
		return 0, false
	}
	a, err := ocsp.ReadResponse(der)
	if err != nil {
		t.Errorf("no answer of the protocol: %v", err)
		return 0, false
	}
	if a.Status != ocsp.Successful {
		return 0, false
	}
	one, _, err := a.Judge(ocsp.Expectation{Issuer: issuer, Serial: serial, Now: time.Now(), Late: time.Minute})
	if err != nil {
		t.Errorf("an answer that nobody is to believe: %v", err)
	}
	return one.Status, true
}

// certificateIn reads the first certificate of a file.
func certificateIn(t testing.TB, path string) *cert.Certificate {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	found, err := bundle.Read(data)
	if err != nil {
		t.Fatal(err)
	}
	c, err := cert.Read(found.Objects[0].DER)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// A server answers on every system: a list, OCSP, a page of the desk, and its state.
func TestAServerAnswers(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("authority", "export", "services", "--out", "../services.pem")
	issuer := certificateIn(t, filepath.Join(p.dir, "../services.pem"))
	n := p.send("pier.ternbay.example", []string{"pier.ternbay.example"})
	p.must("sign", n, "--template", "web-server", "--by", "services", "--yes")
	p.must("certificate", "export", n, "--out", "../pier.pem")
	c := certificateIn(t, filepath.Join(p.dir, "../pier.pem"))
	r := p.serve("--publish", "--answer")
	within(t, "issued", r, issuer, c, ocsp.Good)
	p.must("revoke", n, "--reason", "superseded", "--yes")
	within(t, "revoked", r, issuer, c, ocsp.Revoked)
	eventually(t, "the list has it", func() bool {
		_, text := fetched(t, "http://"+r.public+"/services.g1.crl.pem")
		return entriesIn(text) == 1
	}, r.out)
	root, err := os.ReadFile(filepath.Join(p.dir, "../root.pem"))
	if err != nil {
		p.must("authority", "export", "root", "--out", "../root.pem")
		if root, err = os.ReadFile(filepath.Join(p.dir, "../root.pem")); err != nil {
			t.Fatal(err)
		}
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(root)
	client := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool,
		ServerName: "localhost"}},
		Timeout: 20 * time.Second}
	page, err := client.Get("https://" + r.desk + "/")
	if err != nil {
		t.Fatal(err)
	}
	defer page.Body.Close()
	if page.StatusCode != http.StatusOK {
		t.Errorf("the desk: %s", page.Status)
	}
	if code, text := fetched(t, "http://"+r.health+"/healthz"); code != http.StatusOK {
		t.Errorf("%d %s", code, text)
	}
}

// within wants a status soon, and tells how long it took: less than 0.2 s on an idle machine. Beside all other tests, a
// slow disk can hold up the revocation itself for seconds.
func within(t *testing.T, what string, s *running, issuer, c *cert.Certificate, want ocsp.Status) time.Duration {
	t.Helper()
	begun := time.Now()
	eventually(t, what, func() bool {
		got, ok := s.status(t, issuer, c.Serial)
		return ok && got == want
	}, s.out)
	took := time.Since(begun)
	if took > 15*time.Second {
		t.Errorf("%s: told after %v", what, took)
	}
	return took
}

// entriesIn counts what a list revokes.
func entriesIn(text string) int {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return -1
	}
	l, err := x509.ParseRevocationList(block.Bytes)
	if err != nil {
		return -1
	}
	return len(l.RevokedCertificateEntries)
}
