package main

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/responding"
	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/pki/cert"
	"ironseal/pki/ocsp"
	"ironseal/pki/specimen"
)

type passFile string

func (p passFile) Passphrase(context.Context, keystore.Question) ([]byte, bool, error) {
	secret, err := keystore.ReadPassphraseFile(string(p))
	return secret, true, err
}

// webServer serves what was published, and answers OCSP questions of the estate.
func webServer(t *testing.T, p place, change func([]byte) []byte) *httptest.Server {
	t.Helper()
	e, err := estate.Open(context.Background(), p.dir, estate.Env{Pass: passFile(filepath.Join(p.dir, "../pass"))})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	r := responding.NewLive(e, time.Hour, "")
	return httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if !strings.HasPrefix(q.URL.Path, "/ocsp") {
			http.FileServer(http.Dir(filepath.Join(p.dir, "../public"))).ServeHTTP(w, q)
			return
		}
		if err := errors.Join(r.Keep(q.Context(), publishing.Ask{Only: []string{"services"}}),
			r.Update(q.Context(), int64(time.Now().UnixNano()), nil)); err != nil {
			t.Error(err)
			return
		}
		asked, _ := io.ReadAll(q.Body)
		if q.Method == http.MethodGet {
			text, err := url.QueryUnescape(strings.TrimPrefix(q.URL.EscapedPath(), "/ocsp/"))
			if err != nil {
				t.Error(err)
			}
			if asked, err = base64.StdEncoding.DecodeString(text); err != nil {
				t.Error(err)
			}
		}
		told, err := r.Answer(q.Context(), asked)
		if err != nil {
			t.Error(err)
		}
		answer := told.DER
		if change != nil {
			answer = change(answer)
		}
		w.Header().Set("Content-Type", "application/ocsp-response")
		w.Write(answer)
	}))
}

// Certificates name where their list, their issuer and the responder are; verify finds out there
// whether they stand, and only where it is told to.
func TestStandingIsFetchedFromTheAddressesInCertificates(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	s := webServer(t, p, nil)
	defer s.Close()
	settings := filepath.Join(p.dir, "ironseal.toml")
	text, err := os.ReadFile(settings)
	if err != nil {
		t.Fatal(err)
	}
	text = bytes.Replace(text, []byte(`address        = ""`), []byte(fmt.Sprintf("address        = %q", s.URL)), 1)
	text = bytes.Replace(text, []byte(`ocsp           = ""`), []byte(fmt.Sprintf("ocsp           = %q",
		s.URL+"/ocsp")), 1)
	if err := os.WriteFile(settings, text, 0o644); err != nil {
		t.Fatal(err)
	}
	p.must("authority", "create", "ships", "--under", "root", "--key", "ecdsa-p256", "--yes")
	for i, host := range []string{"a.ternbay.example", "b.ternbay.example"} {
		p.send(host, []string{host})
		p.must("sign", fmt.Sprintf("R%d", i+1), "--template", "web-server", "--by", "services", "--yes")
		p.must("certificate", "export", fmt.Sprintf("R%d", i+1), "--with", "issuers", "--out",
			fmt.Sprintf("../%d.pem", i+1))
	}
	if out := p.must("certificate", "show", "R1", "--all"); !strings.Contains(out, s.URL+"/services.g1.crl") ||
		!strings.Contains(out, s.URL+"/services.g1.cer") || !strings.Contains(out, s.URL+"/ocsp") {
		t.Errorf("the addresses are not in it: %s", out)
	}
	p.must("authority", "export", "root", "--out", "../root.pem")
	elsewhere := place{t: t, dir: t.TempDir()} // a client without the estate
	verify := func(n int, more ...string) result {
		return elsewhere.run("", append([]string{"verify", filepath.Join(p.dir, fmt.Sprintf("../%d.pem", n)),
			"--anchor",
			filepath.Join(p.dir, "../root.pem")}, more...)...)
	}
	if r := verify(1, "--require-revocation"); r.code != 4 || !strings.Contains(r.out, "status-unknown") {
		t.Errorf("nobody tells: %+v", r)
	}
	if r := verify(1, "--fetch", "--require-revocation"); r.code != 4 || !strings.Contains(r.errors, "--fetch-local") {
		t.Errorf("it was fetched from inside: %+v", r)
	}
	p.must("revocations", "publish", "--to", "../public")
	// Services was signed before there were addresses.
	above := filepath.Join(p.dir, "../public/root.g1.crl")
	if r := verify(1, "--fetch", "--fetch-local", "--require-revocation", "--revocations", above); r.code != 0 ||
		!strings.Contains(r.out, "good, by an OCSP answer") {
		t.Errorf("%+v", r)
	}
	p.must("revoke", "R2", "--reason", "key-compromise", "--yes")
	if r := verify(2, "--fetch", "--fetch-local"); r.code != 4 || !strings.Contains(r.out,
		"according to an OCSP answer") {
		t.Errorf("what is revoked and on no list yet: %+v", r)
	}
	p.must("revocations", "publish", "--to", "../public")
	if r := verify(2, "--fetch", "--fetch-local"); r.code != 4 || !strings.Contains(r.out, "according to the list") {
		t.Errorf("what is on the list: %+v", r)
	}
	if r := p.run("", "revocations", "check", "--fetch-local"); r.code != 0 {
		t.Errorf("%+v", r)
	}
	p.must("revoke", "R1", "--reason", "hold", "--yes")
	p.must("revocations", "publish") // signed, and not brought to the web server
	if r := p.run("", "revocations", "check", "--fetch-local"); r.code != 4 || !strings.Contains(r.out, "list-older") {
		t.Errorf("%+v", r)
	}
}

// A server staples the answer that was prepared for it; a client that has no list goes by it.
func TestStapledAnswersAreBelieved(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	const host = "a.ternbay.example"
	p.must("request", "draft", host, "--out", "..")
	p.must("sign", "../"+host+".request.pem", "--template", "web-server", "--yes")
	p.must("certificate", "export", host, "--with", "issuers", "--out", "../whole.pem")
	p.must("authority", "export", "root", "--out", "../root.pem")
	load := p.fixed("../whole.pem", "../"+host+".key.pem")
	var staple []byte
	address := serving(t, func() (*tls.Certificate, error) {
		c, err := load()
		c.OCSPStaple = staple
		return c, err
	})
	prepared := func() []byte {
		t.Helper()
		p.must("revocations", "publish", "--to", "../public", "--ocsp", "../answers")
		files, err := filepath.Glob(filepath.Join(p.dir, "../answers/services.g1.*.ocsp"))
		if err != nil || len(files) != 1 {
			t.Fatal(files, err)
		}
		data, err := os.ReadFile(files[0])
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	client := place{t: t, dir: t.TempDir()} // without the estate
	good := prepared()
	above := filepath.Join(p.dir, "../public/root.g1.crl")
	p.must("revoke", host, "--reason", "key-compromise", "--yes")
	revoked := prepared()
	for _, c := range []struct {
		name   string
		staple []byte
		code   int
		says   string
	}{
		{"none", nil, 4, "status-unknown"},
		{"good", good, 0, "trusted"},
		{"revoked", revoked, 4, "according to an OCSP answer"},
		{"damaged", good[:len(good)-9], 4, "status-unknown"},
	} {
		t.Run(c.name, func(t *testing.T) {
			staple = c.staple
			r := client.run("", "probe", host+"@"+address, "--anchor", filepath.Join(p.dir, "../root.pem"),
				"--revocations", above, "--require-revocation")
			if r.code != c.code || !strings.Contains(r.out, c.says) {
				t.Errorf("%s: %+v", c.name, r)
			}
		})
	}
}

// Files that tell of revocations are hostile.
func TestHostileRevocations(t *testing.T) {
	t.Parallel()
	w := specimen.NewLine(t)
	p := place{t: t, dir: t.TempDir()}
	pemOf := func(name string, list ...*cert.Certificate) string {
		var all []byte
		for _, c := range list {
			all = append(all, "-----BEGIN CERTIFICATE-----\n"+base64.StdEncoding.EncodeToString(c.Raw)+
				"\n-----END CERTIFICATE-----\n"...)
		}
		return p.file(name, all)
	}
	chain, root := pemOf("chain.pem", w.Leaf.Cert, w.Mid.Cert), pemOf("root.pem", w.Root.Cert)
	id, err := ocsp.IDOf(crypto.SHA1, w.Mid.Cert, w.Leaf.Cert.Serial)
	if err != nil {
		t.Fatal(err)
	}
	stranger := specimen.NewLine(t)
	answer, err := ocsp.Draft{Responder: stranger.Mid.Cert, Attach: true, At: specimen.Now,
		Responses: []ocsp.SingleResponse{{ID: id,
			This: specimen.Now, Next: specimen.Now.Add(time.Hour)}}}.Sign(stranger.Mid.Signer, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		data []byte
		code int
		says string
	}{
		"empty":    {nil, 1, "it is empty"},
		"words":    {[]byte("all aboard\n"), 1, ""},
		"deep":     {bytes.Repeat([]byte{0x30, 0x80}, 1<<20), 1, ""},
		"large":    {append([]byte{0x30, 0x84, 6, 0, 0, 0}, make([]byte, 100<<20)...), 1, "not the ASN.1 structure"},
		"cut":      {answer[:len(answer)-9], 1, ""},
		"stranger": {answer, 4, "gave no certificate"},
	} {
		t.Run(name, func(t *testing.T) {
			p := p.with(t)
			r := p.run("", "verify", chain, "--anchor", root, "--as-of", specimen.Now.Format(time.RFC3339),
				"--revocations",
				p.file(name+".der", c.data), "--require-revocation")
			if r.code != c.code || !strings.Contains(r.out+r.errors, c.says) {
				t.Errorf("%s: exit status %d\n%s%s", name, r.code, r.out, r.errors)
			}
		})
	}
}
