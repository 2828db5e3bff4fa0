package httpd_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/demo/network"
	"ironseal/internal/httpd"
)

// yard is a server in memory, whose records are on a disk.
type yard struct {
	*harbour
	handler http.Handler
	names   *network.Network
}

func newYard(b *testing.B) yard {
	b.Helper()
	b.Setenv("TMPDIR", "/var/tmp")
	w, err := network.New()
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(w.Close)
	web, _ := w.Ports()
	dir := newEstate(b)
	change(b, dir, "sign           = []", `sign           = ["services"]`, `machines       = ""`,
		`machines       = "127.0.0.1:0"`, `challenge-resolver  = ""`, `challenge-resolver  = "`+w.Resolver()+`"`,
		"challenge-http-port = 80", fmt.Sprint("challenge-http-port = ", web), "challenge-local     = false",
		"challenge-local     = true", "pace           = 600", "pace           = 0")
	if err := os.WriteFile(filepath.Join(dir, "templates", "gates.toml"), []byte(strings.Replace(gates,
		"per-day   = 4", "per-day   = 1000000", 1)), 0o644); err != nil {
		b.Fatal(err)
	}
	y := yard{harbour: serving(b, dir), names: w}
	y.level.Set(100)
	srv, err := httpd.New(y.s, y.logger)
	if err != nil {
		b.Fatal(err)
	}
	y.handler = srv.Handlers()[httpd.NameMachines]
	return y
}

// fromAll runs something a number of times, from eight clients at once, and returns the rate.
func fromAll(b *testing.B, times int, do func(n int) error) (perSecond float64) {
	b.Helper()
	var all sync.WaitGroup
	var next atomic.Int64
	begun := time.Now()
	for range connections {
		all.Go(func() {
			for {
				n := next.Add(1)
				if n > int64(times) {
					return
				}
				if err := do(int(n)); err != nil {
					b.Error(err)
					return
				}
			}
		})
	}
	all.Wait()
	return float64(times) / time.Since(begun).Seconds()
}

func hostRequest(n int) (string, []byte, error) {
	host := fmt.Sprintf("g%d.quay.ternbay.example", n)
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", nil, err
	}
	der, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: host},
			DNSNames: []string{host}}, k)
	return host, der, err
}

// raws does for each of a number of requests what no server can do without: it verifies the request, signs a
// certificate, verifies it, and puts both on a disk.
func raws(b *testing.B, requests [][]byte) float64 {
	b.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.TempDir(), "raw.db")+
		"?_pragma=journal_mode(wal)&_pragma=synchronous(full)&_pragma=busy_timeout(10000)&_txlock=immediate")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE made (request BLOB, certificate BLOB)"); err != nil {
		b.Fatal(err)
	}
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "raw"}}
	return fromAll(b, len(requests), func(n int) error {
		r, err := x509.ParseCertificateRequest(requests[n-1])
		if err == nil {
			err = r.CheckSignature()
		}
		if err != nil {
			return err
		}
		t := &x509.Certificate{SerialNumber: big.NewInt(int64(n)), Subject: r.Subject, DNSNames: r.DNSNames,
			NotAfter: time.Now().Add(time.Hour)}
		der, err := x509.CreateCertificate(rand.Reader, t, ca, r.PublicKey, k) // it verifies what it signed
		if err != nil {
			return err
		}
		_, err = db.Exec("INSERT INTO made VALUES (?, ?)", requests[n-1], der)
		return err
	})
}

func BenchmarkEnrolEST(b *testing.B) {
	y := newYard(b)
	_, code, err := enrol.MakeCode(ctx, y.e, enrol.CodeAsk{Name: "gates", Template: "gates",
		Names: []string{"quay.ternbay.example"}, Count: 100_000, Until: y.e.Now().Add(time.Hour)})
	if err != nil {
		b.Fatal(err)
	}
	const times = 2000
	requests := make([][]byte, times)
	for n := range requests {
		if _, requests[n], err = hostRequest(n); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		served := fromAll(b, times, func(n int) error {
			q := httptest.NewRequest(http.MethodPost, "http://example.com/.well-known/est/gates/simpleenroll",
				strings.NewReader(base64.StdEncoding.EncodeToString(requests[n-1])))
			q.SetBasicAuth("gate", code)
			a := httptest.NewRecorder()
			y.handler.ServeHTTP(a, q)
			if a.Code != http.StatusOK {
				return fmt.Errorf("%d %s", a.Code, a.Body)
			}
			return nil
		})
		raw := raws(b, requests)
		b.ReportMetric(served, "enrolments/s")
		b.ReportMetric(raw, "raw/s")
		b.ReportMetric(served/raw, "of-raw")
	}
}

// quick is a client of ACME that does no more than it must.
type quick struct {
	handler http.Handler
	key     *ecdsa.PrivateKey
	jwk     string
	kid     string
	nonce   string
	print   string // the thumbprint of its key
}

func newQuick(h http.Handler) (*quick, error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	q := &quick{handler: h, key: k}
	j := jwk(k)
	q.jwk = fmt.Sprintf(`{"crv":"P-256","kty":"EC","x":"%s","y":"%s"}`, j["x"], j["y"])
	sum := sha256.Sum256([]byte(q.jwk))
	q.print = base64.RawURLEncoding.EncodeToString(sum[:])
	a := httptest.NewRecorder()
	h.ServeHTTP(a, httptest.NewRequest(http.MethodHead, "https://example.com/acme/gates/new-nonce", nil))
	q.nonce = a.Header().Get("Replay-Nonce")
	return q, nil
}

func b64(b []byte) string { return base64.RawURLEncoding.EncodeToString(b) }

func (q *quick) post(url, payload string, into any) (http.Header, error) {
	who := `"kid":"` + q.kid + `"`
	if q.kid == "" {
		who = `"jwk":` + q.jwk
	}
	header := b64(fmt.Appendf(nil, `{"alg":"ES256","nonce":"%s","url":"%s",%s}`, q.nonce, url, who))
	body := b64([]byte(payload))
	sum := sha256.Sum256([]byte(header + "." + body))
	r, s, err := ecdsa.Sign(rand.Reader, q.key, sum[:])
	if err != nil {
		return nil, err
	}
	sig := append(r.FillBytes(make([]byte, 32)), s.FillBytes(make([]byte, 32))...)
	h := httptest.NewRequest(http.MethodPost, url, strings.NewReader(fmt.Sprintf(
		`{"protected":"%s","payload":"%s","signature":"%s"}`, header, body, b64(sig))))
	h.Header.Set("Content-Type", "application/jose+json")
	a := httptest.NewRecorder()
	q.handler.ServeHTTP(a, h)
	if n := a.Header().Get("Replay-Nonce"); n != "" {
		q.nonce = n
	}
	if a.Code >= 300 {
		return nil, fmt.Errorf("%s: %d %s", url, a.Code, a.Body)
	}
	if into != nil {
		err = json.Unmarshal(a.Body.Bytes(), into)
	}
	return a.Header(), err
}

// flow is a whole enrolment: account, order, http-01, finalize, certificate.
func (q *quick) flow(w *network.Network, id string, secret []byte, n int) error {
	const base = "https://example.com/acme/gates/"
	header := b64(fmt.Appendf(nil, `{"alg":"HS256","kid":"%s","url":"%s"}`, id, base+"new-account"))
	mac := hmac.New(sha256.New, secret)
	io.WriteString(mac, header+"."+b64([]byte(q.jwk)))
	h, err := q.post(base+"new-account", fmt.Sprintf(`{"externalAccountBinding":{"protected":"%s","payload":"%s",`+
		`"signature":"%s"}}`, header, b64([]byte(q.jwk)), b64(mac.Sum(nil))), nil)
	if err != nil {
		return err
	}
	q.kid = h.Get("Location")
	host, der, err := hostRequest(n)
	if err != nil {
		return err
	}
	var order struct {
		Authorizations        []string
		Finalize, Certificate string
	}
	if _, err := q.post(base+"new-order", `{"identifiers":[{"type":"dns","value":"`+host+`"}]}`, &order); err != nil {
		return err
	}
	var z struct {
		Challenges []struct{ Type, URL, Token string }
	}
	if _, err := q.post(order.Authorizations[0], "", &z); err != nil {
		return err
	}
	ch := z.Challenges[0]
	w.Page(host, "/.well-known/acme-challenge/"+ch.Token, func(a http.ResponseWriter, _ *http.Request) {
		io.WriteString(a, ch.Token+"."+q.print)
	})
	if _, err := q.post(ch.URL, "{}", nil); err != nil {
		return err
	}
	if _, err := q.post(order.Finalize, `{"csr":"`+b64(der)+`"}`, &order); err != nil {
		return err
	}
	_, err = q.post(order.Certificate, "", nil)
	return err
}

// plainly answers a flow without records: it verifies what is signed, fetches the page of the challenge, and signs.
type plainly struct {
	names *network.Network
	key   *ecdsa.PrivateKey
	ca    *x509.Certificate
	keys  sync.Map
	hosts sync.Map
}

func (s *plainly) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Replay-Nonce", rand.Text())
	if r.Method == http.MethodHead {
		return
	}
	var m struct{ Protected, Payload, Signature string }
	if json.NewDecoder(r.Body).Decode(&m) != nil {
		w.WriteHeader(400)
		return
	}
	protected, _ := base64.RawURLEncoding.DecodeString(m.Protected)
	payload, _ := base64.RawURLEncoding.DecodeString(m.Payload)
	sig, _ := base64.RawURLEncoding.DecodeString(m.Signature)
	var header struct {
		Kid string
		JWK struct{ X, Y string }
	}
	_ = json.Unmarshal(protected, &header)
	id := header.Kid
	if id == "" {
		x, _ := base64.RawURLEncoding.DecodeString(header.JWK.X)
		y, _ := base64.RawURLEncoding.DecodeString(header.JWK.Y)
		k, err := ecdsa.ParseUncompressedPublicKey(elliptic.P256(), append(append([]byte{4}, x...), y...))
		if err != nil {
			w.WriteHeader(400)
			return
		}
		id = "https://example.com/" + rand.Text()
		s.keys.Store(id, k)
		w.Header().Set("Location", id)
	}
	k, _ := s.keys.Load(id)
	sum := sha256.Sum256([]byte(m.Protected + "." + m.Payload))
	if !ecdsa.Verify(k.(*ecdsa.PublicKey), sum[:], new(big.Int).SetBytes(sig[:32]), new(big.Int).SetBytes(sig[32:])) {
		w.WriteHeader(403)
		return
	}
	s.answer(w, r.URL.Path, payload)
}

func (s *plainly) answer(w http.ResponseWriter, path string, payload []byte) {
	const base = "https://example.com/"
	switch {
	case strings.HasSuffix(path, "new-order"):
		var o struct{ Identifiers []struct{ Value string } }
		_ = json.Unmarshal(payload, &o)
		id := rand.Text()
		s.hosts.Store(id, o.Identifiers[0].Value)
		fmt.Fprintf(w, `{"authorizations":["%sauthz/%s"],"finalize":"%sfinalize"}`, base, id, base)
	case strings.HasPrefix(path, "/authz/"):
		id := strings.TrimPrefix(path, "/authz/")
		fmt.Fprintf(w, `{"challenges":[{"type":"http-01","url":"%schallenge/%s","token":"%s"}]}`, base, id, id)
	case strings.HasPrefix(path, "/challenge/"):
		id := strings.TrimPrefix(path, "/challenge/")
		host, _ := s.hosts.Load(id)
		web, _ := s.names.Ports()
		q, _ := http.NewRequest(http.MethodGet, fmt.Sprintf("http://127.0.0.1:%d/.well-known/acme-challenge/%s",
			web, id),
			nil)
		q.Host = fmt.Sprintf("%s:%d", host, web)
		got, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(q)
		if err != nil {
			w.WriteHeader(403)
			return
		}
		_, _ = io.Copy(io.Discard, got.Body)
		got.Body.Close()
		io.WriteString(w, "{}")
	case path == "/finalize":
		var f struct{ CSR string }
		_ = json.Unmarshal(payload, &f)
		der, _ := base64.RawURLEncoding.DecodeString(f.CSR)
		r, err := x509.ParseCertificateRequest(der)
		if err != nil || r.CheckSignature() != nil {
			w.WriteHeader(400)
			return
		}
		t := &x509.Certificate{SerialNumber: big.NewInt(2), DNSNames: r.DNSNames, NotAfter: time.Now().Add(time.Hour)}
		if _, err := x509.CreateCertificate(rand.Reader, t, s.ca, r.PublicKey, s.key); err != nil {
			w.WriteHeader(500)
			return
		}
		fmt.Fprintf(w, `{"certificate":"%scertificate"}`, base)
	default:
		io.WriteString(w, "{}")
	}
}

func BenchmarkEnrolACME(b *testing.B) {
	y := newYard(b)
	c, secret, err := enrol.MakeAccountKey(ctx, y.e, enrol.CodeAsk{Name: "web", Template: "gates",
		Names: []string{"quay.ternbay.example"}, Count: 100_000, Until: y.e.Now().Add(time.Hour)})
	if err != nil {
		b.Fatal(err)
	}
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	plain := &plainly{names: y.names, key: k, ca: &x509.Certificate{SerialNumber: big.NewInt(1)}}
	const times = 1000
	for b.Loop() {
		flows := func(h http.Handler) float64 {
			return fromAll(b, times, func(n int) error {
				q, err := newQuick(h)
				if err != nil {
					return err
				}
				return q.flow(y.names, c.KeyID, secret, n)
			})
		}
		served := flows(y.handler)
		raw := flows(plain)
		b.ReportMetric(served, "flows/s")
		b.ReportMetric(raw, "bare/s")
		b.ReportMetric(served/raw, "of-bare")
	}
}
