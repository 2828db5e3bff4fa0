package httpd_test

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ops/service"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/disk/inmemory"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/httpd"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/internal/store/onserver"
	"ironseal/pki/bundle"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

var ctx = context.Background()

func TestMain(m *testing.M) {
	inmemory.Prefer()
	os.Exit(onserver.Run(m))
}

// fixed answers every question with one passphrase.
type fixed string

func (f fixed) Passphrase(context.Context, keystore.Question) ([]byte, bool, error) {
	return []byte(f), true, nil
}

func world() estate.Env {
	return estate.Env{Actor: estate.Identity{Name: "tester"}, Pass: fixed("tern and gull")}
}

// harbour is an estate that is served.
type harbour struct {
	t      testing.TB
	dir    string
	e      *estate.Estate // as the administrator has it open
	s      *service.Service
	public *httptest.Server
	desk   *httptest.Server
	health *httptest.Server
	log    *lines
	logger *slog.Logger
	level  slog.LevelVar // of what is logged
}

// lines keeps what was logged.
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

// newEstate makes an estate with a root, an authority below it, and lists.
func newEstate(t testing.TB) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "harbour")
	e, err := estate.Create(ctx, dir, estate.Options{Organisation: "Tern Bay Ferries", Country: "NO",
		Address: "http://pki.ternbay.example/lists", Records: onserver.Records(t)}, world())
	if err != nil {
		t.Fatal(err)
	}
	e.Close()
	change(t, dir, "encryption-memory = 64", "encryption-memory = 8", `authority-key = "rsa-4096"`,
		`authority-key = "ecdsa-p256"`, `ocsp           = ""`, `ocsp           = "http://pki.ternbay.example/status"`)
	e = reopen(t, dir)
	for _, ask := range []authorities.Ask{{Handle: "root"}, {Handle: "services", Under: "root"}} {
		p, err := authorities.PlanNew(ctx, e, ask)
		if err == nil {
			_, _, err = authorities.Create(ctx, e, p)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	publish(t, e)
	return dir
}

// change replaces texts in the settings.
func change(t testing.TB, dir string, pairs ...string) {
	t.Helper()
	path := filepath.Join(dir, estate.SettingsFile)
	text, err := os.ReadFile(path)
	if err == nil {
		err = os.WriteFile(path, []byte(strings.NewReplacer(pairs...).Replace(string(text))), 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
}

func reopen(t testing.TB, dir string) *estate.Estate {
	t.Helper()
	e, err := estate.Open(ctx, dir, world())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	return e
}

// serve serves an estate of its own, changed by pairs of texts in its settings.
func serve(t testing.TB, pairs ...string) *harbour {
	t.Helper()
	dir := newEstate(t)
	change(t, dir, append([]string{"answer         = []", `answer         = ["services"]`}, pairs...)...)
	return serving(t, dir)
}

// serving serves an estate that is there.
func serving(t testing.TB, dir string) *harbour {
	t.Helper()
	h := &harbour{t: t, dir: dir, e: reopen(t, dir), log: &lines{}}
	h.level.Set(slog.LevelDebug)
	h.logger = slog.New(slog.NewTextHandler(h.log, &slog.HandlerOptions{Level: &h.level}))
	var err error
	if h.s, err = service.Open(ctx, service.Options{Dir: dir, Env: world(), Log: h.logger}); err != nil {
		t.Fatal(err)
	}
	if err := h.s.Begin(ctx); err != nil {
		t.Fatal(err)
	}
	running, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		h.s.Run(running)
		close(done)
	}()
	srv, err := httpd.New(h.s, h.logger)
	if err != nil {
		t.Fatal(err)
	}
	all := srv.Handlers()
	h.public = httptest.NewServer(all[httpd.NamePublic])
	h.desk = httptest.NewServer(all[httpd.NameDesk])
	h.health = httptest.NewServer(all[httpd.NameHealth])
	t.Cleanup(func() {
		for _, s := range []*httptest.Server{h.public, h.desk, h.health} {
			s.Close()
		}
		stop()
		<-done
		if err := h.s.Close(); err != nil {
			t.Error(err)
		}
	})
	return h
}

// soon waits until something holds.
func soon(t testing.TB, what string, holds func() bool) {
	t.Helper()
	within(t, time.Minute, what, holds)
}

// within waits longer.
func within(t testing.TB, most time.Duration, what string, holds func() bool) {
	t.Helper()
	for until := time.Now().Add(most); !holds(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("%s: not so after %v", what, most)
		}
	}
}

// get fetches an address without following redirections.
func get(t testing.TB, address string, header ...string) (*http.Response, []byte) {
	t.Helper()
	return do(t, http.MethodGet, address, nil, header...)
}

var client = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	Timeout: 20 * time.Second}

func do(t testing.TB, method, address string, body io.Reader, header ...string) (*http.Response, []byte) {
	t.Helper()
	q, err := http.NewRequest(method, address, body)
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i+1 < len(header); i += 2 {
		q.Header.Set(header[i], header[i+1])
	}
	r, err := client.Do(q)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	data, err := io.ReadAll(r.Body)
	if err != nil {
		t.Fatal(err)
	}
	return r, data
}

// publish signs every list again.
func publish(t testing.TB, e *estate.Estate) {
	t.Helper()
	p, err := publishing.PlanLists(ctx, e, publishing.Ask{All: true})
	if err == nil {
		_, err = publishing.Sign(ctx, e, p)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// issue signs certificates for hosts.
func issue(t testing.TB, e *estate.Estate, hosts ...string) (out []estate.CertificateRecord) {
	t.Helper()
	for _, host := range hosts {
		der := specimen.Request(t, nil, "CN="+host, []string{host}).Raw
		got, _, faults := intake.Receive(ctx, e, []intake.Input{{Name: host, Data: bundle.PEM(bundle.Request,
			der)}}, "yard")
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		number := fmt.Sprintf("R%d", got[0].Record.Number)
		sign(t, e, number)
		c, _, err := e.FindCertificate(ctx, number)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, c)
	}
	return out
}

// sign signs a request as an administrator does.
func sign(t testing.TB, e *estate.Estate, number string) {
	t.Helper()
	sheet, err := signing.Plan(ctx, e, signing.SignAsk{Request: number, Template: "web-server", By: "services"})
	if err != nil {
		t.Fatal(err)
	}
	if err := signing.Sign(ctx, e, []*signing.Sheet{sheet}, func(r signing.SignResult) {
		if r.Err != nil {
			t.Error(r.Err)
		}
	}); err != nil {
		t.Fatal(err)
	}
}

func revoke(t testing.TB, e *estate.Estate, why revocation.Reason, serial string) {
	t.Helper()
	p, err := revoking.PlanRevoke(ctx, e, revoking.Ask{Names: []string{serial}, Reason: why, Because: "a test",
		Since: e.Now().AddDate(0, 0, -1)})
	if err == nil {
		_, err = revoking.Revoke(ctx, e, p)
	}
	if err != nil {
		t.Fatal(err)
	}
}

func parsed(t testing.TB, der []byte) *x509.Certificate {
	t.Helper()
	c, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func contextWithCancel() (context.Context, func()) { return context.WithCancel(ctx) }

// lockRecords begins a change of the records and leaves it open until release is called.
func lockRecords(t testing.TB, h *harbour) (release func()) {
	t.Helper()
	begun, end, done := make(chan bool), make(chan bool), make(chan bool)
	go func() {
		defer close(done)
		_, err := h.e.Act(ctx, func(store.Tx) ([]event.Record, error) {
			close(begun)
			<-end
			return nil, errors.New("nothing is to be recorded")
		})
		if err == nil {
			t.Error("the change was recorded")
		}
	}()
	<-begun
	return func() {
		close(end)
		<-done
	}
}
