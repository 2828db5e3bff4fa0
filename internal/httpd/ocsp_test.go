package httpd_test

import (
	"bytes"
	"crypto"
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	xocsp "golang.org/x/crypto/ocsp"

	"ironseal/internal/app/revoke/revoking"
	"ironseal/pki/cert"
	"ironseal/pki/ocsp"
	"ironseal/pki/revocation"
)

func issuerOf(t testing.TB, h *harbour) *cert.Certificate {
	t.Helper()
	g, err := h.e.Generation(ctx, "services")
	if err != nil {
		t.Fatal(err)
	}
	return g.Certificate
}

// askOCSP asks about a certificate of an issuer.
func askOCSP(t testing.TB, h *harbour, of []byte, issuer *cert.Certificate) *ocsp.Response {
	t.Helper()
	c, err := cert.Read(of)
	if err != nil {
		t.Fatal(err)
	}
	id, err := ocsp.IDOf(crypto.SHA1, issuer, c.Serial)
	if err != nil {
		t.Fatal(err)
	}
	der, err := ocsp.Request{Asked: []ocsp.ID{id}}.DER()
	if err != nil {
		t.Fatal(err)
	}
	r, answer := do(t, http.MethodPost, h.public.URL+"/status", bytes.NewReader(der), "Content-Type",
		"application/ocsp-request")
	if r.StatusCode != 200 || r.Header.Get("Content-Type") != "application/ocsp-response" {
		t.Fatalf("%d %s", r.StatusCode, r.Header.Get("Content-Type"))
	}
	a, err := ocsp.ReadResponse(answer)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// OCSP is answered by GET and by POST, at the address in certificates and at /ocsp.
func TestOCSPOverHTTP(t *testing.T) {
	t.Parallel()
	h := serve(t)
	list := issue(t, h.e, "pier.ternbay.example", "quay.ternbay.example", "buoy.ternbay.example",
		"mole.ternbay.example")
	revoke(t, h.e, revocation.KeyCompromise, list[1].SerialHex())
	issuer := parsed(t, issuerOf(t, h).Raw)
	soon(t, "the revocation is known", func() bool {
		a := askOCSP(t, h, list[1].Raw, issuerOf(t, h))
		return len(a.Responses) == 1 && a.Responses[0].Status == ocsp.Revoked
	})
	for i, c := range list {
		for _, hash := range []crypto.Hash{crypto.SHA1, crypto.SHA256} {
			leaf := parsed(t, c.Raw)
			asked, err := xocsp.CreateRequest(leaf, issuer, &xocsp.RequestOptions{Hash: hash})
			if err != nil {
				t.Fatal(err)
			}
			text := base64.StdEncoding.EncodeToString(asked)
			for _, path := range []string{"/status/" + url.QueryEscape(text), "/status/" + text, "/ocsp/" + url.
				PathEscape(text),
				"/status/" + strings.TrimRight(text, "=")} {
				r, der := get(t, h.public.URL+path)
				a, err := xocsp.ParseResponseForCert(der, leaf, issuer)
				if err != nil {
					t.Fatalf("%s: %d: %v", path, r.StatusCode, err)
				}
				if want := []int{xocsp.Good, xocsp.Revoked, xocsp.Good, xocsp.Good}[i]; a.Status != want {
					t.Errorf("%d: %d instead of %d", i, a.Status, want)
				}
				if control := r.Header.Get("Cache-Control"); !strings.Contains(control, "max-age=") ||
					!strings.Contains(control, "must-revalidate") || r.Header.Get("ETag") == "" {
					t.Errorf("%q", control)
				}
			}
		}
	}
}

// What is revoked, released and issued is told within a second.
func TestOCSPIsQuick(t *testing.T) {
	t.Parallel()
	h := serve(t)
	c := issue(t, h.e, "pier.ternbay.example")[0]
	status := func() ocsp.Status {
		a := askOCSP(t, h, c.Raw, issuerOf(t, h))
		if len(a.Responses) != 1 {
			return -1
		}
		return a.Responses[0].Status
	}
	within := func(what string, want ocsp.Status) {
		t.Helper()
		begun := time.Now()
		soon(t, what, func() bool { return status() == want })
		if took := time.Since(begun); took > 3*time.Second { // one second on an idle machine
			t.Errorf("%s: told after %v", what, took)
		}
	}
	within("issued", ocsp.Good)
	revoke(t, h.e, revocation.CertificateHold, c.SerialHex())
	within("on hold", ocsp.Revoked)
	if _, _, err := revoking.Release(ctx, h.e, []string{c.SerialHex()}, "found"); err != nil {
		t.Fatal(err)
	}
	within("released", ocsp.Good)
}

// Answers go on while the settings are read again, by the same key.
func TestAnswersWhileSettingsChange(t *testing.T) {
	t.Parallel()
	h := serve(t)
	c := issue(t, h.e, "pier.ternbay.example")[0]
	issuer := issuerOf(t, h)
	soon(t, "the certificate is known", func() bool { return len(askOCSP(t, h, c.Raw, issuer).Responses) == 1 })
	first := askOCSP(t, h, c.Raw, issuer).Signers[0].SerialHex()
	for n := range 3 {
		was := h.s.Estate()
		change(t, h.dir, fmt.Sprintf("connections    = %d", 10000+n), fmt.Sprintf("connections    = %d", 10001+n))
		soon(t, "the settings were read again", func() bool {
			a := askOCSP(t, h, c.Raw, issuer)
			if len(a.Responses) != 1 || a.Responses[0].Status != ocsp.Good || a.Signers[0].SerialHex() != first {
				t.Errorf("%s: %+v", a.Status, a.Responses)
			}
			return h.s.Estate() != was
		})
	}
}

// Whatever is asked, the answer is one of the protocol.
func TestOCSPErrors(t *testing.T) {
	t.Parallel()
	h := serve(t)
	c := issue(t, h.e, "pier.ternbay.example")[0]
	root, err := h.e.Generation(ctx, "root")
	if err != nil {
		t.Fatal(err)
	}
	of := func(issuer *cert.Certificate, nonce []byte, ids int) []byte {
		id, err := ocsp.IDOf(crypto.SHA256, issuer, c.Serial)
		if err != nil {
			t.Fatal(err)
		}
		q := ocsp.Request{Nonce: nonce}
		for range ids {
			q.Asked = append(q.Asked, id)
		}
		der, err := q.DER()
		if err != nil {
			t.Fatal(err)
		}
		return der
	}
	stranger, err := cert.Read(c.Raw)
	if err != nil {
		t.Fatal(err)
	}
	for name, x := range map[string]struct {
		asked []byte
		want  ocsp.ResponseStatus
	}{
		"with a nonce":       {of(issuerOf(t, h), bytes.Repeat([]byte{7}, 32), 1), ocsp.Successful},
		"about several":      {of(issuerOf(t, h), nil, 3), ocsp.Successful},
		"no answers there":   {of(root.Certificate, nil, 1), ocsp.Unauthorized},
		"of another issuer":  {of(stranger, nil, 1), ocsp.Unauthorized},
		"nothing":            {nil, ocsp.MalformedRequest},
		"no request":         {[]byte("aboard"), ocsp.MalformedRequest},
		"far too much of it": {bytes.Repeat([]byte{0x30}, 1<<20), ocsp.MalformedRequest},
	} {
		t.Run(name, func(t *testing.T) {
			soon(t, "the answer", func() bool {
				r, der := do(t, http.MethodPost, h.public.URL+"/ocsp", bytes.NewReader(x.asked), "Content-Type",
					"text/plain")
				a, err := ocsp.ReadResponse(der)
				if err != nil || r.StatusCode != 200 {
					t.Fatalf("%d: %v", r.StatusCode, err)
				}
				if name == "with a nonce" && !bytes.Equal(a.Nonce, bytes.Repeat([]byte{7}, 32)) && a.Status == x.want {
					t.Errorf("the nonce is %x", a.Nonce)
				}
				return a.Status == x.want
			})
		})
	}
}

// Requests that are broken in every way get well-formed answers.
func TestBrokenOCSPRequests(t *testing.T) {
	t.Parallel()
	h := serve(t)
	c := issue(t, h.e, "pier.ternbay.example")[0]
	asked, err := xocsp.CreateRequest(parsed(t, c.Raw), parsed(t, issuerOf(t, h).Raw), nil)
	if err != nil {
		t.Fatal(err)
	}
	tries := 500
	if os.Getenv("CI") == "true" || os.Getenv("IRONSEAL_LONG") != "" {
		tries = 50_000 // by each of the two methods
	}
	random := rand.New(rand.NewPCG(21, 7))
	for range tries {
		bad := bytes.Clone(asked)
		for range 1 + random.IntN(4) {
			switch at := random.IntN(len(bad)); random.IntN(3) {
			case 0:
				bad[at] ^= byte(1 << random.IntN(8))
			case 1:
				bad = append(bad[:at], bad[min(at+random.IntN(8), len(bad)):]...)
			default:
				bad = append(bad[:at], append([]byte{byte(random.Uint32())}, bad[at:]...)...)
			}
			if len(bad) == 0 {
				bad = []byte{0}
			}
		}
		text := base64.StdEncoding.EncodeToString(bad)
		if random.IntN(2) == 0 {
			at := random.IntN(len(text))
			text = text[:at] + string(rune('!'+random.IntN(90))) + text[at:]
		}
		post, der := do(t, http.MethodPost, h.public.URL+"/ocsp", bytes.NewReader(bad))
		if _, err := ocsp.ReadResponse(der); err != nil || post.StatusCode != 200 {
			t.Fatalf("POST %x: %d: %v", bad, post.StatusCode, err)
		}
		r, der := get(t, h.public.URL+"/ocsp/"+url.PathEscape(text))
		if _, err := ocsp.ReadResponse(der); err != nil || r.StatusCode != 200 {
			t.Fatalf("GET %s: %d: %v", text, r.StatusCode, err)
		}
	}
	if strings.Contains(h.log.String(), "a fault in the program") {
		t.Error("a handler failed")
	}
}
