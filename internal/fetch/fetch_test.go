package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// What comes from an address in a certificate is bounded in where it leads, how much it is, and
// how long it takes.
func TestAddressesInCertificatesAreHostile(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("/list", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "aboard") })
	mux.HandleFunc("/large", func(w http.ResponseWriter, _ *http.Request) { w.Write(make([]byte, 5000)) })
	mux.HandleFunc("/slow", func(w http.ResponseWriter, _ *http.Request) { time.Sleep(2 * time.Second) })
	mux.HandleFunc("/loop", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/loop",
			http.StatusFound)
	})
	mux.HandleFunc("/away", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "https://pki.ternbay.example/", http.StatusFound)
	})
	mux.HandleFunc("/post", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%s %s %s", r.Method, r.Header.Get("Content-Type"), body)
	})
	s := httptest.NewServer(mux)
	defer s.Close()
	here := Rules{Local: true, Most: 1000, Within: time.Second}
	for _, c := range []struct {
		address, says string
		rules         Rules
	}{
		{s.URL + "/list", "", here}, {s.URL + "/large", "larger than", here}, {s.URL + "/slow", "no answer in time",
			here},
		{s.URL + "/loop", "redirects", here}, {s.URL + "/away", "only plain http", here}, {s.URL + "/none", "404",
			here},
		{strings.Replace(s.URL, "http:", "https:", 1), "only plain http", here}, {"file:///etc/passwd",
			"only plain http", here},
		{"ldap://127.0.0.1/", "only plain http", here}, {"http://a:b@127.0.0.1/", "only plain http", here},
		{s.URL + "/list", "local address", Usual}, {"http://[::1]/", "local address", Usual},
		{"http://10.1.2.3/", "local address", Usual}, {"http://169.254.169.254/", "local address", Usual},
		{"http://100.64.1.1/", "local address", Usual}, {"http://[::ffff:127.0.0.1]/", "local address", Usual},
		{"http://0.0.0.0/", "local address", Usual}, {"http://localhost/", "local address", Usual},
	} {
		t.Run(c.address, func(t *testing.T) {
			data, err := Get(context.Background(), c.address, c.rules)
			if c.says == "" && (err != nil || string(data) != "aboard") ||
				c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
				t.Errorf("%s: %q, %v", c.address, data, err)
			}
		})
	}
	if _, err := Get(context.Background(), s.URL, Usual); !errors.Is(err, ErrLocal) {
		t.Errorf("%v", err)
	}
	data, err := Post(context.Background(), s.URL+"/post", "application/ocsp-request", []byte("who"), here)
	if err != nil || string(data) != "POST application/ocsp-request who" {
		t.Errorf("%q, %v", data, err)
	}
}
