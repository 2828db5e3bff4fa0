package httpd_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"golang.org/x/crypto/acme"

	"ironseal/internal/httpd"
)

// A message that is not just as it must be is refused with the registered type.
func TestACMERefusesMessages(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	r := newRaw(o).account("quay.ternbay.example")
	const path = "/acme/gates/new-order"
	const payload = `{"identifiers":[{"type":"dns","value":"gate-1.quay.ternbay.example"}]}`
	url := o.est.URL + path
	with := func(change func(h map[string]any)) []byte {
		h := r.header(url)
		change(h)
		return r.signed(h, payload)
	}
	header := func() string {
		b, err := json.Marshal(r.header(url))
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	stranger := newRaw(o)
	for name, try := range map[string]struct {
		body func() []byte
		want string
	}{
		"no algorithm": {func() []byte { return with(func(h map[string]any) { delete(h, "alg") }) }, "malformed"},
		"none": {func() []byte { return with(func(h map[string]any) { h["alg"] = "none" }) },
			"badSignatureAlgorithm"},
		"a MAC by the key": {func() []byte { return with(func(h map[string]any) { h["alg"] = "HS256" }) },
			"badSignatureAlgorithm"},
		"of another curve": {func() []byte { return with(func(h map[string]any) { h["alg"] = "ES384" }) },
			"badSignatureAlgorithm"},
		"no nonce":        {func() []byte { return with(func(h map[string]any) { delete(h, "nonce") }) }, "badNonce"},
		"a made-up nonce": {func() []byte { return with(func(h map[string]any) { h["nonce"] = "AAAA" }) }, "badNonce"},
		"a changed nonce": {func() []byte {
			return with(func(h map[string]any) { h["nonce"] = "B" + r.nonce[1:] })
		}, "badNonce"},
		"another address": {func() []byte { return with(func(h map[string]any) { h["url"] = url + "/" }) },
			"malformed"},
		"no address": {func() []byte { return with(func(h map[string]any) { delete(h, "url") }) }, "malformed"},
		"another case": {func() []byte {
			return r.signedText(strings.Replace(header(), `"url"`, `"URL"`, 1),
				payload)
		}, "malformed"},
		"an address twice": {func() []byte {
			return r.signedText(strings.Replace(header(), "{", `{"url":"https://ternbay.example/",`, 1), payload)
		}, "malformed"},
		"critical extensions": {func() []byte {
			return with(func(h map[string]any) { h["crit"], h["b64"] = []string{"b64"}, false })
		}, "malformed"},
		"a key and an account": {func() []byte { return with(func(h map[string]any) { h["jwk"] = jwk(r.key) }) },
			"malformed"},
		"by a key alone": {func() []byte {
			return with(func(h map[string]any) { delete(h, "kid"); h["jwk"] = jwk(r.key) })
		}, "malformed"},
		"an account that is not there": {func() []byte {
			return with(func(h map[string]any) { h["kid"] = o.est.URL + "/acme/gates/account/nobody" })
		}, "accountDoesNotExist"},
		"an account elsewhere": {func() []byte {
			return with(func(h map[string]any) { h["kid"] = "https://ternbay.example/acme/gates/account/x" })
		}, "accountDoesNotExist"},
		"signed by another": {func() []byte {
			stranger.nonce, stranger.kid = r.nonce, r.kid
			return stranger.signed(stranger.header(url), payload)
		}, "unauthorized"},
		"deep JSON": {func() []byte { return r.signed(r.header(url), strings.Repeat("[", 50_000)) }, "malformed"},
		"no JSON":   {func() []byte { return []byte("aboard") }, "malformed"},
		"a general signature": {func() []byte {
			return bytes.Replace(with(func(map[string]any) {}), []byte("{"), []byte(`{"signatures":[],`), 1)
		}, "malformed"},
		"an unprotected header": {func() []byte {
			return bytes.Replace(with(func(map[string]any) {}), []byte("{"), []byte(`{"header":{"kid":"x"},`), 1)
		}, "malformed"},
		"a line break in base64": {func() []byte {
			return bytes.Replace(with(func(map[string]any) {}), []byte(`"payload":"`), []byte(`"payload":"\n`), 1)
		}, "malformed"},
		"too large": {func() []byte { return bytes.Repeat([]byte("a"), 66<<10) }, "malformed"},
	} {
		if status, kind, _ := r.sends(path, try.body()); kind != try.want || status < 400 || status >= 500 {
			t.Errorf("%s: %d %s, want %s", name, status, kind, try.want)
		}
	}
	body := with(func(map[string]any) {})
	if status, kind, _ := r.sends(path, body); status != 201 {
		t.Fatalf("a message as it must be: %d %s", status, kind)
	}
	if status, kind, _ := r.sends(path, body); status != 400 || kind != "badNonce" {
		t.Errorf("sent again: %d %s", status, kind)
	}
	mixed := httpdClient().post(t, url, "application/json", with(func(map[string]any) {}))
	if mixed != 400 {
		t.Errorf("as another type: %d", mixed)
	}
}

type posting struct{ c *http.Client }

func httpdClient() posting { return posting{insecure()} }

func (p posting) post(t *testing.T, url, kind string, body []byte) int {
	t.Helper()
	got, err := p.c.Post(url, kind, bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	defer got.Body.Close()
	_, _ = io.Copy(io.Discard, got.Body)
	return got.StatusCode
}

// Keys that are written in two ways, or that nobody should use, register nothing; one key has one account.
func TestACMEKeys(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	r := newRaw(o)
	const path = "/acme/gates/new-account"
	key := func(change func(k map[string]string)) string {
		k := jwk(r.key)
		change(k)
		b, err := json.Marshal(k)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	small := base64.RawURLEncoding.EncodeToString(bytes.Repeat([]byte{0xC3}, 64))
	for name, text := range map[string]string{
		"leading zeros":      key(func(k map[string]string) { k["x"] = "AA" + k["x"] }),
		"off the curve":      key(func(k map[string]string) { k["x"] = k["y"] }),
		"with padding":       key(func(k map[string]string) { k["x"] += "=" }),
		"with a secret part": key(func(k map[string]string) { k["d"] = k["x"] }),
		"symmetric":          `{"kty":"oct","k":"AAAA"}`,
		"RSA of 512 bits":    `{"kty":"RSA","e":"AQAB","n":"` + small + `"}`,
		"RSA, exponent 1":    `{"kty":"RSA","e":"AQ","n":"` + strings.Repeat(small, 4) + `"}`,
		"RSA, leading zeros": `{"kty":"RSA","e":"AAEAAQ","n":"` + strings.Repeat(small, 4) + `"}`,
		"a member twice":     strings.Replace(key(func(map[string]string) {}), "{", `{"kty":"EC",`, 1),
		"another curve":      `{"kty":"EC","crv":"secp256k1","x":"AA","y":"AA"}`,
	} {
		header := fmt.Sprintf(`{"alg":"ES256","nonce":%q,"url":%q,"jwk":%s}`, r.nonce, o.est.URL+path, text)
		status, kind, _ := r.sends(path, r.signedText(header, "{}"))
		if status != 400 || kind != "badPublicKey" && kind != "malformed" {
			t.Errorf("%s: %d %s", name, status, kind)
		}
	}
	if status, kind, _ := r.does(path, `{}`); status != 401 || kind != "externalAccountRequired" {
		t.Errorf("without a binding: %d %s", status, kind)
	}
	c := o.client()
	id, secret := o.credential("quay.ternbay.example", 1)
	for name, b := range map[string]*acme.ExternalAccountBinding{
		"another identifier": {KID: "nobody", Key: secret}, "another key": {KID: id, Key: bytes.Repeat([]byte{1}, 32)},
	} {
		if _, err := c.Register(ctx, &acme.Account{ExternalAccountBinding: b}, acme.AcceptTOS); err == nil {
			t.Errorf("bound by %s", name)
		}
	}
	good := &acme.ExternalAccountBinding{KID: id, Key: secret}
	if _, err := c.Register(ctx, &acme.Account{ExternalAccountBinding: good}, acme.AcceptTOS); err != nil {
		t.Fatal(err)
	}
	if _, err := o.client().Register(ctx, &acme.Account{ExternalAccountBinding: good}, acme.AcceptTOS); err == nil {
		t.Error("a key for one account registers a second")
	}
	for _, contact := range []string{"tel:123", "mailto:", "mailto:a@b?bcc=c@d", "mailto:a@b,c@d"} {
		if _, err := c.UpdateReg(ctx, &acme.Account{Contact: []string{contact}}); err == nil {
			t.Errorf("the contact %q is taken", contact)
		}
	}
}

// Names that are odd, or that the account may not order, are rejected one by one.
func TestACMERejectsNames(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	r := newRaw(o).account("quay.ternbay.example")
	const path = "/acme/gates/new-order"
	for _, name := range []string{
		`{"type":"dns","value":"crane.ternbay.example"}`, `{"type":"dns","value":"GATE.quay.ternbay.example"}`,
		`{"type":"dns","value":"gate.quay.ternbay.example."}`, `{"type":"dns","value":".quay.ternbay.example"}`,
		`{"type":"dns","value":"a..quay.ternbay.example"}`, `{"type":"dns","value":"a*.quay.ternbay.example"}`,
		`{"type":"dns","value":"*.*.quay.ternbay.example"}`, `{"type":"dns","value":"127.0.0.1"}`,
		`{"type":"dns","value":"g\u0430te.quay.ternbay.example"}`,
		`{"type":"dns","value":"g\u0130.quay.ternbay.example"}`,
		`{"type":"dns","value":"gate\u0000.quay.ternbay.example"}`, `{"type":"dns","value":"localhost"}`,
		`{"type":"dns","value":""}`, `{"type":"ip","value":"127.1"}`, `{"type":"ip","value":"::ffff:192.0.2.1"}`,
		`{"type":"ip","value":"192.0.2.010"}`, `{"type":"ip","value":"2001:DB8::1"}`,
		`{"type":"ip","value":"fe80::1%eth0"}`,
		`{"type":"ip","value":"192.0.2.1"}`, `{"type":"email","value":"a@quay.ternbay.example"}`, `{"type":1}`,
	} {
		status, kind, _ := r.does(path, `{"identifiers":[`+name+`]}`)
		if status < 400 || status >= 500 || kind != "rejectedIdentifier" && kind != "unsupportedIdentifier" &&
			kind != "malformed" {
			t.Errorf("%s: %d %s", name, status, kind)
		}
	}
	const gate = `{"type":"dns","value":"gate-1.quay.ternbay.example"}`
	for name, payload := range map[string]string{"none": `{"identifiers":[]}`,
		"twice": `{"identifiers":[` + gate + `,` +
			gate + `]}`, "dated": `{"identifiers":[` + gate + `],"notAfter":"2030-01-01T00:00:00Z"}`,
		"many": `{"identifiers":[` + strings.Repeat(gate+",", 200) + gate + `]}`} {
		if status, kind, _ := r.does(path, payload); status != 400 || kind != "malformed" {
			t.Errorf("%s: %d %s", name, status, kind)
		}
	}
	for n := range 400 {
		status, kind, _ := r.does(path, fmt.
			Sprintf(`{"identifiers":[{"type":"dns","value":"g%d.quay.ternbay.example"}]}`,
				n))
		if status == 429 && kind == "rateLimited" && n >= 300 {
			return
		}
		if status != 201 {
			t.Fatalf("order %d: %d %s", n, status, kind)
		}
	}
	t.Error("an account orders as much as it likes")
}

// A challenge whose answer is too large, too far, or inside is not met, and leads nowhere that no challenge may lead.
func TestACMEChallengesAreBounded(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	var reached atomic.Int32
	inside := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached.Add(1) }))
	t.Cleanup(inside.Close)
	c := o.registered("quay.ternbay.example")
	fails := func(host string, do http.HandlerFunc) string {
		t.Helper()
		order, err := c.AuthorizeOrder(ctx, acme.DomainIDs(host))
		if err != nil {
			t.Fatal(err)
		}
		z, err := c.GetAuthorization(ctx, order.AuthzURLs[0])
		if err != nil {
			t.Fatal(err)
		}
		ch := o.answers(c, z, "http-01")
		o.names.Page(host, c.HTTP01ChallengePath(ch.Token), do)
		if _, err := c.Accept(ctx, ch); err != nil {
			t.Fatal(err)
		}
		z, err = c.GetAuthorization(ctx, z.URI)
		if err != nil || z.Status != acme.StatusInvalid {
			t.Errorf("%s: it is %v, %v", host, z, err)
			return ""
		}
		return fmt.Sprint(z.Challenges[0].Error)
	}
	fails("wrong.quay.ternbay.example", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "aboard") })
	fails("endless.quay.ternbay.example", func(w http.ResponseWriter, _ *http.Request) {
		for range 1 << 14 {
			if _, err := w.Write(bytes.Repeat([]byte("a"), 1<<10)); err != nil {
				return
			}
		}
	})
	fails("elsewhere.quay.ternbay.example", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, inside.URL, http.StatusFound)
	})
	fails("round.quay.ternbay.example", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, r.URL.Path, http.StatusFound)
	})
	fails("file.quay.ternbay.example", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Location", "file:///etc/passwd")
		w.WriteHeader(http.StatusFound)
	})
	// This server's own addresses and those of the machine are refused, however names lead there.
	change(t, o.dir, "challenge-local     = true", "challenge-local     = false")
	soon(t, "the settings were read again", func() bool { return !o.s.Settings().Local })
	for n, at := range []string{"127.0.0.1", "::1", "169.254.169.254", "fe80::1", "0.0.0.0", "::ffff:127.0.0.1",
		"64:ff9b::7f00:1", "224.0.0.1", "fd00:ec2::254"} {
		o.names.Leads(func(string) netip.Addr { return netip.MustParseAddr(at) })
		fails(fmt.Sprintf("in%d.quay.ternbay.example", n), func(http.ResponseWriter, *http.Request) { reached.Add(1) })
	}
	if reached.Load() != 0 {
		t.Error("a challenge led inside")
	}
}

// Whatever a message holds, the answer is a problem with a registered type, never a fault of the server.
func TestACMESurvivesMutations(t *testing.T) {
	t.Parallel()
	rounds := manyRounds(3000)
	o := newOffice(t, "pace           = 600", "pace           = 0")
	o.level.Set(100)
	r := newRaw(o).account("quay.ternbay.example")
	srv, err := httpd.New(o.s, o.logger)
	if err != nil {
		t.Fatal(err)
	}
	handler := srv.Handlers()[httpd.NameMachines]
	paths := []string{"new-order", "new-account", "key-change", "revoke-cert", "finalize/x", "order/x", "authz/x/0",
		"challenge/x/0/http-01", "account/x", "certificate/x", "orders/x"}
	payloads := []string{`{"identifiers":[{"type":"dns","value":"gate-1.quay.ternbay.example"}]}`, `{}`, ``,
		`{"csr":"MIIB"}`, `{"certificate":"MIIB","reason":1}`, `{"status":"deactivated"}`, `{"contact":["mailto:a@b"]}`}
	random := rand.New(rand.NewPCG(1, 2))
	for range rounds {
		path := "/acme/gates/" + paths[random.IntN(len(paths))]
		payload := []byte(payloads[random.IntN(len(payloads))])
		var body []byte
		if random.IntN(4) == 0 { // what is signed is mutated
			body = r.signed(r.header("https://example.com"+path), string(mutated(random, payload)))
		} else {
			body = mutated(random, r.signed(r.header("https://example.com"+path), string(payload)))
		}
		q := httptest.NewRequest(http.MethodPost, "https://example.com"+path, bytes.NewReader(body))
		q.Header.Set("Content-Type", "application/jose+json")
		a := httptest.NewRecorder()
		handler.ServeHTTP(a, q)
		if n := a.Header().Get("Replay-Nonce"); n != "" {
			r.nonce = n
		}
		if a.Code >= 500 || a.Code >= 400 && a.Header().Get("Content-Type") != "application/problem+json" {
			t.Fatalf("%s: %d %s\n%q", path, a.Code, a.Body, body)
		}
	}
}

// manyRounds is how many inputs are tried: all of them where there is the time.
func manyRounds(few int) int {
	if (os.Getenv("CI") == "true" || os.Getenv("IRONSEAL_LONG") != "") && !racing {
		return 100_000
	}
	return few
}

// mutated changes some octets.
func mutated(random *rand.Rand, data []byte) []byte {
	out := bytes.Clone(data)
	for range 1 + random.IntN(3) {
		if len(out) == 0 {
			return []byte{byte(random.IntN(256))}
		}
		at := random.IntN(len(out))
		switch random.IntN(4) {
		case 0:
			out[at] = byte(random.IntN(256))
		case 1:
			out = append(out[:at], out[at+1:]...)
		case 2:
			out = append(out[:at], append([]byte{byte(random.IntN(256))}, out[at:]...)...)
		case 3:
			out = append(out[:at], out[random.IntN(at+1):]...)
		}
	}
	return out
}
