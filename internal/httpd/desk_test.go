package httpd_test

import (
	"archive/zip"
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"html"
	"mime/multipart"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/requests/desk"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/pki/bundle"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/pkcs"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

// asking is a request as a device makes it.
func asking(t testing.TB, host string, names ...string) string {
	t.Helper()
	if len(names) == 0 {
		names = []string{host}
	}
	return string(bundle.PEM(bundle.Request, specimen.Request(t, nil, "CN="+host, names).Raw))
}

// post sends a form.
func (h *harbour) post(path string, pairs ...string) (*http.Response, string) {
	h.t.Helper()
	form := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		form.Set(pairs[i], pairs[i+1])
	}
	r, body := do(h.t, http.MethodPost, h.desk.URL+path, strings.NewReader(form.Encode()), "Content-Type",
		"application/x-www-form-urlencoded")
	return r, html.UnescapeString(string(body))
}

// handIn hands a request in, and returns the path of its page.
func (h *harbour) handIn(pairs ...string) string {
	h.t.Helper()
	r, page := h.post("/hand-in", pairs...)
	at := r.Header.Get("Location")
	if r.StatusCode != http.StatusSeeOther || !regexp.MustCompile(`^/request/[A-Za-z0-9_-]{22}$`).MatchString(at) {
		h.t.Fatalf("%d %q: %s", r.StatusCode, at, page)
	}
	return at
}

// page fetches a page of the desk.
func (h *harbour) page(path string) (int, string) {
	h.t.Helper()
	r, body := get(h.t, h.desk.URL+path)
	return r.StatusCode, html.UnescapeString(string(body))
}

// says fails unless a page has all texts.
func says(t testing.TB, page string, texts ...string) {
	t.Helper()
	for _, x := range texts {
		if !strings.Contains(page, x) {
			t.Errorf("the page lacks %q:\n%s", x, page)
		}
	}
}

// A person hands in a request, and fetches what was signed.
func TestTheWayOfARequest(t *testing.T) {
	t.Parallel()
	h := serve(t)
	text := asking(t, "crane.ternbay.example")
	block, _ := pem.Decode([]byte(text))
	r, page := h.post("/read", "request", "Dear harbour office,\n\n"+text+"\nRegards", "from", "Ana Tide", "purpose",
		"crane control", "names", "192.0.2.44, crane-2.ternbay.example", "receiver", "nginx")
	if r.StatusCode != 200 {
		t.Fatalf("%d: %s", r.StatusCode, page)
	}
	says(t, page, label.CheckCode(block.Bytes), "crane.ternbay.example", "192.0.2.44", "crane-2.ternbay.example",
		"Ana Tide",
		"crane control", "Hand it in")
	if list, err := h.e.Requests(ctx, lifecycle.Waiting); err != nil || len(list) != 1 { // the desk's own
		t.Fatalf("%d requests wait before anything was handed in: %v", len(list), err)
	}
	at := h.handIn("request", text, "from", "Ana Tide", "purpose", "crane control", "names",
		"192.0.2.44 crane-2.ternbay.example", "receiver", "nginx")
	_, page = h.page(at)
	says(t, page, "R2", "It waits", label.CheckCode(block.Bytes), "Keep this address", at)
	rec, _, err := h.e.Request(ctx, "R2")
	if err != nil || rec.Sender != "desk: Ana Tide" {
		t.Fatalf("%+v %v", rec, err)
	}
	sheet, err := signing.Plan(ctx, h.e, signing.SignAsk{Request: "R2", Template: "web-server", By: "services"})
	if err != nil {
		t.Fatal(err)
	}
	asked := 0
	for _, row := range sheet.Plan.Rows {
		if row.Field == "name" && row.Asked == "" && strings.Contains(row.Cause, "by the sender, not by the request") {
			asked++
		}
	}
	if asked != 2 || sheet.HandedIn == nil || sheet.HandedIn.Purpose != "crane control" {
		t.Errorf("%d names beside the request stand on the sheet: %+v", asked, sheet.Plan.Rows)
	}
	sign(t, h.e, "R2")
	_, page = h.page(at)
	says(t, page, "It is signed", "nginx", "192.0.2.44")
	h.fetched(at, "crane.ternbay.example", "crane-2.ternbay.example", "192.0.2.44")
	h.handedOver(at)
	c, _, err := h.e.FindCertificate(ctx, "R2")
	if err != nil {
		t.Fatal(err)
	}
	revoke(t, h.e, revocation.KeyCompromise, c.SerialHex())
	_, page = h.page(at)
	says(t, page, "Do not use this certificate")
	for _, file := range []string{"/certificate.pem", "/for/nginx"} {
		if code, _ := h.page(at + file); code != http.StatusConflict {
			t.Errorf("%s of a revoked certificate: %d", file, code)
		}
	}
	if said := h.log.String(); strings.Contains(said, strings.TrimPrefix(at, "/request/")) {
		t.Error("the log has the private address")
	}
}

// fetched checks every shape of a certificate with the standard library.
func (h *harbour) fetched(at string, names ...string) {
	h.t.Helper()
	_, text := get(h.t, h.desk.URL+at+"/certificate.pem")
	block, _ := pem.Decode(text)
	if block == nil {
		h.t.Fatalf("%s", text)
	}
	leaf := parsed(h.t, block.Bytes)
	if _, der := get(h.t, h.desk.URL+at+"/certificate.cer"); !bytes.Equal(der, leaf.Raw) {
		h.t.Error("DER and PEM differ")
	}
	_, chain := get(h.t, h.desk.URL+at+"/chain.pem")
	first, rest := pem.Decode(chain)
	second, rest := pem.Decode(rest)
	if first == nil || second == nil || !bytes.Equal(first.Bytes, leaf.Raw) || len(bytes.TrimSpace(rest)) > 0 {
		h.t.Fatalf("the chain is not in order:\n%s", chain)
	}
	_, p7 := get(h.t, h.desk.URL+at+"/chain.p7b")
	list, err := pkcs.ReadSignedData(p7)
	if err != nil || len(list) != 3 {
		h.t.Fatalf("PKCS#7: %d, %v", len(list), err)
	}
	root, err := h.e.Generation(ctx, "root")
	if err != nil {
		h.t.Fatal(err)
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	roots.AddCert(parsed(h.t, root.Certificate.Raw))
	between.AddCert(parsed(h.t, second.Bytes))
	for _, name := range names {
		if _, err := leaf.Verify(x509.VerifyOptions{DNSName: name, Roots: roots, Intermediates: between}); err != nil {
			h.t.Errorf("%s: %v", name, err)
		}
	}
}

// handedOver fetches a handover, as files and as an archive.
func (h *harbour) handedOver(at string) {
	h.t.Helper()
	_, page := h.page(at + "/for/nginx")
	says(h.t, page, "Compare this code first", "ssl_certificate", "crane.ternbay.example.with-issuers.pem")
	for range 2 { // the second changes nothing on record
		r, data := get(h.t, h.desk.URL+at+"/for/nginx/all.zip")
		z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
		if err != nil || len(z.File) < 3 {
			h.t.Fatalf("%d: %v", r.StatusCode, err)
		}
	}
	c, _, err := h.e.FindCertificate(ctx, "R2")
	if err != nil {
		h.t.Fatal(err)
	}
	if holders, err := h.e.Holders(ctx, c); err != nil || len(holders) != 1 || holders[0] != "desk: Ana Tide" {
		h.t.Errorf("it is held by %v: %v", holders, err)
	}
	if code, _ := h.page(at + "/for/java"); code == 200 {
		h.t.Error("a receiver that takes the key was offered")
	}
}

// A request is declined with a reason, renewed by its holder, and not taken twice.
func TestDecliningAndRenewing(t *testing.T) {
	t.Parallel()
	h := serve(t)
	text := asking(t, "buoy.ternbay.example")
	at := h.handIn("request", text, "from", "Bo Reef")
	if r, page := h.post("/hand-in", "request", text, "from", "Bo Reef"); r.StatusCode != 409 ||
		!strings.Contains(page, "handed in before") {
		t.Errorf("the same request again: %d", r.StatusCode)
	}
	if _, err := intake.Decide(ctx, h.e, "R2", lifecycle.Declined, "the buoy was <b>lost</b>", false); err != nil {
		t.Fatal(err)
	}
	r, raw := get(t, h.desk.URL+at)
	if r.StatusCode != 200 || !bytes.Contains(raw, []byte("the buoy was &lt;b&gt;lost&lt;/b&gt;")) {
		t.Errorf("%d %s", r.StatusCode, raw)
	}
	secret := strings.TrimPrefix(at, "/request/")
	if r, _ := h.post("/read", "request", asking(t, "buoy.ternbay.example"), "from", "Bo", "renews",
		secret); r.StatusCode != 409 {
		t.Errorf("what was declined is renewed: %d", r.StatusCode)
	}
	at = h.handIn("request", asking(t, "buoy.ternbay.example"), "from", "Bo Reef")
	sign(t, h.e, "R3")
	secret = strings.TrimPrefix(at, "/request/")
	if code, page := h.page(at + "/renew"); code != 200 || !strings.Contains(page, "Renew R3") {
		t.Errorf("%d", code)
	}
	if r, page := h.post("/read", "request", asking(t, "other.ternbay.example"), "from", "Bo", "renews",
		secret); r.StatusCode != 409 || !strings.Contains(page, "not in the certificate of R3") {
		t.Errorf("other names are renewed: %d", r.StatusCode)
	}
	next := h.handIn("request", asking(t, "buoy.ternbay.example"), "from", "Bo Reef", "renews", secret)
	_, page := h.page(next)
	says(t, page, "R4", "Renews", "R3")
}

// An invitation limits templates, names and number, and ends.
func TestInvitations(t *testing.T) {
	t.Parallel()
	h := serve(t, `desk-open-to   = "all"`, `desk-open-to   = "invited"`)
	if r, page := h.post("/hand-in", "request", asking(t, "a.quay.ternbay.example"), "from",
		"Eve"); r.StatusCode != 409 ||
		!strings.Contains(page, "invitation") {
		t.Errorf("without an invitation: %d", r.StatusCode)
	}
	i, secret, err := desk.Invite(ctx, h.e, desk.InviteAsk{Name: "Ana Tide", Templates: []string{"web-server"},
		Names: []string{"quay.ternbay.example"}, Count: 2, Until: h.e.Now().Add(48 * time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := desk.Invite(ctx, h.e, desk.InviteAsk{Name: i.Name, Until: i.Until}); err == nil {
		t.Error("a person was invited twice")
	}
	_, page := h.page("/invited/" + secret)
	says(t, page, "Ana Tide", "quay.ternbay.example", "0 of 2")
	for name, bad := range map[string][]string{
		"another name": {"request", asking(t, "pier.ternbay.example"), "template", "web-server"},
		"a name beside": {"request", asking(t, "b.quay.ternbay.example"), "template", "web-server", "names",
			"pier.ternbay.example"},
		"another template": {"request", asking(t, "c.quay.ternbay.example"), "template", "vpn-gateway"},
		"no template":      {"request", asking(t, "d.quay.ternbay.example")},
	} {
		if r, _ := h.post("/hand-in", append(bad, "from", "Ana", "invitation", secret)...); r.StatusCode != 409 {
			t.Errorf("%s: %d", name, r.StatusCode)
		}
	}
	for n := range 2 {
		h.handIn("request", asking(t, fmt.Sprintf("gate-%d.quay.ternbay.example", n)), "from", "Ana", "template",
			"web-server",
			"invitation", secret)
	}
	if r, page := h.post("/hand-in", "request", asking(t, "gate-3.quay.ternbay.example"), "from", "Ana", "template",
		"web-server", "invitation", secret); r.StatusCode != 409 || !strings.Contains(page, "holds no more") {
		t.Errorf("a third of two: %d", r.StatusCode)
	}
	if _, err := desk.End(ctx, h.e, "Ana Tide", "it was tried"); err == nil {
		t.Error("an invitation ended twice")
	}
	i, secret, err = desk.Invite(ctx, h.e, desk.InviteAsk{Name: "Ana Tide", Until: h.e.Now().Add(time.Hour)})
	if err != nil || i.Used != 0 {
		t.Fatalf("%+v %v", i, err)
	}
	if _, err := desk.End(ctx, h.e, "Ana Tide", "she left"); err != nil {
		t.Fatal(err)
	}
	_, page = h.page("/invited/" + secret)
	says(t, page, "she left")
	all, err := desk.Invitations(ctx, h.e)
	if err != nil || len(all) != 1 || all[0].Ended != "she left" {
		t.Errorf("%+v %v", all, err)
	}
}

// A desk that is closed takes nothing, from those neither who were invited nor who renew. Earlier pages stay.
func TestAClosedDesk(t *testing.T) {
	t.Parallel()
	h := serve(t)
	at := h.handIn("request", asking(t, "pier.ternbay.example"), "from", "Ana")
	sign(t, h.e, "R2")
	_, secret, err := desk.Invite(ctx, h.e, desk.InviteAsk{Name: "Ana", Until: h.e.Now().Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	change(t, h.dir, `desk-open-to   = "all"`, `desk-open-to   = "nobody"`)
	soon(t, "the settings were read again", func() bool { return h.s.Settings().Open == "nobody" })
	for name, with := range map[string][]string{"anybody": nil, "who was invited": {"invitation", secret},
		"who renews": {"renews", strings.TrimPrefix(at, "/request/")}} {
		if r, _ := h.post("/hand-in", append(with, "request", asking(t, "pier.ternbay.example"), "from",
			"Ana")...); r.StatusCode != 409 {
			t.Errorf("%s: %d", name, r.StatusCode)
		}
	}
	if code, page := h.page(at); code != 200 || !strings.Contains(page, "It is signed") {
		t.Errorf("%d", code)
	}
}

// Pages of the desk are plain, private and of one origin. Nothing in them runs.
func TestHeadersOfPages(t *testing.T) {
	t.Parallel()
	h := serve(t)
	at := h.handIn("request", asking(t, "pier.ternbay.example"), "from", "Ana")
	for _, path := range []string{"/", at, "/nothing", "/request/AAAAAAAAAAAAAAAAAAAAAA", "/roots"} {
		r, page := get(t, h.desk.URL+path)
		for name, want := range map[string]string{"Content-Security-Policy": "default-src 'none'",
			"Referrer-Policy":        "no-referrer",
			"X-Content-Type-Options": "nosniff", "Cache-Control": "no-store", "X-Frame-Options": "DENY"} {
			if got := r.Header.Get(name); !strings.Contains(got, want) {
				t.Errorf("%s: %s is %q", path, name, got)
			}
		}
		if r.Header.Get("Set-Cookie") != "" || bytes.Contains(page, []byte("<script")) ||
			regexp.MustCompile(`(src|href)="(https?:)?//`).Match(page) || regexp.MustCompile(`\son[a-z]+=`).
			Match(page) {
			t.Errorf("%s has a cookie, a script or an address of others", path)
		}
	}
	r, _ := do(t, http.MethodPost, h.desk.URL+"/hand-in", strings.NewReader("request=x"), "Content-Type",
		"application/x-www-form-urlencoded", "Sec-Fetch-Site", "cross-site", "Origin", "https://reef.example")
	if r.StatusCode != http.StatusForbidden {
		t.Errorf("a form from another site: %d", r.StatusCode)
	}
}

// hidden are characters that no page and no log may hold.
const hidden = "\u202e\u2066\x1b\x00"

// What a hostile sender types stays text: in pages, in file names and in the log.
func TestHostileSubmissions(t *testing.T) {
	t.Parallel()
	h := serve(t)
	nasty := "<script>alert(1)</script>\u202egnp.exe\x1b[31m\"'`{{.}}"
	at := h.handIn("request", asking(t, "pier.ternbay.example"), "from", nasty, "purpose", nasty)
	r, raw := get(t, h.desk.URL+at)
	if r.StatusCode != 200 || bytes.Contains(raw, []byte("<script>")) || bytes.ContainsAny(raw, hidden) {
		t.Errorf("%d\n%s", r.StatusCode, raw)
	}
	corpus, err := filepath.Glob("../../pki/describe/testdata/corpus/*")
	if err != nil || len(corpus) < 20 {
		t.Fatalf("%d files: %v", len(corpus), err)
	}
	for _, path := range corpus {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		form := multipart.NewWriter(&b)
		part, _ := form.CreateFormFile("file", "../../etc/passwd\x00\r\nX: y")
		part.Write(data)
		form.WriteField("from", "Mallory")
		form.Close()
		r, page := do(t, http.MethodPost, h.desk.URL+"/read", &b, "Content-Type", form.FormDataContentType())
		if code := r.StatusCode; code != 200 && code != 400 && code != 409 ||
			bytes.Contains(page, []byte("<script")) || bytes.ContainsAny(page, hidden) {
			t.Errorf("%s: %d", filepath.Base(path), r.StatusCode)
		}
	}
	const typed = "application/x-www-form-urlencoded"
	for name, x := range map[string]struct {
		media, body string
		want        int
	}{
		"too large":       {typed, "request=" + strings.Repeat("A", 1<<20), 400},
		"no form":         {"application/json", "{}", 400},
		"no type":         {"", "request=x", 400},
		"a broken form":   {"multipart/form-data; boundary=x", "--x\r\nContent-Disposition: form-data", 400},
		"no boundary":     {"multipart/form-data", "x", 400},
		"many fields":     {typed, strings.Repeat("a=b&", 100_000), 400},
		"a name too long": {typed, "request=x&from=" + strings.Repeat("n", 200), 400},
		"bad names beside": {typed, "from=a&names=%3Cscript%3E&request=" +
			url.QueryEscape(asking(t, "mole.ternbay.example")), 400},
	} {
		t.Run(name, func(t *testing.T) {
			if r, page := do(t, http.MethodPost, h.desk.URL+"/read", strings.NewReader(x.body), "Content-Type",
				x.media); r.StatusCode != x.want {
				t.Errorf("%d: %s", r.StatusCode, page)
			}
		})
	}
	if said := h.log.String(); strings.Contains(said, "a fault in the program") || strings.ContainsAny(said, hidden) {
		t.Error("the log has a fault or hostile text")
	}
}

// Guessing private addresses is slow, and what was not found tells nothing.
func TestGuessingAddresses(t *testing.T) {
	t.Parallel()
	h := serve(t, "pace           = 600", "pace           = 60")
	codes := map[int]int{}
	for n := range 40 {
		r, _ := get(t, h.desk.URL+fmt.Sprintf("/request/%022d", n))
		codes[r.StatusCode]++
	}
	if codes[404] == 0 || codes[429] == 0 || len(codes) != 2 {
		t.Errorf("%v", codes)
	}
	for _, odd := range []string{strings.Repeat("a", 5000), "..", "%00", "a%2fb", "'; DROP TABLE request"} {
		r, _ := get(t, h.desk.URL+"/request/"+url.PathEscape(odd))
		if r.StatusCode >= 500 || r.StatusCode == 200 {
			t.Errorf("%.20s: %d", odd, r.StatusCode)
		}
	}
}
