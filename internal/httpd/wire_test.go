package httpd_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/internal/httpd"
)

// listening serves a harbour on real sockets with the server's own bounds.
func (h *harbour) listening() (public string) {
	h.t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		h.t.Fatal(err)
	}
	srv, err := httpd.New(h.s, h.logger)
	if err != nil {
		h.t.Fatal(err)
	}
	serving, stop := contextWithCancel()
	done := make(chan error, 1)
	go func() { done <- srv.Serve(serving, []httpd.Listening{{Name: httpd.NamePublic, Listener: l}}) }()
	h.t.Cleanup(func() {
		stop()
		if err := <-done; err != nil {
			h.t.Error(err)
		}
	})
	return l.Addr().String()
}

// Bytes that are no proper HTTP get an answer of the 4xx kind, or the connection ends. Nothing hangs.
func TestWhatIsNoHTTP(t *testing.T) {
	t.Parallel()
	h := serve(t)
	at := h.listening()
	file := "GET /services.g1.crl HTTP/1.1\r\nHost: a\r\n"
	for name, raw := range map[string]string{
		"no HTTP at all": "\x16\x03\x01\x02\x00\x01\x00\x01",
		"two lengths": "POST /ocsp HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\nContent-Length: " +
			"5\r\n\r\nabcde",
		"a length and chunks": "POST /ocsp HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\nTransfer-Encoding: " +
			"chunked\r\n\r\n0\r\n\r\nGET / HTTP/1.1\r\n\r\n",
		"an odd transfer coding": "POST /ocsp HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: xchunked\r\n\r\n0\r\n\r\n",
		"a negative length":      "POST /ocsp HTTP/1.1\r\nHost: a\r\nContent-Length: -1\r\n\r\n",
		"a huge chunk": "POST /ocsp HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: " +
			"chunked\r\n\r\nffffffffffffffff\r\nx",
		"no host":                 "GET /services.g1.crl HTTP/1.1\r\n\r\n",
		"a header without colon":  file + "Nonsense\r\n\r\n",
		"a folded header":         file + "A: b\r\n c\r\n\r\n",
		"a huge header":           file + "A: " + strings.Repeat("x", 1<<20) + "\r\n\r\n",
		"many headers":            file + strings.Repeat("A: b\r\n", 20_000) + "\r\n",
		"a huge path":             "GET /" + strings.Repeat("a", 1<<20) + " HTTP/1.1\r\nHost: a\r\n\r\n",
		"an address of elsewhere": "GET http://reef.example/services.g1.crl HTTP/1.1\r\nHost: a\r\n\r\n",
		"an unknown method":       "BREAK / HTTP/1.1\r\nHost: a\r\n\r\n",
		"a path that climbs":      "GET /../../etc/passwd HTTP/1.1\r\nHost: a\r\n\r\n",
		"an encoded climb":        "GET /%2e%2e/%2e%2e/etc/passwd HTTP/1.1\r\nHost: a\r\n\r\n",
		"a NUL":                   "GET /services.g1.crl%00 HTTP/1.1\r\nHost: a\r\n\r\n",
		"a compressed body": "POST /ocsp HTTP/1.1\r\nHost: a\r\nContent-Encoding: gzip\r\nContent-Length: " +
			"2\r\n\r\n\x1f\x8b",
		"an expectation": "POST /ocsp HTTP/1.1\r\nHost: a\r\nExpect: 200-maybe\r\nContent-Length: 1\r\n\r\nx",
		"an upgrade":     file + "Connection: Upgrade\r\nUpgrade: h2c\r\n\r\n",
		"hostile ranges": file + "Range: bytes=" + strings.Repeat("0-0,", 3000) + "\r\n\r\n",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c, err := net.Dial("tcp", at)
			if err != nil {
				t.Fatal(err)
			}
			defer c.Close()
			_ = c.SetDeadline(time.Now().Add(20 * time.Second))
			go func() { _, _ = io.WriteString(c, raw) }()
			r, err := http.ReadResponse(bufio.NewReader(c), nil)
			if err != nil {
				if ne, ok := err.(net.Error); ok && ne.Timeout() {
					t.Error("it hangs")
				}
				return
			}
			defer r.Body.Close()
			body, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
			if r.StatusCode >= 500 && r.StatusCode != 501 && r.StatusCode != 505 || strings.Contains(string(body),
				"root:") {
				t.Errorf("%d %s", r.StatusCode, body)
			}
		})
	}
}

// Requests in a row on one connection are all answered, in order.
func TestPipelines(t *testing.T) {
	t.Parallel()
	h := serve(t)
	c, err := net.Dial("tcp", h.listening())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	const many = 200
	go func() {
		for n := range many {
			fmt.Fprintf(c, "GET /%s HTTP/1.1\r\nHost: a\r\n\r\n", []string{"services.g1.crl", "nothing"}[n%2])
		}
	}()
	in := bufio.NewReader(c)
	for n := range many {
		r, err := http.ReadResponse(in, nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.Copy(io.Discard, r.Body); err != nil {
			t.Fatal(err)
		}
		if want := []int{200, 404}[n%2]; r.StatusCode != want {
			t.Fatalf("%d: %d instead of %d", n, r.StatusCode, want)
		}
	}
}

// A thousand connections that say nothing keep nobody out, and cost little memory.
func TestSilentConnections(t *testing.T) {
	h := serve(t)
	at := h.listening()
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	var open []net.Conn
	defer func() {
		for _, c := range open {
			c.Close()
		}
	}()
	for n := range 1000 {
		c, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		open = append(open, c)
		if n%2 == 0 {
			fmt.Fprintf(c, "GET /services.g1.crl HTT")
		}
	}
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if r, err := client.Get("http://" + at + "/services.g1.crl"); err != nil || r.StatusCode != 200 {
				t.Error(err)
			} else {
				r.Body.Close()
			}
		})
	}
	all.Wait()
	runtime.GC()
	runtime.ReadMemStats(&after)
	if used := int64(after.HeapAlloc+after.StackInuse) - int64(before.HeapAlloc+before.StackInuse); used > 60<<20 {
		t.Errorf("1000 silent connections take %d MB", used>>20)
	}
}

// Many ask at once while the records are locked for writing: all are answered.
func TestLockedRecords(t *testing.T) {
	t.Parallel()
	h := serve(t)
	c := issue(t, h.e, "pier.ternbay.example")[0]
	issuer := issuerOf(t, h)
	soon(t, "the certificate is known", func() bool { return len(askOCSP(t, h, c.Raw, issuer).Responses) == 1 })
	release := lockRecords(t, h)
	for range 50 {
		if r, _ := get(t, h.public.URL+"/services.g1.crl"); r.StatusCode != 200 {
			t.Errorf("a list: %d", r.StatusCode)
		}
		if a := askOCSP(t, h, c.Raw, issuer); len(a.Responses) != 1 {
			t.Errorf("OCSP: %v", a.Status)
		}
	}
	release()
	if code, _ := h.page("/"); code != 200 {
		t.Errorf("the desk: %d", code)
	}
}
