package httpd_test

import (
	"bytes"
	"crypto/rsa"
	"crypto/x509"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/httpd"
	"ironseal/pki/revocation"
)

// bridge is a quay where gateways enrol by SCEP.
func newBridge(t *testing.T, older bool, pairs ...string) quay {
	t.Helper()
	q := newQuay(t, pairs...)
	text := strings.NewReplacer(`["est", "acme"]`, `["scep"]`, "per-day   = 4", "per-day   = 100").Replace(gates)
	if older {
		text += "older-ciphers = true\n"
	}
	if err := os.WriteFile(filepath.Join(q.dir, "templates", "gates.toml"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	q.s.Wake()
	within(t, 30*time.Second, "the registration certificate is signed",
		func() bool { return q.s.Registration("services") != nil })
	return q
}

func (q quay) gateway(code string, names ...string) *gateway {
	return newGateway(q.t, q.est.URL+"/scep/gates/pkiclient.exe", code, names...)
}

// A gateway enrols with a code, waits and asks again, renews, gets the next authority and its list.
func TestSCEPByAClientFromTheStandard(t *testing.T) {
	t.Parallel()
	q := newBridge(t, false)
	g := q.gateway(q.code("ternbay.example", 1), "gw-1.quay.ternbay.example")
	if status, caps := g.get("GetCACaps"); status != 200 || !strings.Contains(string(caps), "AES\nSHA-256") ||
		strings.Contains(string(caps), "DES3") {
		t.Errorf("%d %s", status, caps)
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	for _, c := range g.meets() {
		if c.CheckSignatureFrom(c) == nil {
			roots.AddCert(c)
		} else {
			between.AddCert(c)
		}
	}
	if _, err := g.ra.Verify(x509.VerifyOptions{Roots: roots, Intermediates: between,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}); err != nil {
		t.Errorf("the registration certificate: %v", err)
	}
	for range 2 { // the second asks for the same
		if got := g.sends(19, g.request); got != "success" {
			t.Fatal(got, q.log.String())
		}
	}
	if _, err := g.leaf.Verify(x509.VerifyOptions{DNSName: "gw-1.quay.ternbay.example", Roots: roots,
		Intermediates: between}); err != nil {
		t.Error(err)
	}
	g.becomes()
	first := g.leaf
	g.next("gw-1.quay.ternbay.example")
	if got := g.sends(17, g.request); got != "success" || g.leaf.Equal(first) {
		t.Fatalf("renewed: %s\n%s", got, q.log)
	}
	g.becomes()
	if got := g.asksAbout(21, first); got != "success" || !g.leaf.Equal(first) {
		t.Errorf("its first certificate: %s", got)
	}
	if got := g.asksAbout(22, first); got != "success" || len(g.lists) != 1 {
		t.Fatalf("its list: %s", got)
	}
	list, err := x509.ParseRevocationList(g.lists[0])
	if err != nil {
		t.Fatal(err)
	}
	if h, err := q.e.Hierarchy(ctx); err != nil || list.CheckSignatureFrom(parsed(t, h.Find("services").Current().
		Certificate.Raw)) != nil {
		t.Errorf("the list is of somebody else: %v", err)
	}
	if status, _ := g.get("GetNextCACert"); status != 404 {
		t.Errorf("the next authority before there is one: %d", status)
	}
	plan, err := authorities.PlanRenewal(ctx, q.e, authorities.RenewAsk{Handle: "services",
		Day: time.Now().AddDate(0, 0, 20)})
	if err == nil {
		_, _, err = authorities.Renew(ctx, q.e, plan)
	}
	if err != nil {
		t.Fatal(err)
	}
	g.nextAuthority(t)
}

// nextAuthority verifies what the server says of the next authority.
func (g *gateway) nextAuthority(t *testing.T) {
	t.Helper()
	status, body := g.get("GetNextCACert")
	if status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	content, _, _, err := reads(body, g.ra)
	if err != nil {
		t.Fatal(err)
	}
	_, _, data, err := reads(content, nil)
	if err != nil {
		t.Fatal(err)
	}
	next, err := x509.ParseCertificates(data.Certificates.Bytes)
	if err != nil || len(next) < 2 || bytes.Equal(next[0].SubjectKeyId, g.ra.AuthorityKeyId) ||
		next[0].CheckSignatureFrom(next[1]) != nil {
		t.Errorf("%d certificates, %v", len(next), err)
	}
}

// What is unusual waits for a person; the device asks again, and is told.
func TestSCEPWaits(t *testing.T) {
	t.Parallel()
	q := newBridge(t, false)
	g := q.gateway(q.code("ternbay.example", 1), "crane.ternbay.example")
	if got := g.sends(19, g.request); got != "pending" {
		t.Fatal(got)
	}
	if got := g.polls(); got != "pending" {
		t.Error(got)
	}
	stranger := q.gateway("", "crane.ternbay.example")
	stranger.id, stranger.request = g.id, g.request
	stranger.meets()
	if got := stranger.polls(); got != "failed 4" {
		t.Errorf("a stranger asks after it: %s", got)
	}
	list, err := q.e.Requests(ctx, "waiting")
	if err != nil {
		t.Fatal(err)
	}
	sign(t, q.e, fmt.Sprintf("R%d", list[len(list)-1].Number))
	if got := g.polls(); got != "success" || g.leaf.DNSNames[0] != "crane.ternbay.example" {
		t.Errorf("after a person signed: %s", got)
	}
}

// A device that is not known, or asks for what it may not have, gets nothing.
func TestSCEPRefuses(t *testing.T) {
	t.Parallel()
	q := newBridge(t, false, "pace           = 600", "pace           = 0")
	const host = "gw-1.quay.ternbay.example"
	g := q.gateway(q.code("quay.ternbay.example", 1), host)
	if got := g.sends(19, g.request); got != "success" {
		t.Fatal(got)
	}
	for name, try := range map[string]func() string{
		"no code":      func() string { n := q.gateway("", host); return n.sends(19, n.request) },
		"a wrong code": func() string { n := q.gateway("0000", host); return n.sends(19, n.request) },
		"a code for many": func() string {
			n := q.gateway(q.code("quay.ternbay.example", 5), host)
			return n.sends(19, n.request)
		},
		"another name": func() string {
			n := q.gateway(q.code("quay.ternbay.example", 1), "pier.ternbay.example")
			return n.sends(19, n.request)
		},
		"signed by another key": func() string {
			n := q.gateway(q.code("quay.ternbay.example", 1), "gw-2.quay.ternbay.example")
			n.signer, n.self = g.key, g.self
			return n.sends(19, n.request)
		},
		"another request in its transaction": func() string {
			n := q.gateway(q.code("quay.ternbay.example", 1), "gw-3.quay.ternbay.example")
			n.id = g.id
			return n.sends(19, n.request)
		},
		"a renewal by a stranger": func() string { n := q.gateway("", host); return n.sends(17, n.request) },
		"its list, by a stranger": func() string {
			n := q.gateway("", host)
			n.meets()
			return n.asksAbout(22,
				g.leaf)
		},
		"an unknown type":        func() string { n := q.gateway("", host); return n.sends(99, n.request) },
		"a request that is none": func() string { n := q.gateway("", host); return n.sends(19, []byte("aboard")) },
	} {
		want := "failed 2"
		if name == "a request that is none" {
			want = "failed 1"
		}
		if got := try(); got != want {
			t.Errorf("%s: %s", name, got)
		}
	}
	old := q.gateway(q.code("quay.ternbay.example", 1), "gw-4.quay.ternbay.example")
	old.older = true
	if got := old.sends(19, old.request); got != "failed 0" {
		t.Errorf("by SHA-1 and triple DES: %s", got)
	}
	g.becomes()
	revoke(t, q.e, revocation.KeyCompromise, fmt.Sprintf("%032x", g.leaf.SerialNumber))
	g.next(host)
	if got := g.sends(17, g.request); got != "failed 2" {
		t.Errorf("by a revoked certificate: %s", got)
	}
}

// A label that says so takes what older devices speak.
func TestSCEPForOlderDevices(t *testing.T) {
	t.Parallel()
	q := newBridge(t, true)
	g := q.gateway(q.code("quay.ternbay.example", 1), "gw-1.quay.ternbay.example")
	g.older = true
	if got := g.sends(19, g.request); got != "success" {
		t.Error(got, q.log.String())
	}
	plain := newGateway(t, q.public.URL+"/scep/gates", q.code("quay.ternbay.example", 1), "gw-2.quay.ternbay.example")
	if got := plain.sends(19, plain.request); got != "success" {
		t.Errorf("over plain HTTP: %s", got)
	}
}

// Whatever is wrong with what is sealed, the answer is the same: the key of the seal, its padding, the padding of the
// content, the content.
func TestSCEPIsNoOracle(t *testing.T) {
	t.Parallel()
	q := newBridge(t, false)
	g := q.gateway(q.code("quay.ternbay.example", 1), "gw-1.quay.ternbay.example")
	g.meets()
	size := g.ra.PublicKey.(*rsa.PublicKey).Size()
	for name, message := range map[string][]byte{
		"a key that was not encrypted": g.sealed(oidAES, make([]byte, 16), make([]byte, 32), bytes.Repeat([]byte{7},
			size), g.ra),
		"a key of another length": g.sealed(oidAES, make([]byte, 16), make([]byte, 32), bytes.Repeat([]byte{7},
			size-1), g.ra),
		"a key of zeros":          g.sealed(oidAES, make([]byte, 16), make([]byte, 32), make([]byte, size), g.ra),
		"content without meaning": g.seals(bytes.Repeat([]byte{7}, 100), g.ra),
		"no content":              g.seals(nil, g.ra),
		"sealed to another":       g.seals(g.request, g.self),
		"half a block":            g.sealed(oidAES, make([]byte, 16), make([]byte, 30), make([]byte, size), g.ra),
	} {
		if got := g.posts(g.signs(19, message)); got != "failed 1" {
			t.Errorf("%s: %s", name, got)
		}
	}
}

// Mutated messages give an answer of the protocol, and never a fault of the server.
func TestSCEPSurvivesMutations(t *testing.T) {
	t.Parallel()
	rounds := manyRounds(300)
	q := newBridge(t, true, "pace           = 600", "pace           = 0")
	q.level.Set(100)
	g := q.gateway(q.code("quay.ternbay.example", 1), "crane.quay.ternbay.example")
	g.meets()
	srv, err := httpd.New(q.s, q.logger)
	if err != nil {
		t.Fatal(err)
	}
	handler := srv.Handlers()[httpd.NameMachines]
	random := rand.New(rand.NewPCG(3, 4))
	whole := g.signs(19, g.seals(g.request, g.ra))
	signing := max(rounds/100, 20) // what is signed and sealed as it must be costs the most
	for n := range rounds {
		body := mutated(random, whole)
		if n < signing {
			body = g.signs(19, g.seals(mutated(random, g.request), g.ra))
		} else if n < 2*signing {
			body = g.signs(19, mutated(random, g.seals(g.request, g.ra)))
		}
		a := httptest.NewRecorder()
		handler.ServeHTTP(a, httptest.NewRequest(http.MethodPost,
			"https://example.com/scep/gates?operation=PKIOperation",
			bytes.NewReader(body)))
		if a.Code >= 500 {
			text, _ := io.ReadAll(a.Body)
			t.Fatalf("%d %s\n%x", a.Code, text, body)
		}
	}
}
