package main

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	mrand "math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/acme"

	"ironseal/internal/demo/network"
)

// quay is an estate where machines enrol at two servers, that are killed again and again.
type quay struct {
	place
	names   *network.Network
	servers [2]*running
	at      [2]string // where machines reach each
	code    string    // for EST
	binding *acme.ExternalAccountBinding

	mu   sync.Mutex
	got  map[string]string // certificates that clients have, by serial: for whom
	busy atomic.Int64      // how many enrolments began
}

// insecurely is a client that does not look at who answers.
func insecurely() *http.Client {
	return &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
}

func newQuay(t *testing.T, machines int) *quay {
	t.Helper()
	q := &quay{place: harbour(t), got: map[string]string{}}
	var err error
	if q.names, err = network.New(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(q.names.Close)
	gates := "based-on = \"web-server\"\ntitle = \"Gate\"\n[unattended]\nby = [\"est\", \"acme\"]\nauthority = " +
		"\"services\"\nnames = [\"dns:*.quay.ternbay.example\"]\nlifetime = \"30d\"\nper-day = 100000\n"
	if err := os.WriteFile(filepath.Join(q.dir, "templates", "gates.toml"), []byte(gates), 0o644); err != nil {
		t.Fatal(err)
	}
	web, _ := q.names.Ports()
	file := filepath.Join(q.dir, "ironseal.toml")
	text, err := os.ReadFile(file)
	if err == nil {
		err = os.WriteFile(file, []byte(strings.NewReplacer(`challenge-resolver  = ""`,
			fmt.Sprintf("challenge-resolver  = %q", q.names.Resolver()), "challenge-http-port = 80",
			fmt.Sprint("challenge-http-port = ", web), "challenge-local     = false", "challenge-local     = true",
			"pace           = 600", "pace           = 0").Replace(string(text))), 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	var made struct{ Code, KeyID, Key string }
	n := fmt.Sprint(machines)
	if err := json.Unmarshal([]byte(q.must("enrol", "code", "gates", "--template", "gates", "--names",
		"quay.ternbay.example", "--count", n, "--json")), &made); err != nil {
		t.Fatal(err)
	}
	q.code = made.Code
	var account struct {
		Key string `json:"key"`
		ID  string `json:"key_id"`
	}
	if err := json.Unmarshal([]byte(q.must("enrol", "account", "web", "--template", "gates", "--names",
		"quay.ternbay.example", "--count", n, "--json")), &account); err != nil {
		t.Fatal(err)
	}
	secret, err := base64.RawURLEncoding.DecodeString(account.Key)
	if err != nil {
		t.Fatal(err)
	}
	q.binding = &acme.ExternalAccountBinding{KID: account.ID, Key: secret}
	for i := range q.servers {
		q.at[i] = freeAddress(t)
		q.start(i)
	}
	return q
}

func (q *quay) start(i int) {
	q.t.Helper()
	r := q.servers[i]
	if r == nil {
		r = &running{health: freeAddress(q.t), out: &safeBuffer{}}
		q.servers[i] = r
	}
	cmd := exec.Command(program, "serve", "--public", "", "--desk", "", "--health", r.health, "--machines", q.at[i],
		"--sign=services")
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = q.dir, append(os.Environ(), q.env...), r.out, r.out
	if err := cmd.Start(); err != nil {
		q.t.Fatal(err)
	}
	q.t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	r.cmd = cmd
	eventually(q.t, "it serves", r.ready, r.out)
}

// has keeps a certificate that a client got.
func (q *quay) has(der []byte, host string, k crypto.Signer) {
	c, err := x509.ParseCertificate(der)
	if err != nil || len(c.DNSNames) != 1 || c.DNSNames[0] != host ||
		!k.Public().(*ecdsa.PublicKey).Equal(c.PublicKey) {
		q.t.Errorf("%s got %v, %v", host, c, err)
		return
	}
	serial := c.SerialNumber.Text(16)
	serial = strings.Repeat("0", len(serial)%2) + serial
	q.mu.Lock()
	defer q.mu.Unlock()
	q.got[serial] = host
}

func (q *quay) request(host string) (crypto.Signer, []byte) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		q.t.Error(err)
		return nil, nil
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
		Subject: pkix.Name{CommonName: host}, DNSNames: []string{host}}, k)
	if err != nil {
		q.t.Error(err)
	}
	return k, der
}

// byEST enrols a machine: it sends the same request until it has its certificate.
func (q *quay) byEST(ctx context.Context, at, host string) {
	k, der := q.request(host)
	for ctx.Err() == nil {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+at+"/.well-known/est/gates/simpleenroll",
			strings.NewReader(base64.StdEncoding.EncodeToString(der)))
		if err != nil {
			q.t.Error(err)
			return
		}
		r.SetBasicAuth("gate", q.code)
		got, err := insecurely().Do(r)
		if err != nil {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		body, err := io.ReadAll(got.Body)
		got.Body.Close()
		switch {
		case err != nil, got.StatusCode == http.StatusServiceUnavailable, got.StatusCode == http.StatusAccepted:
			time.Sleep(50 * time.Millisecond)
		case got.StatusCode != http.StatusOK:
			q.t.Errorf("%s: %d %s", host, got.StatusCode, body)
			return
		default:
			p7, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(string(body), "\n", ""))
			if err != nil {
				q.t.Error(err)
				return
			}
			at := bytes.Index(p7[40:], []byte{0x30, 0x82}) // the certificate is the only long sequence in there
			q.has(p7[40+at:][:4+int(p7[42+at])<<8+int(p7[43+at])], host, k)
			return
		}
	}
}

// byACME enrols a machine with an account of its own; what a kill broke off is taken up where it stands.
func (q *quay) byACME(ctx context.Context, at, host string) {
	account, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		q.t.Error(err)
		return
	}
	c := &acme.Client{Key: account, DirectoryURL: "https://" + at + "/acme/gates/directory", HTTPClient: insecurely(),
		RetryBackoff: func(n int, _ *http.Request, _ *http.Response) time.Duration {
			if n > 5 {
				return -1
			}
			return 50 * time.Millisecond
		}}
	again := func(do func() error) bool {
		for ctx.Err() == nil {
			err := do()
			if err == nil {
				return true
			}
			time.Sleep(50 * time.Millisecond)
		}
		return false
	}
	k, der := q.request(host)
	var order *acme.Order
	if !again(func() error {
		_, err := c.Register(ctx, &acme.Account{ExternalAccountBinding: q.binding}, acme.AcceptTOS)
		if err == acme.ErrAccountAlreadyExists {
			return nil
		}
		return err
	}) || !again(func() (err error) { order, err = c.AuthorizeOrder(ctx, acme.DomainIDs(host)); return err }) {
		return
	}
	again(func() error {
		z, err := c.GetAuthorization(ctx, order.AuthzURLs[0])
		if err != nil || z.Status == acme.StatusValid {
			return err
		}
		ch := z.Challenges[0]
		text, err := c.HTTP01ChallengeResponse(ch.Token)
		if err != nil {
			return err
		}
		q.names.Page(host, c.HTTP01ChallengePath(ch.Token), func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, text)
		})
		if _, err := c.Accept(ctx, ch); err != nil {
			return err
		}
		_, err = c.WaitAuthorization(ctx, z.URI)
		return err
	})
	again(func() error {
		now, err := c.GetOrder(ctx, order.URI)
		if err != nil {
			return err
		}
		var chain [][]byte
		if now.Status == acme.StatusValid {
			chain, err = c.FetchCert(ctx, now.CertURL, false)
		} else {
			chain, _, err = c.CreateOrderCert(ctx, now.FinalizeURL, der, false)
		}
		if err == nil {
			q.has(chain[0], host, k)
		}
		return err
	})
}

// Machines enrol at two servers of one estate, which are killed again and again. Every certificate that a machine has
// is
// on record, none was signed twice, and every order ends. IRONSEAL_KILLS says how many kills there are; ten machines
// enrol for each.
func TestMachinesEnrolWhileServersAreKilled(t *testing.T) {
	long(t)
	kills := 12
	if n, err := strconv.Atoi(os.Getenv("IRONSEAL_KILLS")); err == nil {
		kills = n
	}
	machines := int64(10 * kills)
	q := newQuay(t, int(machines))
	ctx, stop := context.WithTimeout(context.Background(), 9*time.Minute)
	defer stop()
	var clients sync.WaitGroup
	for n := range 8 {
		clients.Go(func() {
			for ctx.Err() == nil {
				i := q.busy.Add(1)
				if i > machines {
					return
				}
				host := fmt.Sprintf("gate-%d.quay.ternbay.example", i)
				if at := q.at[n%2]; n < 4 {
					q.byEST(ctx, at, host)
				} else {
					q.byACME(ctx, at, host)
				}
			}
		})
	}
	done := make(chan struct{})
	go func() { clients.Wait(); close(done) }()
	random := mrand.New(mrand.NewPCG(22, 5))
	for n := 0; n < kills; n++ {
		until := machines * int64(n) / int64(kills) // spread over the enrolments
		for q.busy.Load() < until {
			select {
			case <-done:
				until = 0
			case <-time.After(10 * time.Millisecond):
			}
		}
		time.Sleep(time.Duration(random.IntN(100)) * time.Millisecond)
		i := n % 2
		q.servers[i].cmd.Process.Kill()
		q.servers[i].cmd.Wait()
		q.start(i)
	}
	<-done
	q.settled(machines)
}

// settled compares what clients have with what is on record.
func (q *quay) settled(machines int64) {
	q.t.Helper()
	if int64(len(q.got)) != machines {
		q.t.Errorf("%d of %d machines have a certificate", len(q.got), machines)
	}
	time.Sleep(1500 * time.Millisecond) // what machines fetched is recorded
	var list []struct{ Request, Title, Serial string }
	if err := json.Unmarshal([]byte(q.must("certificate", "list", "--json")), &list); err != nil {
		q.t.Fatal(err)
	}
	by, of, on := map[string]int{}, map[string]int{}, map[string]bool{}
	for _, c := range list {
		if strings.HasPrefix(c.Title, "gate-") {
			by[c.Request]++
			of[c.Title]++
			on[c.Serial] = true
		}
	}
	for what, n := range by {
		if n > 1 {
			q.t.Errorf("%s was signed %d times", what, n)
		}
	}
	for host, n := range of {
		if n > 1 {
			q.t.Errorf("%s has %d certificates", host, n)
		}
	}
	for serial, host := range q.got {
		if !on[serial] {
			q.t.Errorf("the certificate of %s is not on record: %s", host, serial)
		}
	}
	var waiting []struct{ Request, Title string }
	if err := json.Unmarshal([]byte(q.must("request", "list", "--json")), &waiting); err != nil {
		q.t.Fatal(err)
	}
	for _, w := range waiting {
		if strings.HasPrefix(w.Title, "gate-") {
			q.t.Errorf("%s of %s did not end", w.Request, w.Title)
		}
	}
	if r := q.run("", "estate", "check"); r.code != 0 {
		q.t.Errorf("%+v", r)
	}
	q.t.Logf("%d machines, %d certificates on record", machines, len(on))
}
