package httpd_test

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/incidents"
	"ironseal/internal/estate"
	"ironseal/internal/httpd"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/pkcs"
	"ironseal/pki/request"
	"ironseal/pki/revocation"
	"ironseal/pki/san"
)

// gates is a template by which gates on the quay enrol.
const gates = `based-on = "web-server"
title    = "Quay gate"
extended-key-usage = ["serverAuth", "clientAuth"]

[unattended]
by        = ["est", "acme"]
authority = "services"
names     = ["dns:*.quay.ternbay.example"]
lifetime  = "30d"
per-day   = 4
`

// quay is a harbour where machines enrol.
type quay struct {
	*harbour
	est *httptest.Server
}

func newQuay(t *testing.T, pairs ...string) quay {
	t.Helper()
	dir := newEstate(t)
	change(t, dir, append([]string{"sign           = []", `sign           = ["services"]`, `machines       = ""`,
		`machines       = "127.0.0.1:0"`}, pairs...)...)
	if err := os.WriteFile(filepath.Join(dir, "templates", "gates.toml"), []byte(gates), 0o644); err != nil {
		t.Fatal(err)
	}
	q := quay{harbour: serving(t, dir)}
	srv, err := httpd.New(q.s, q.logger)
	if err != nil {
		t.Fatal(err)
	}
	q.est = httptest.NewUnstartedServer(srv.Handlers()[httpd.NameMachines])
	q.est.TLS = &tls.Config{ClientAuth: tls.RequestClientCert}
	q.est.StartTLS()
	t.Cleanup(q.est.Close)
	return q
}

func (q quay) code(names string, count int) string {
	q.t.Helper()
	_, code, err := enrol.MakeCode(ctx, q.e, enrol.CodeAsk{Name: names + time.Now().String(), Template: "gates",
		Names: []string{names}, Count: count, Until: q.e.Now().Add(time.Hour)})
	if err != nil {
		q.t.Fatal(err)
	}
	return code
}

// device is a machine with a key.
type device struct {
	key  crypto.Signer
	der  []byte // its request
	leaf []byte // its certificate
}

func newDevice(t testing.TB, names ...string) *device {
	t.Helper()
	d := &device{}
	var err error
	if d.key, err = key.Generate(key.P256, rand.Reader); err != nil {
		t.Fatal(err)
	}
	d.asks(t, names...)
	return d
}

func (d *device) asks(t testing.TB, names ...string) {
	t.Helper()
	subject, err := dn.New(dn.Pair{Type: "CN", Value: names[0]})
	if err != nil {
		t.Fatal(err)
	}
	var list []san.Name
	for _, n := range names {
		list = append(list, san.Found(san.DNS, n))
	}
	alt, err := ext.NamesExtension(list, false)
	if err != nil {
		t.Fatal(err)
	}
	if d.der, err = request.Draft(subject, ext.Set{alt}, d.key, rand.Reader); err != nil {
		t.Fatal(err)
	}
}

// enrols sends the request, and keeps the certificate that comes back.
func (q quay) enrols(d *device, path, code string, with *device) (int, string) {
	q.t.Helper()
	c := &tls.Config{InsecureSkipVerify: true}
	if with != nil {
		c.Certificates = []tls.Certificate{{Certificate: [][]byte{with.leaf}, PrivateKey: with.key}}
	}
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: c, DisableKeepAlives: true},
		Timeout: 20 * time.Second}
	r, err := http.NewRequest(http.MethodPost, q.est.URL+"/.well-known/est/gates/"+path,
		strings.NewReader(base64.StdEncoding.EncodeToString(d.der)))
	if err != nil {
		q.t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/pkcs10")
	if code != "" {
		r.SetBasicAuth("gate", code)
	}
	got, err := client.Do(r)
	if err != nil {
		q.t.Fatal(err)
	}
	defer got.Body.Close()
	body, err := io.ReadAll(got.Body)
	if err != nil {
		q.t.Fatal(err)
	}
	if got.StatusCode == http.StatusOK {
		list := certificatesIn(q.t, string(body))
		if len(list) != 1 {
			q.t.Fatalf("%d certificates came", len(list))
		}
		d.leaf = list[0]
	}
	if got.StatusCode == http.StatusAccepted && got.Header.Get("Retry-After") == "" {
		q.t.Error("it is not said when to ask again")
	}
	return got.StatusCode, string(body)
}

// certificatesIn reads the body of an EST response.
func certificatesIn(t testing.TB, body string) [][]byte {
	t.Helper()
	der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(body), ""))
	if err != nil {
		t.Fatal(err)
	}
	list, err := pkcs.ReadSignedData(der)
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// A machine enrols by a code, and renews by its certificate, without a person.
func TestEnrollingByEST(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	r, err := client.Get(q.est.URL + "/.well-known/est/cacerts")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	if err != nil {
		t.Fatal(err)
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	for _, der := range certificatesIn(t, string(body)) {
		if c := parsed(t, der); bytes.Equal(c.RawIssuer, c.RawSubject) {
			roots.AddCert(c)
		} else {
			between.AddCert(c)
		}
	}
	code := q.code("quay.ternbay.example", 1)
	d := newDevice(t, "gate-1.quay.ternbay.example")
	for range 2 { // the second asks for the outcome
		if status, text := q.enrols(d, "simpleenroll", code, nil); status != 200 {
			t.Fatalf("%d %s", status, text)
		}
	}
	leaf := parsed(t, d.leaf)
	if _, err := leaf.Verify(x509.VerifyOptions{DNSName: "gate-1.quay.ternbay.example", Roots: roots,
		Intermediates: between}); err != nil {
		t.Error(err)
	}
	if life := leaf.NotAfter.Sub(leaf.NotBefore); life > 31*24*time.Hour {
		t.Errorf("it lives %v", life)
	}
	again := newDevice(t, "gate-1.quay.ternbay.example")
	if status, text := q.enrols(again, "simplereenroll", "", d); status != 200 {
		t.Fatalf("%d %s", status, text+q.log.String())
	}
	other := newDevice(t, "gate-2.quay.ternbay.example")
	if status, _ := q.enrols(other, "simplereenroll", "", d); status != 202 {
		t.Errorf("another name is renewed: %d", status)
	}
	lost := newDevice(t, "gate-4.quay.ternbay.example")
	if status, text := q.enrols(lost, "simpleenroll", q.code("quay.ternbay.example", 1), nil); status != 200 {
		t.Fatalf("%d %s", status, text)
	}
	if _, _, err := incidents.Open(ctx, q.e, lost.serial(t), "the gate was broken open"); err != nil {
		t.Fatal(err)
	}
	if status, _ := q.enrols(newDevice(t, "gate-4.quay.ternbay.example"), "simplereenroll", "", lost); status != 401 {
		t.Errorf("a key in an incident renews its certificate: %d", status)
	}
	revoke(t, q.e, revocation.KeyCompromise, again.serial(t))
	next := newDevice(t, "gate-1.quay.ternbay.example")
	if status, _ := q.enrols(next, "simplereenroll", "", again); status != 401 {
		t.Errorf("a revoked certificate is renewed: %d", status)
	}
	if status, _ := q.enrols(again, "simplereenroll", "", d); status != 409 && status != 403 {
		t.Errorf("a revoked certificate is handed out: %d", status)
	}
}

// record is the record of a device's certificate.
func (q quay) record(d *device) estate.CertificateRecord {
	q.t.Helper()
	c, _, err := q.e.FindCertificate(ctx, d.serial(q.t))
	if err != nil {
		q.t.Fatal(err)
	}
	return c
}

func (d *device) serial(t testing.TB) string {
	t.Helper()
	text := parsed(t, d.leaf).SerialNumber.Text(16)
	if len(text)%2 == 1 {
		text = "0" + text
	}
	return text
}

// A certificate that a person renewed meanwhile, for the same key, still renews itself.
func TestEnrollingAfterAChangeOver(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	d := newDevice(t, "gate-1.quay.ternbay.example")
	if status, text := q.enrols(d, "simpleenroll", q.code("quay.ternbay.example", 1), nil); status != 200 {
		t.Fatal(status, text)
	}
	sheet, err := renewals.PlanReissue(ctx, q.e, renewals.ReissueAsk{Certificate: d.serial(t)})
	if err == nil {
		err = signing.Sign(ctx, q.e, []*signing.Sheet{sheet}, func(r signing.SignResult) {
			if r.Err != nil {
				t.Error(r.Err)
			}
		})
	}
	if err != nil {
		t.Fatal(err)
	}
	next := newDevice(t, "gate-1.quay.ternbay.example")
	for range 2 { // the second asks for the outcome
		if status, text := q.enrols(next, "simplereenroll", "", d); status != 200 {
			t.Errorf("%d %s", status, text)
		}
	}
	if status, _ := q.enrols(newDevice(t, "gate-1.quay.ternbay.example"), "simplereenroll", "", d); status != 202 {
		t.Errorf("what another key replaced renews itself again: %d", status)
	}
}

// What is unusual waits for a person, and is fetched by the machine once it is signed.
func TestEnrollingWaits(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	wide := q.code("ternbay.example", 20)
	for name, d := range map[string]*device{
		"a name outside":     newDevice(t, "crane.ternbay.example"),
		"a second name":      newDevice(t, "gate-3.quay.ternbay.example", "crane.ternbay.example"),
		"the domain itself":  newDevice(t, "quay.ternbay.example"),
		"a wildcard":         newDevice(t, "*.quay.ternbay.example"),
		"a name that is odd": newDevice(t, "gate-1.quay.ternbay.example.quay.ternbay.exampl\u0435"),
	} {
		if status, text := q.enrols(d, "simpleenroll", wide, nil); status != 202 && name != "a name that is odd" ||
			status == 200 {
			t.Errorf("%s: %d %s", name, status, text)
		}
	}
	if status, text := q.enrols(newDevice(t, "post-z.quay.ternbay.example"), "simpleenroll", wide, nil); status != 200 {
		t.Errorf("%d %s", status, text)
	}
	if status, _ := q.enrols(newDevice(t, "post-z.quay.ternbay.example"), "simpleenroll", wide, nil); status != 202 {
		t.Errorf("a name that another machine has: %d", status)
	}
	d := newDevice(t, "winch.ternbay.example")
	status, text := q.enrols(d, "simpleenroll", wide, nil)
	number, _, _ := strings.Cut(text, " ")
	if status != 202 {
		t.Fatalf("%d %s", status, text)
	}
	sign(t, q.e, number)
	if status, text := q.enrols(d, "simpleenroll", wide, nil); status != 200 {
		t.Errorf("%d %s", status, text)
	}
	if status, _ := q.enrols(d, "simpleenroll", q.code("ternbay.example", 1), nil); status != 401 {
		t.Errorf("by another code: %d", status)
	}
	other := newDevice(t, "davit.ternbay.example")
	_, text = q.enrols(other, "simpleenroll", wide, nil)
	number, _, _ = strings.Cut(text, " ")
	if _, err := intake.Decide(ctx, q.e, number, lifecycle.Declined, "not ours", false); err != nil {
		t.Fatal(err)
	}
	if status, _ := q.enrols(other, "simpleenroll", wide, nil); status != 403 {
		t.Errorf("declined: %d", status)
	}
	for n := range 4 { // four a day, and one was signed
		d := newDevice(t, "post-"+string(rune('a'+n))+".quay.ternbay.example")
		if status, text := q.enrols(d, "simpleenroll", wide, nil); status != 200 && n < 3 || status != 202 && n == 3 {
			t.Errorf("%d: %d %s", n, status, text)
		}
	}
}

// A machine that is not known gets nothing.
func TestEnrollingWithoutCredentials(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	d := newDevice(t, "gate-1.quay.ternbay.example")
	once := q.code("quay.ternbay.example", 1)
	if status, _ := q.enrols(d, "simpleenroll", once, nil); status != 200 {
		t.Fatal(status)
	}
	stranger := newDevice(t, "gate-9.quay.ternbay.example")
	self := &x509.Certificate{SerialNumber: parsed(t, d.leaf).SerialNumber, NotAfter: time.Now().Add(time.Hour)}
	var err error
	if stranger.leaf, err = x509.CreateCertificate(rand.Reader, self, self, stranger.key.Public(),
		stranger.key); err != nil {
		t.Fatal(err)
	}
	for name, try := range map[string]func() (int, string){
		"nothing": func() (int, string) {
			return q.enrols(newDevice(t, "a.quay.ternbay.example"), "simpleenroll",
				"", nil)
		},
		"a wrong code": func() (int, string) {
			return q.enrols(newDevice(t, "b.quay.ternbay.example"), "simpleenroll", "0000-0000", nil)
		},
		"a code that was used": func() (int, string) {
			return q.enrols(newDevice(t, "c.quay.ternbay.example"), "simpleenroll", once, nil)
		},
		"a code to renew": func() (int, string) {
			return q.enrols(newDevice(t, "d.quay.ternbay.example"), "simplereenroll", q.code("ternbay.example", 1), nil)
		},
		"a certificate of others": func() (int, string) {
			return q.enrols(newDevice(t, "e.quay.ternbay.example"), "simplereenroll", "", stranger)
		},
	} {
		if status, text := try(); status != 401 {
			t.Errorf("%s: %d %s", name, status, text)
		}
	}
	if status, _ := q.enrols(newDevice(t, "pier.ternbay.example"), "simpleenroll",
		q.code("quay.ternbay.example", 1), nil); status != 403 {
		t.Errorf("a name that the code is not for: %d", status)
	}
	bad := newDevice(t, "f.quay.ternbay.example")
	for _, der := range [][]byte{nil, []byte("aboard"), bytes.Repeat([]byte{0x30}, 100_000)} {
		bad.der = der
		if status, text := q.enrols(bad, "simpleenroll", q.code("ternbay.example", 1), nil); status != 400 {
			t.Errorf("%d octets: %d %s", len(der), status, text)
		}
	}
}

// Without the authority's key nothing is signed, whatever a template says.
func TestEnrollingWithoutAKey(t *testing.T) {
	t.Parallel()
	q := newQuay(t, `sign           = ["services"]`, "sign           = []")
	change(t, q.dir, `sign           = ["services"]`, "sign           = []")
	soon(t, "the settings were read again", func() bool { return len(q.s.Settings().Sign) == 0 })
	if status, text := q.enrols(newDevice(t, "gate-1.quay.ternbay.example"), "simpleenroll",
		q.code("quay.ternbay.example", 1), nil); status != 202 {
		t.Errorf("%d %s", status, text)
	}
}
