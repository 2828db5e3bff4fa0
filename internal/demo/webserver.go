package demo

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"ironseal/pki/acme"
	"ironseal/pki/cert"
	"ironseal/pki/jose"
)

// webServer is a machine that speaks ACME: no more of it than the story needs.
type webServer struct {
	f     *fleet
	key   *ecdsa.PrivateKey
	jwk   jose.Key
	kid   string
	nonce string
	leaf  *cert.Certificate
}

func base64url(b []byte) string { return base64.RawURLEncoding.EncodeToString(b) }

const siteHost = "site.quay.ternbay.example"

// webServer gets its certificate by ACME, and another in an incident.
func (f *fleet) webServer(ctx context.Context) error {
	f.Narrate("A web server speaks ACME. It is given a key identifier and a key, registers an account, and proves " +
		"that\n" +
		"it controls its name by a page that the server fetches.")
	line := "enrol account web --template quay-machine --names quay.ternbay.example"
	said, err := f.Catch("ironseal "+line, Split(line))
	if err != nil {
		return err
	}
	w := &webServer{f: f}
	if err := w.registers(secretIn(said, 1), secretIn(said, 2)); err != nil {
		return err
	}
	if err := w.obtains(); err != nil {
		return err
	}
	if err := f.play([]scene{{say: "The key of services may be known to someone else. The administrator opens an " +
		"incident " +
		"and renews the authority\nwith another key. The machines need no visit.",
		typed: []string{`incident open services --because "the safe was found open"`,
			`authority renew services --suspect "the safe was found open" --yes`}}}); err != nil {
		return err
	}
	until, err := w.renewsUntil()
	if err != nil {
		return err
	}
	if !until.Before(time.Now()) {
		return errors.New("demo: the web server is not told to renew")
	}
	f.Answer(false, "renewal information tells the web server to renew at once")
	if err := w.obtains(); err != nil {
		return err
	}
	return f.play([]scene{{typed: []string{"enrol show web"}}})
}

// post sends a signed message.
func (w *webServer) post(url, payload string, into any) (http.Header, []byte, error) {
	who := fmt.Sprintf(`"kid":%q`, w.kid)
	if w.kid == "" {
		who = `"jwk":` + w.jwk.JSON()
	}
	header := base64url(fmt.Appendf(nil, `{"alg":"ES256","nonce":%q,"url":%q,%s}`, w.nonce, url, who))
	body := base64url([]byte(payload))
	sum := sha256.Sum256([]byte(header + "." + body))
	r, s, err := ecdsa.Sign(rand.Reader, w.key, sum[:])
	if err != nil {
		return nil, nil, err
	}
	sig := append(r.FillBytes(make([]byte, 32)), s.FillBytes(make([]byte, 32))...)
	got, err := w.f.client.Post(url, "application/jose+json", strings.NewReader(fmt.Sprintf(
		`{"protected":%q,"payload":%q,"signature":%q}`, header, body, base64url(sig))))
	if err != nil {
		return nil, nil, fmt.Errorf("demo: %w", err)
	}
	defer got.Body.Close()
	text, err := io.ReadAll(io.LimitReader(got.Body, 1<<20))
	w.nonce = got.Header.Get("Replay-Nonce")
	if err == nil && got.StatusCode >= 300 {
		err = fmt.Errorf("demo: %s: %s %s", url, got.Status, text)
	}
	if err == nil && into != nil {
		err = json.Unmarshal(text, into)
	}
	return got.Header, text, err
}

func (w *webServer) at(path string) string {
	return "https://" + w.f.machines + "/acme/quay-machine/" + path
}

// registers makes an account that is bound to a key.
func (w *webServer) registers(id, secret string) (err error) {
	if w.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return err
	}
	point, err := w.key.PublicKey.Bytes()
	if err != nil {
		return err
	}
	if w.jwk, err = jose.Known(fmt.Appendf(nil, `{"kty":"EC","crv":"P-256","x":%q,"y":%q}`, base64url(point[1:33]),
		base64url(point[33:]))); err != nil {
		return err
	}
	got, err := w.f.client.Head(w.at("new-nonce"))
	if err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	got.Body.Close()
	w.nonce = got.Header.Get("Replay-Nonce")
	mac, err := jose.Base64(secret)
	if err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	header := base64url(fmt.Appendf(nil, `{"alg":"HS256","kid":%q,"url":%q}`, id, w.at("new-account")))
	body := base64url([]byte(w.jwk.JSON()))
	h := hmac.New(sha256.New, mac)
	h.Write([]byte(header + "." + body))
	told, _, err := w.post(w.at("new-account"), fmt.Sprintf(
		`{"externalAccountBinding":{"protected":%q,"payload":%q,"signature":%q}}`, header, body, base64url(h.Sum(nil))),
		nil)
	if err == nil {
		w.kid = told.Get("Location")
	}
	return err
}

// obtains orders a certificate, proves control of the name, and fetches it.
func (w *webServer) obtains() error {
	var order struct {
		Authorizations        []string
		Finalize, Certificate string
	}
	if _, _, err := w.post(w.at("new-order"), `{"identifiers":[{"type":"dns","value":"`+siteHost+`"}]}`,
		&order); err != nil {
		return err
	}
	var proof struct {
		Challenges []struct{ Type, URL, Token string }
	}
	if _, _, err := w.post(order.Authorizations[0], "", &proof); err != nil {
		return err
	}
	c := proof.Challenges[0]
	answer := acme.KeyAuthorization(c.Token, w.jwk)
	w.f.names.Page(siteHost, "/.well-known/acme-challenge/"+c.Token, func(to http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(to, answer)
	})
	if _, _, err := w.post(c.URL, "{}", nil); err != nil {
		return err
	}
	_, der, err := drafted(siteHost)
	if err != nil {
		return err
	}
	if _, _, err := w.post(order.Finalize, fmt.Sprintf(`{"csr":%q}`, base64url(der)), &order); err != nil {
		return err
	}
	if order.Certificate == "" {
		return errors.New("demo: the order of the web server waits")
	}
	_, chain, err := w.post(order.Certificate, "", nil)
	if err != nil {
		return err
	}
	block, _ := pem.Decode(chain)
	if block == nil {
		return errors.New("demo: no certificate came")
	}
	if w.leaf, err = cert.Read(block.Bytes); err != nil {
		return err
	}
	return w.f.has("the web server", block.Bytes)
}

// renewsUntil is the end of the window in which it should renew.
func (w *webServer) renewsUntil() (time.Time, error) {
	var told struct {
		SuggestedWindow struct{ End time.Time }
	}
	r, err := w.f.client.Get(w.at("renewal-info/" + acme.CertificateID(w.leaf)))
	if err != nil {
		return time.Time{}, fmt.Errorf("demo: %w", err)
	}
	defer r.Body.Close()
	err = json.NewDecoder(io.LimitReader(r.Body, 1<<16)).Decode(&told)
	return told.SuggestedWindow.End, err
}
