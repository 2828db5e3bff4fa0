package main

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ocsp"
)

// day is a server under load, and what its clients may be told.
type day struct {
	place
	issuer *cert.Certificate
	server *running

	mu      sync.Mutex
	known   []*cert.Certificate
	begun   map[string]bool      // a revocation was begun: the answer may be revoked
	revoked map[string]time.Time // it was recorded at the latest then: the answer has to be revoked
}

// A day under load: fifty clients ask while certificates are signed and revoked and lists are published, and the server
// and the acts are killed again and again. No answer is wrong, nothing is lost, and no act is done twice.
// IRONSEAL_KILLS says how many kills there are.
func TestADayUnderLoad(t *testing.T) {
	long(t)
	kills := 30
	if n, err := strconv.Atoi(os.Getenv("IRONSEAL_KILLS")); err == nil {
		kills = n
	}
	d := &day{place: harbour(t), begun: map[string]bool{}, revoked: map[string]time.Time{}}
	d.must("authority", "export", "services", "--out", "../services.pem")
	d.issuer = certificateIn(t, filepath.Join(d.dir, "../services.pem"))
	d.server = d.serve("--publish", "--answer")
	ctx, stop := context.WithCancel(context.Background())
	var clients sync.WaitGroup
	for range 50 {
		clients.Go(func() { d.ask(ctx) })
	}
	random := rand.New(rand.NewPCG(21, 50))
	for n := range kills {
		d.act(n, random)
	}
	stop()
	clients.Wait()
	d.settled()
}

// ask asks about certificates and fetches the list, again and again.
func (d *day) ask(ctx context.Context) {
	random := rand.New(rand.NewPCG(rand.Uint64(), 1))
	last := int64(0)
	for ctx.Err() == nil {
		time.Sleep(time.Duration(random.IntN(50)) * time.Millisecond)
		d.mu.Lock()
		if len(d.known) == 0 {
			d.mu.Unlock()
			continue
		}
		c := d.known[random.IntN(len(d.known))]
		since, must := d.revoked[c.SerialHex()]
		d.mu.Unlock()
		asked := time.Now()
		got, ok := d.server.status(d.t, d.issuer, c.Serial)
		d.mu.Lock()
		may := d.begun[c.SerialHex()]
		d.mu.Unlock()
		switch {
		case !ok:
		case got == ocsp.Good && must && asked.After(since.Add(3*time.Second)): // a second on an idle machine
			d.t.Errorf("good, %v after it was revoked", asked.Sub(since))
		case got == ocsp.Revoked && !may, got == ocsp.Unknown && asked.After(since.Add(3*time.Second)):
			d.t.Errorf("%s, and it is not", got)
		}
		if number := d.number(); number != 0 && number < last {
			d.t.Errorf("list %d came after list %d", number, last)
		} else if number != 0 {
			last = number
		}
	}
}

// number is the number of the list that is served; 0 where none is.
func (d *day) number() int64 {
	r, err := http.Get("http://" + d.server.public + "/services.g1.crl")
	if err != nil {
		return 0
	}
	defer r.Body.Close()
	der, err := io.ReadAll(r.Body)
	if err != nil || r.StatusCode != http.StatusOK {
		return 0
	}
	l, err := x509.ParseRevocationList(der)
	if err != nil {
		d.t.Errorf("a list that cannot be parsed: %v", err)
		return 0
	}
	return l.Number.Int64()
}

// act signs one certificate and revokes another, and kills the server or one of the two acts.
func (d *day) act(n int, random *rand.Rand) {
	host := fmt.Sprintf("h%d.ternbay.example", n)
	d.must("request", "draft", host, "--out", "../drafts")
	file := "../drafts/" + host + ".request.pem"
	d.must("request", "receive", file)
	which := n % 3
	if which == 0 {
		d.killed(random, "sign", file, "--template", "web-server", "--by", "services", "--yes")
	}
	if r := d.run("", "sign", file, "--template", "web-server", "--by", "services",
		"--yes"); r.code != 0 && which != 0 {
		d.t.Errorf("%+v", r)
	}
	d.must("certificate", "export", host, "--out", "../"+host+".pem")
	c := certificateIn(d.t, filepath.Join(d.dir, "..", host+".pem"))
	time.Sleep(300 * time.Millisecond) // a client that asks earlier may be told that it is unknown
	d.mu.Lock()
	d.known = append(d.known, c)
	old := d.known[random.IntN(len(d.known))]
	d.begun[old.SerialHex()] = true
	d.mu.Unlock()
	if which == 1 {
		d.killed(random, "revoke", old.SerialHex(), "--reason", "superseded", "--yes")
	}
	d.run("", "revoke", old.SerialHex(), "--reason", "superseded", "--yes") // it may be revoked already
	d.mu.Lock()
	if _, before := d.revoked[old.SerialHex()]; !before {
		d.revoked[old.SerialHex()] = time.Now()
	}
	d.mu.Unlock()
	if which == 2 {
		d.server.cmd.Process.Kill()
		d.server.cmd.Wait()
		d.restart()
	}
}

// restart starts the server again, at the same addresses.
func (d *day) restart() {
	cmd := exec.Command(program, "serve", "--publish", "--answer", "--public", d.server.public, "--desk", d.server.desk,
		"--health", d.server.health)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = d.dir, append(os.Environ(), d.env...), d.server.out, d.server.out
	if err := cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	d.t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	d.server.cmd = cmd
	eventually(d.t, "it serves again", d.server.ready, d.server.out)
}

// killed runs a command and kills it at some moment.
func (d *day) killed(random *rand.Rand, args ...string) {
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = d.dir, append(os.Environ(), d.env...)
	if err := cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	time.Sleep(time.Duration(random.IntN(120)) * time.Millisecond)
	cmd.Process.Signal(syscall.SIGKILL)
	cmd.Wait()
}

// settled checks what is left of the day.
func (d *day) settled() {
	d.t.Helper()
	eventually(d.t, "the list has all", func() bool {
		_, text := fetched(d.t, "http://"+d.server.public+"/services.g1.crl.pem")
		return entriesIn(text) == len(d.revoked)
	}, d.server.out)
	d.server.stop(d.t)
	var list []struct{ Request, State, Serial string }
	if err := json.Unmarshal([]byte(d.must("certificate", "list", "--json")), &list); err != nil {
		d.t.Fatal(err)
	}
	of := map[string]int{}
	for _, c := range list {
		if c.Request != "" {
			of[c.Request]++
		}
	}
	for request, n := range of {
		if n > 1 {
			d.t.Errorf("%s was signed %d times", request, n)
		}
	}
	d.must("estate", "check")
	d.must("journal", "verify")
}
