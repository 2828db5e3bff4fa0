package httpd_test

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/disk"
	"ironseal/internal/httpd"
	"ironseal/internal/store/onserver"
	"ironseal/pki/pkcs"
	"ironseal/pki/revocation"
	"ironseal/pki/trust"
)

// Lists and certificates are served at the addresses in certificates, as RFC 5280 and RFC 2585 want it.
func TestPublicFiles(t *testing.T) {
	t.Parallel()
	h := serve(t)
	for _, c := range []struct{ path, media string }{
		{"/lists/services.g1.crl", "application/pkix-crl"}, {"/services.g1.crl", "application/pkix-crl"},
		{"/lists/services.g1.cer", "application/pkix-cert"},
		{"/lists/services.g1.p7c", "application/pkcs7-mime; smime-type=certs-only"},
		{"/lists/services.g1.crl.pem", "application/x-pem-file"}, {"/root.g1.crl", "application/pkix-crl"},
	} {
		t.Run(c.path, func(t *testing.T) {
			r, data := get(t, h.public.URL+c.path)
			if r.StatusCode != 200 || r.Header.Get("Content-Type") != c.media || len(data) == 0 {
				t.Fatalf("%d %s, %d octets", r.StatusCode, r.Header.Get("Content-Type"), len(data))
			}
			tag := r.Header.Get("ETag")
			if again, _ := get(t, h.public.URL+c.path, "If-None-Match", tag); again.StatusCode != 304 || tag == "" {
				t.Errorf("with its tag %q: %d", tag, again.StatusCode)
			}
			since := r.Header.Get("Last-Modified")
			if again, _ := get(t, h.public.URL+c.path, "If-Modified-Since",
				since); again.StatusCode != 304 || since == "" {
				t.Errorf("since %q: %d", since, again.StatusCode)
			}
			part, some := get(t, h.public.URL+c.path, "Range", "bytes=2-9")
			if part.StatusCode != 206 || !bytes.Equal(some, data[2:10]) {
				t.Errorf("a range: %d, %x", part.StatusCode, some)
			}
			head, none := do(t, http.MethodHead, h.public.URL+c.path, nil)
			if head.StatusCode != 200 || head.ContentLength != int64(len(data)) || len(none) != 0 {
				t.Errorf("HEAD: %d, %d octets", head.StatusCode, head.ContentLength)
			}
			age, err := strconv.Atoi(regexp.MustCompile(`max-age=(\d+)`).FindStringSubmatch(r.Header.
				Get("Cache-Control"))[1])
			if err != nil || age <= 0 {
				t.Errorf("%q", r.Header.Get("Cache-Control"))
			}
			if post, _ := do(t, http.MethodPost, h.public.URL+c.path, strings.NewReader("x")); post.StatusCode != 405 {
				t.Errorf("POST: %d", post.StatusCode)
			}
		})
	}
	if r, _ := get(t, h.public.URL+"/lists/another.crl"); r.StatusCode != 404 {
		t.Errorf("a file that is not there: %d", r.StatusCode)
	}
	_, der := get(t, h.public.URL+"/services.g1.crl")
	if l, err := x509.ParseRevocationList(der); err != nil || len(l.RevokedCertificateEntries) != 0 {
		t.Errorf("%v: %v", l, err)
	}
}

// A list that was signed is served at once, and one that is past its next update is served and told of.
func TestNewListsAreServed(t *testing.T) {
	t.Parallel()
	h := serve(t)
	c := issue(t, h.e, "pier.ternbay.example")[0]
	revoke(t, h.e, revocation.Superseded, c.SerialHex())
	publish(t, h.e)
	soon(t, "the new list is served", func() bool {
		_, der := get(t, h.public.URL+"/services.g1.crl")
		l, err := x509.ParseRevocationList(der)
		return err == nil && len(l.RevokedCertificateEntries) == 1
	})
	if r, text := get(t, h.health.URL+"/healthz"); r.StatusCode != 200 || !strings.Contains(string(text), "ok") {
		t.Errorf("%d %s", r.StatusCode, text)
	}
}

// Lists are served while the records are gone, and an older copy of the estate does not take a newer list away.
func TestListsOutliveTheRecords(t *testing.T) {
	onserver.FilesOnly(t)
	t.Parallel()
	h := serve(t)
	c := issue(t, h.e, "pier.ternbay.example")[0]
	issuer := issuerOf(t, h)
	saved := filepath.Join(t.TempDir(), "records.db")
	if err := h.e.Records.Snapshot(ctx, saved); err != nil {
		t.Fatal(err)
	}
	revoke(t, h.e, revocation.KeyCompromise, c.SerialHex())
	publish(t, h.e)
	revokedIsServed := func() bool {
		_, der := get(t, h.public.URL+"/services.g1.crl")
		l, err := x509.ParseRevocationList(der)
		return err == nil && len(l.RevokedCertificateEntries) == 1
	}
	soon(t, "the new list is served", revokedIsServed)
	h.e.Close()
	records := filepath.Join(h.dir, "records.db")
	if err := os.Rename(records, filepath.Join(t.TempDir(), "gone.db")); err != nil {
		t.Fatal(err)
	}
	soon(t, "the health says that the records are gone", func() bool {
		r, text := get(t, h.health.URL+"/healthz")
		return r.StatusCode == 503 && strings.Contains(string(text), "reading the records")
	})
	if !revokedIsServed() {
		t.Error("the list is not served while the records are gone")
	}
	for _, beside := range []string{"-wal", "-shm"} {
		os.Remove(records + beside)
	}
	if err := disk.Rename(saved, records); err != nil {
		t.Fatal(err)
	}
	soon(t, "the older copy is told of", func() bool {
		r, text := get(t, h.health.URL+"/healthz")
		return r.StatusCode == 503 && strings.Contains(string(text), "older list")
	})
	if !revokedIsServed() {
		t.Error("an older list took the place of a newer one")
	}
	if a := askOCSP(t, h, c.Raw, issuer); a.Status == 0 && len(a.Responses) > 0 {
		t.Errorf("an estate that may have forgotten revocations answers: %+v", a)
	}
}

// Roots come in every format, and kits with the bytes that the command writes.
func TestRootsAndKits(t *testing.T) {
	t.Parallel()
	h := serve(t)
	_, page := get(t, h.public.URL+"/roots")
	set, err := anchors.Set(ctx, h.e, trust.Own)
	if err != nil || len(set.Anchors) != 1 {
		t.Fatal(err)
	}
	root := set.Anchors[0].Certificate
	stem := regexp.MustCompile(`/roots/([^"]*)\.pem`).FindSubmatch(page)
	if stem == nil {
		t.Fatalf("%s", page)
	}
	at := h.public.URL + "/roots/" + string(stem[1])
	_, text := get(t, at+".pem")
	block, _ := pem.Decode(text)
	if block == nil || !bytes.Equal(block.Bytes, root.Raw) {
		t.Error("PEM")
	}
	if _, der := get(t, at+".cer"); !bytes.Equal(der, root.Raw) {
		t.Error("DER")
	}
	_, p7 := get(t, at+".p7b")
	if list, err := pkcs.ReadSignedData(p7); err != nil || len(list) != 1 || !bytes.Equal(list[0], root.Raw) {
		t.Errorf("PKCS#7: %v", err)
	}
	dir := t.TempDir()
	for _, form := range []string{"zip", "tar.gz"} {
		packed, err := anchors.Pack(ctx, h.e, anchors.PackAsk{Set: set, Platforms: []string{"debian"}, Dir: dir,
			Archive: form})
		if err != nil {
			t.Fatal(err)
		}
		want, err := os.ReadFile(packed[0].Path)
		if err != nil {
			t.Fatal(err)
		}
		if r, got := get(t, h.public.URL+"/kits/own.debian."+form); r.StatusCode != 200 || !bytes.Equal(got, want) {
			t.Errorf("%s: %d, %d octets instead of %d", form, r.StatusCode, len(got), len(want))
		}
	}
	for _, bad := range []string{"/kits/own.nothing.zip", "/kits/other.debian.zip", "/kits/own.debian.rar",
		"/roots/x.pem", "/kits/..%2f..%2fetc.zip"} {
		if r, _ := get(t, h.public.URL+bad); r.StatusCode != 404 && r.StatusCode != 400 {
			t.Errorf("%s: %d", bad, r.StatusCode)
		}
	}
}

// Every metric has a line on the page that lists them, and every line a metric.
func TestMetricsAreListed(t *testing.T) {
	t.Parallel()
	h := serve(t, `desk-names     = ["localhost", "127.0.0.1"]`, `desk-names     = ["localhost"]`)
	issue(t, h.e, "pier.ternbay.example")
	get(t, h.public.URL+"/ocsp/AAAA")
	get(t, h.public.URL+"/services.g1.crl")
	_, text := get(t, h.health.URL+"/metrics")
	for _, m := range httpd.Metrics {
		if m.Name != "ironseal_failing" && !bytes.Contains(text, []byte("# TYPE "+m.Name+" "+m.Kind)) {
			t.Errorf("%s is not told", m.Name)
		}
	}
	for _, line := range regexp.MustCompile(`(?m)^# TYPE (\S+)`).FindAllSubmatch(text, -1) {
		found := false
		for _, m := range httpd.Metrics {
			found = found || m.Name == string(line[1])
		}
		if !found {
			t.Errorf("%s is not on the list", line[1])
		}
	}
	for _, want := range []string{`ironseal_authority_days{generation="services.g1"}`,
		`ironseal_list_days{list="root.g1.crl"}`,
		`ironseal_desk_certificate_days{temporary="true"} `, "ironseal_requests_waiting 1",
		"ironseal_records_readable 1"} {
		if !bytes.Contains(text, []byte(want)) {
			t.Errorf("%s is missing in\n%s", want, text)
		}
	}
}

// Whoever asks too much waits; a proxy that is trusted says for whom it asks.
func TestPace(t *testing.T) {
	t.Parallel()
	h := serve(t, "pace           = 600", "pace           = 60", "proxies        = []",
		`proxies        = ["127.0.0.1", "::1"]`)
	refused := 0
	for range 40 {
		r, _ := get(t, h.public.URL+"/services.g1.crl", "X-Forwarded-For", "192.0.2.77")
		if r.StatusCode == 429 {
			refused++
			if r.Header.Get("Retry-After") == "" {
				t.Error("it is not said when to come back")
			}
		}
	}
	if refused == 0 {
		t.Error("40 requests in a moment were all answered")
	}
	if r, _ := get(t, h.public.URL+"/services.g1.crl", "X-Forwarded-For", "192.0.2.78"); r.StatusCode != 200 {
		t.Errorf("another address: %d", r.StatusCode)
	}
	if r, _ := get(t, h.public.URL+"/services.g1.crl"); r.StatusCode != 200 {
		t.Errorf("this machine: %d", r.StatusCode)
	}
}
