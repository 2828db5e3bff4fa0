package httpd_test

import (
	"bufio"
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/httpd"
	"ironseal/pki/ocsp"
)

// connections is how many clients ask at once.
const connections = 8

// asked sends one request many times over several connections, and returns the time of one.
func asked(b *testing.B, address, request string, times int) time.Duration {
	b.Helper()
	var all sync.WaitGroup
	begun := time.Now()
	for range connections {
		all.Go(func() {
			c, err := net.Dial("tcp", address)
			if err != nil {
				b.Error(err)
				return
			}
			defer c.Close()
			in := bufio.NewReader(c)
			for range times / connections {
				if _, err := io.WriteString(c, request); err != nil {
					b.Error(err)
					return
				}
				if err := passed(in); err != nil {
					b.Error(err)
					return
				}
			}
		})
	}
	all.Wait()
	return time.Since(begun) / time.Duration(times)
}

// passed reads one response, as cheaply as can be.
func passed(in *bufio.Reader) error {
	length := 0
	for n := 0; ; n++ {
		line, err := in.ReadSlice('\n')
		if err != nil {
			return err
		}
		if n == 0 && !bytes.HasPrefix(line, []byte("HTTP/1.1 200")) {
			return fmt.Errorf("%s", line)
		}
		if len(line) <= 2 {
			break
		}
		if rest, ok := bytes.CutPrefix(line, []byte("Content-Length: ")); ok {
			if _, err := fmt.Sscan(string(rest), &length); err != nil {
				return err
			}
		}
	}
	_, err := in.Discard(length)
	return err
}

// bare is a handler that writes the bytes of a response that was given, with its headers, and does nothing else.
func bare(b *testing.B, header http.Header, data []byte, before func()) string {
	b.Helper()
	var all [][2]string
	for name, values := range header {
		if name != "Date" {
			all = append(all, [2]string{name, values[0]})
		}
	}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if before != nil {
			io.Copy(io.Discard, r.Body)
			before()
		}
		for _, h := range all {
			w.Header().Set(h[0], h[1])
		}
		w.Write(data)
	}))
	b.Cleanup(s.Close)
	return strings.TrimPrefix(s.URL, "http://")
}

// compared tells how many times as long our answer takes as a bare one, by medians of rounds that alternate.
func compared(b *testing.B, ours, request, other string, times int) {
	b.Helper()
	var ratios []float64
	var last time.Duration
	for range 7 {
		last = asked(b, ours, request, times)
		ratios = append(ratios, float64(last)/float64(asked(b, other, request, times)))
	}
	b.ReportMetric(median(ratios), "x_bare")
	b.ReportMetric(float64(last.Microseconds()), "us/answer")
	b.ReportMetric(0, "ns/op")
}

func median(list []float64) float64 {
	for i := range list {
		for j := i + 1; j < len(list); j++ {
			if list[j] < list[i] {
				list[i], list[j] = list[j], list[i]
			}
		}
	}
	return list[len(list)/2]
}

// BenchmarkServed compares answers with a bare handler of net/http that writes the same bytes.
func BenchmarkServed(b *testing.B) {
	h := serve(b)
	h.level.Set(slog.LevelInfo) // as a server logs
	c := issue(b, h.e, "pier.ternbay.example")[0]
	issuer := issuerOf(b, h)
	soon(b, "the certificate is known", func() bool { return len(askOCSP(b, h, c.Raw, issuer).Responses) == 1 })
	at := strings.TrimPrefix(h.public.URL, "http://")
	id, err := ocsp.IDOf(crypto.SHA1, issuer, c.Serial)
	if err != nil {
		b.Fatal(err)
	}
	der, err := ocsp.Request{Asked: []ocsp.ID{id}}.DER()
	if err != nil {
		b.Fatal(err)
	}
	path := "/ocsp/" + url.PathEscape(base64.StdEncoding.EncodeToString(der))
	r, answer := get(b, h.public.URL+path)
	rl, _ := get(b, h.public.URL+"/services.g1.crl")
	get := func(path string) string { return "GET " + path + " HTTP/1.1\r\nHost: pki.ternbay.example\r\n\r\n" }
	b.Run("prepared OCSP", func(b *testing.B) { compared(b, at, get(path), bare(b, r.Header, answer, nil), 20_000) })
	b.Run("list", func(b *testing.B) {
		f, _ := h.s.Public().Find("services.g1.crl")
		compared(b, at, get("/services.g1.crl"), bare(b, rl.Header, f.Data, nil), 20_000)
	})
	b.Run("OCSP on demand", func(b *testing.B) {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			b.Fatal(err)
		}
		nonce, err := ocsp.Request{Asked: []ocsp.ID{id}, Nonce: bytes.Repeat([]byte{7}, 32)}.DER()
		if err != nil {
			b.Fatal(err)
		}
		sign := func() {
			sum := sha256.Sum256(nonce)
			if _, err := ecdsa.SignASN1(rand.Reader, k, sum[:]); err != nil {
				b.Error(err)
			}
		}
		request := "POST /ocsp HTTP/1.1\r\nHost: pki.ternbay.example\r\nContent-Type: application/ocsp-request\r\n" +
			fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(nonce), nonce)
		compared(b, at, request, bare(b, http.Header{"Content-Type": {"application/ocsp-response"},
			"Cache-Control":  {"no-store"},
			"Content-Length": {fmt.Sprint(len(answer))}}, answer, sign), 8_000)
	})
}

// BenchmarkIdle tells what connections cost that are open and ask nothing: some never did, some did once.
func BenchmarkIdle(b *testing.B) {
	for name, request := range map[string]string{"silent": "",
		"asked once": "GET /services.g1.crl HTTP/1.1\r\nHost: pki.ternbay.example\r\n\r\n"} {
		b.Run(name, func(b *testing.B) { idle(b, request) })
	}
}

func idle(b *testing.B, request string) {
	h := serve(b)
	h.level.Set(slog.LevelInfo)
	on, err := httpd.Listen(estate.Serve{Public: "127.0.0.1:0"})
	if err != nil {
		b.Fatal(err)
	}
	srv, err := httpd.New(h.s, h.logger)
	if err != nil {
		b.Fatal(err)
	}
	serving, stop := contextWithCancel()
	done := make(chan error, 1)
	go func() { done <- srv.Serve(serving, on) }()
	const many = 9_000 // as the limit of open files of this one process allows, with both ends in it
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	var open []net.Conn
	for range many {
		c, err := net.Dial("tcp", on[0].Listener.Addr().String())
		if err != nil {
			b.Skip("no more connections can be opened here: ", err)
		}
		open = append(open, c)
		if _, err := io.WriteString(c, request); err != nil {
			b.Fatal(err)
		}
	}
	time.Sleep(2 * time.Second)
	runtime.GC()
	runtime.ReadMemStats(&after)
	used := float64(after.HeapInuse+after.StackInuse) - float64(before.HeapInuse+before.StackInuse)
	b.ReportMetric(used/(1<<20)*10_000/many, "MB/10000_connections")
	b.ReportMetric(0, "ns/op")
	for _, c := range open {
		c.Close()
	}
	stop()
	<-done
}

// BenchmarkLargeList sends 49 MB to 50 clients at once, by what serves lists and by a bare handler.
func BenchmarkLargeList(b *testing.B) {
	data := make([]byte, 49<<20)
	h := serve(b)
	large := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data)) // as serveFile does
	}))
	b.Cleanup(large.Close)
	_ = h
	all := func(address string) time.Duration {
		var group sync.WaitGroup
		begun := time.Now()
		for range 50 {
			group.Go(func() {
				r, err := http.Get("http://" + address + "/large.crl")
				if err != nil {
					b.Error(err)
					return
				}
				defer r.Body.Close()
				if n, err := io.Copy(io.Discard, r.Body); err != nil || n != int64(len(data)) {
					b.Errorf("%d octets: %v", n, err)
				}
			})
		}
		group.Wait()
		return time.Since(begun)
	}
	var ratios []float64
	other := bare(b, http.Header{"Content-Length": {fmt.Sprint(len(data))}}, data, nil)
	for range 3 {
		ours := all(strings.TrimPrefix(large.URL, "http://"))
		ratios = append(ratios, float64(ours)/float64(all(other)))
	}
	b.ReportMetric(median(ratios), "x_bare")
	b.ReportMetric(0, "ns/op")
}
