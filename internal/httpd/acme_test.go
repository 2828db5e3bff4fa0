package httpd_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/acme"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/demo/network"
	"ironseal/pki/revocation"
)

// office is a quay with machines that speak ACME.
type office struct {
	quay
	names *network.Network
}

func newOffice(t *testing.T, pairs ...string) office {
	t.Helper()
	w, err := network.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	web, tls := w.Ports()
	o := office{newQuay(t, append([]string{`challenge-resolver  = ""`, `challenge-resolver  = "` + w.Resolver() + `"`,
		"challenge-http-port = 80", fmt.Sprint("challenge-http-port = ", web),
		"challenge-tls-port  = 443", fmt.Sprint("challenge-tls-port  = ", tls),
		"challenge-local     = false", "challenge-local     = true"}, pairs...)...), w}
	if err := os.WriteFile(filepath.Join(o.dir, "templates", "gates.toml"),
		[]byte(strings.Replace(gates, "per-day   = 4", "per-day   = 10000", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	return o
}

// credential lets a number of accounts be registered.
func (o office) credential(names string, count int) (id string, secret []byte) {
	o.t.Helper()
	c, secret, err := enrol.MakeAccountKey(ctx, o.e, enrol.CodeAsk{Name: rand.Text(), Template: "gates",
		Names: []string{names}, Count: count, Until: o.e.Now().Add(time.Hour)})
	if err != nil {
		o.t.Fatal(err)
	}
	return c.KeyID, secret
}

func (o office) client() *acme.Client {
	o.t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		o.t.Fatal(err)
	}
	return &acme.Client{Key: k, DirectoryURL: o.est.URL + "/acme/gates/directory", HTTPClient: &http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}, Timeout: 20 * time.Second},
		RetryBackoff: func(int, *http.Request, *http.Response) time.Duration { return 50 * time.Millisecond }}
}

// registered is a client with an account.
func (o office) registered(names string) *acme.Client {
	o.t.Helper()
	c := o.client()
	id, secret := o.credential(names, 1)
	if _, err := c.Register(ctx, &acme.Account{Contact: []string{"mailto:yard@ternbay.example"},
		ExternalAccountBinding: &acme.ExternalAccountBinding{KID: id, Key: secret}}, acme.AcceptTOS); err != nil {
		o.t.Fatal(err)
	}
	return c
}

// answers makes the answer to a challenge of a kind ready.
func (o office) answers(c *acme.Client, z *acme.Authorization, kind string) *acme.Challenge {
	o.t.Helper()
	for _, ch := range z.Challenges {
		if ch.Type != kind {
			continue
		}
		host := z.Identifier.Value
		switch kind {
		case "http-01":
			text, err := c.HTTP01ChallengeResponse(ch.Token)
			if err != nil {
				o.t.Fatal(err)
			}
			o.names.Page(host, c.HTTP01ChallengePath(ch.Token), func(w http.ResponseWriter, _ *http.Request) {
				_, _ = io.WriteString(w, text)
			})
		case "dns-01":
			text, err := c.DNS01ChallengeRecord(ch.Token)
			if err != nil {
				o.t.Fatal(err)
			}
			o.names.Text("_acme-challenge."+host, text)
		case "tls-alpn-01":
			leaf, err := c.TLSALPN01ChallengeCert(ch.Token, host)
			if err != nil {
				o.t.Fatal(err)
			}
			o.names.Certificate(host, &leaf)
		}
		return ch
	}
	o.t.Fatalf("there is no challenge %s", kind)
	return nil
}

// proves orders names and proves control of each.
func (o office) proves(c *acme.Client, kind string, hosts ...string) *acme.Order {
	o.t.Helper()
	order, err := c.AuthorizeOrder(ctx, acme.DomainIDs(hosts...))
	if err != nil {
		o.t.Fatal(err)
	}
	for _, url := range order.AuthzURLs {
		z, err := c.GetAuthorization(ctx, url)
		if err != nil {
			o.t.Fatal(err)
		}
		if z.Status == acme.StatusValid {
			continue
		}
		if _, err := c.Accept(ctx, o.answers(c, z, kind)); err != nil {
			o.t.Fatal(err)
		}
		if _, err := c.WaitAuthorization(ctx, url); err != nil {
			o.t.Fatal(err)
		}
	}
	if order, err = c.WaitOrder(ctx, order.URI); err != nil {
		o.t.Fatal(err)
	}
	return order
}

// obtains gets a certificate.
func (o office) obtains(c *acme.Client, kind string, hosts ...string) (*device, []*x509.Certificate) {
	o.t.Helper()
	order := o.proves(c, kind, hosts...)
	d := newDevice(o.t, hosts...)
	chain, _, err := c.CreateOrderCert(ctx, order.FinalizeURL, d.der, true)
	if err != nil {
		o.t.Fatal(err)
	}
	var out []*x509.Certificate
	for _, der := range chain {
		out = append(out, parsed(o.t, der))
	}
	d.leaf = chain[0]
	return d, out
}

// A client that others wrote gets certificates by each challenge, revokes them, changes its key, and gives up.
func TestACMEByAnIndependentClient(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	c := o.registered("quay.ternbay.example")
	roots := x509.NewCertPool()
	for _, der := range o.estRoots() {
		if r := parsed(t, der); r.CheckSignatureFrom(r) == nil {
			roots.AddCert(r)
		}
	}
	for _, kind := range []string{"http-01", "dns-01", "tls-alpn-01"} {
		host := strings.ReplaceAll(kind, "-", "") + ".quay.ternbay.example"
		_, chain := o.obtains(c, kind, host)
		between := x509.NewCertPool()
		for _, up := range chain[1:] {
			between.AddCert(up)
		}
		if _, err := chain[0].Verify(x509.VerifyOptions{DNSName: host, Roots: roots,
			Intermediates: between}); err != nil {
			t.Errorf("%s: %v", kind, err)
		}
	}
	first, _ := o.obtains(c, "http-01", "gate-1.quay.ternbay.example", "gate-2.quay.ternbay.example")
	again, _ := o.obtains(c, "http-01", "gate-1.quay.ternbay.example", "gate-2.quay.ternbay.example")
	if again == nil {
		t.Fatal("a renewal was not signed")
	}
	record := o.record(first)
	if record.Record.Replaced != true {
		t.Error("the records do not know that the certificate was renewed")
	}
	next, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.AccountKeyRollover(ctx, next); err != nil {
		t.Fatal(err)
	}
	if err := c.RevokeCert(ctx, nil, again.leaf, acme.CRLReasonSuperseded); err != nil {
		t.Errorf("by the account: %v", err)
	}
	if got := o.record(again); got.State != "revoked" {
		t.Errorf("it is %s", got.State)
	}
	if err := o.client().RevokeCert(ctx, first.key, first.leaf, acme.CRLReasonKeyCompromise); err != nil {
		t.Errorf("by its key: %v", err)
	}
	if err := o.registered("ternbay.example").RevokeCert(ctx, nil, first.leaf, 0); err == nil {
		t.Error("another account revokes it")
	}
	if err := c.DeactivateReg(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := c.AuthorizeOrder(ctx, acme.DomainIDs("gate-3.quay.ternbay.example")); err == nil {
		t.Error("an account that was given up orders")
	}
}

func (o office) estRoots() [][]byte {
	o.t.Helper()
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	got, err := client.Get(o.est.URL + "/.well-known/est/cacerts")
	if err != nil {
		o.t.Fatal(err)
	}
	defer got.Body.Close()
	body, err := io.ReadAll(got.Body)
	if err != nil {
		o.t.Fatal(err)
	}
	return certificatesIn(o.t, string(body))
}

// An order outside of what may be signed without a person waits, is signed, and is fetched by the same client.
func TestACMEWaits(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	c := o.registered("ternbay.example")
	order := o.proves(c, "http-01", "crane.ternbay.example")
	d := newDevice(t, "crane.ternbay.example")
	type got struct {
		chain [][]byte
		err   error
	}
	done := make(chan got, 1)
	go func() {
		chain, _, err := c.CreateOrderCert(ctx, order.FinalizeURL, d.der, true)
		done <- got{chain, err}
	}()
	soon(t, "the request waits", func() bool {
		list, err := o.e.Requests(ctx, "waiting")
		return err == nil && len(list) > 0 && list[len(list)-1].Title == "crane.ternbay.example"
	})
	list, err := o.e.Requests(ctx, "waiting")
	if err != nil {
		t.Fatal(err)
	}
	number := fmt.Sprintf("R%d", list[len(list)-1].Number)
	why, err := enrol.Waits(ctx, o.e.Records, number)
	if err != nil || len(why) == 0 || !strings.Contains(why[0], "crane.ternbay.example") {
		t.Errorf("%v, %v", why, err)
	}
	sign(t, o.e, number)
	if g := <-done; g.err != nil || parsed(t, g.chain[0]).DNSNames[0] != "crane.ternbay.example" {
		t.Errorf("%v", g.err)
	}
}

// Renewal information leads clients before grants shrink, and at once in an incident.
func TestACMERenewalInformation(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	c := o.registered("quay.ternbay.example")
	d, chain := o.obtains(c, "http-01", "gate-1.quay.ternbay.example")
	window := func() (from, until time.Time) {
		t.Helper()
		serial := chain[0].SerialNumber.Bytes()
		if serial[0]&0x80 != 0 {
			serial = append([]byte{0}, serial...)
		}
		id := base64.RawURLEncoding.EncodeToString(chain[0].AuthorityKeyId) + "." +
			base64.RawURLEncoding.EncodeToString(serial)
		got, err := c.HTTPClient.Get(o.est.URL + "/acme/gates/renewal-info/" + id)
		if err != nil {
			t.Fatal(err)
		}
		defer got.Body.Close()
		var doc struct {
			SuggestedWindow struct{ Start, End time.Time }
		}
		if err := json.NewDecoder(got.Body).Decode(&doc); err != nil || got.StatusCode != 200 {
			t.Fatal(got.StatusCode, err)
		}
		return doc.SuggestedWindow.Start, doc.SuggestedWindow.End
	}
	from, until := window()
	life := chain[0].NotAfter.Sub(chain[0].NotBefore)
	if from.Before(chain[0].NotBefore.Add(life/2)) || !until.After(from) || until.After(chain[0].NotAfter) {
		t.Errorf("from %v until %v", from, until)
	}
	revoke(t, o.e, revocation.KeyCompromise, d.serial(t))
	if from, until = window(); !until.Before(time.Now()) || !until.After(from) {
		t.Errorf("after it was revoked: from %v until %v", from, until)
	}
}

// raw signs messages as the tests want them.
type raw struct {
	o     office
	key   crypto.Signer
	kid   string
	alg   string
	nonce string
}

func (r *raw) header(url string) map[string]any {
	h := map[string]any{"alg": r.alg, "nonce": r.nonce, "url": url}
	if r.alg == "" {
		h["alg"] = "ES256"
	}
	if r.kid != "" {
		h["kid"] = r.kid
	} else {
		h["jwk"] = jwk(r.key)
	}
	return h
}

func jwk(k crypto.Signer) map[string]string {
	public, err := k.Public().(*ecdsa.PublicKey).Bytes()
	if err != nil {
		return nil
	}
	return map[string]string{"kty": "EC", "crv": "P-256", "x": base64.RawURLEncoding.EncodeToString(public[1:33]),
		"y": base64.RawURLEncoding.EncodeToString(public[33:])}
}

// signed is a message in the flattened form.
func (r *raw) signed(header map[string]any, payload string) []byte {
	r.o.t.Helper()
	h, err := json.Marshal(header)
	if err != nil {
		r.o.t.Fatal(err)
	}
	return r.signedText(string(h), payload)
}

func (r *raw) signedText(header, payload string) []byte {
	r.o.t.Helper()
	protected := base64.RawURLEncoding.EncodeToString([]byte(header))
	body := base64.RawURLEncoding.EncodeToString([]byte(payload))
	sum := crypto.SHA256.New()
	io.WriteString(sum, protected+"."+body)
	a, b, err := ecdsa.Sign(rand.Reader, r.key.(*ecdsa.PrivateKey), sum.Sum(nil))
	if err != nil {
		r.o.t.Fatal(err)
	}
	sig := append(a.FillBytes(make([]byte, 32)), b.FillBytes(make([]byte, 32))...)
	out, err := json.Marshal(map[string]string{"protected": protected, "payload": body,
		"signature": base64.RawURLEncoding.EncodeToString(sig)})
	if err != nil {
		r.o.t.Fatal(err)
	}
	return out
}

// sends posts a message, and returns the status, the type of the problem, and where it leads.
func (r *raw) sends(path string, body []byte) (int, string, http.Header) {
	r.o.t.Helper()
	got, err := insecure().Post(r.o.est.URL+path, "application/jose+json", strings.NewReader(string(body)))
	if err != nil {
		r.o.t.Fatal(err)
	}
	defer got.Body.Close()
	if n := got.Header.Get("Replay-Nonce"); n != "" {
		r.nonce = n
	}
	var doc struct{ Type string }
	data, err := io.ReadAll(got.Body)
	if err != nil {
		r.o.t.Fatal(err)
	}
	_ = json.Unmarshal(data, &doc)
	if got.StatusCode >= 400 && got.Header.Get("Content-Type") != "application/problem+json" {
		r.o.t.Errorf("%s: %d comes as %s", path, got.StatusCode, got.Header.Get("Content-Type"))
	}
	return got.StatusCode, strings.TrimPrefix(doc.Type, "urn:ietf:params:acme:error:"), got.Header
}

// does signs a payload for a path, and sends it.
func (r *raw) does(path, payload string) (int, string, http.Header) {
	r.o.t.Helper()
	return r.sends(path, r.signed(r.header(r.o.est.URL+path), payload))
}

// insecure is a client that does not look at who answers.
func insecure() *http.Client {
	return &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		DisableKeepAlives: true}, Timeout: 20 * time.Second}
}

func newRaw(o office) *raw {
	o.t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		o.t.Fatal(err)
	}
	r := &raw{o: o, key: k}
	got, err := insecure().Head(o.est.URL + "/acme/gates/new-nonce")
	if err != nil {
		o.t.Fatal(err)
	}
	got.Body.Close()
	r.nonce = got.Header.Get("Replay-Nonce")
	return r
}

// account registers it.
func (r *raw) account(names string) *raw {
	r.o.t.Helper()
	c := r.o.client()
	c.Key = r.key
	id, secret := r.o.credential(names, 1)
	a, err := c.Register(ctx, &acme.Account{ExternalAccountBinding: &acme.ExternalAccountBinding{KID: id,
		Key: secret}}, acme.AcceptTOS)
	if err != nil {
		r.o.t.Fatal(err)
	}
	r.kid = a.URI
	return r
}
