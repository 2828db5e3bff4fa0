package httpd_test

import (
	"crypto/tls"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"

	"golang.org/x/net/dns/dnsmessage"
)

// names is a stand-in for the network in which machines prove control of their names: a DNS server by which every name
// leads to this machine, a web server and a TLS server for all of them.
type names struct {
	dns  *net.UDPConn
	http *httptest.Server
	tls  net.Listener

	mu           sync.Mutex
	pages        map[string]http.HandlerFunc // by host and path
	texts        map[string]string           // by name
	certificates map[string]*tls.Certificate // by server name
	at           func(name string) netip.Addr
}

func newNames(t testing.TB) *names {
	t.Helper()
	w := &names{pages: map[string]http.HandlerFunc{}, texts: map[string]string{},
		certificates: map[string]*tls.Certificate{},
		at:           func(string) netip.Addr { return netip.MustParseAddr("127.0.0.1") }}
	var err error
	if w.dns, err = net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)}); err != nil {
		t.Fatal(err)
	}
	w.http = httptest.NewServer(http.HandlerFunc(w.page))
	if w.tls, err = tls.Listen("tcp4", "127.0.0.1:0", &tls.Config{NextProtos: []string{"acme-tls/1", "http/1.1"},
		GetCertificate: func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
			w.mu.Lock()
			defer w.mu.Unlock()
			return w.certificates[h.ServerName], nil
		}}); err != nil {
		t.Fatal(err)
	}
	go w.resolve()
	go w.handshakes()
	t.Cleanup(func() {
		w.dns.Close()
		w.http.Close()
		w.tls.Close()
	})
	return w
}

// settings are what a server needs to look there.
func (w *names) settings() []string {
	_, httpPort, _ := net.SplitHostPort(w.http.Listener.Addr().String())
	_, tlsPort, _ := net.SplitHostPort(w.tls.Addr().String())
	return []string{`challenge-resolver  = ""`, `challenge-resolver  = "` + w.dns.LocalAddr().String() + `"`,
		"challenge-http-port = 80", "challenge-http-port = " + httpPort,
		"challenge-tls-port  = 443", "challenge-tls-port  = " + tlsPort,
		"challenge-local     = false", "challenge-local     = true"}
}

func (w *names) serve(host, path string, do http.HandlerFunc) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.pages[host+path] = do
}

func (w *names) page(a http.ResponseWriter, r *http.Request) {
	host, _, _ := net.SplitHostPort(r.Host)
	w.mu.Lock()
	do := w.pages[host+r.URL.Path]
	w.mu.Unlock()
	if do == nil {
		http.NotFound(a, r)
		return
	}
	do(a, r)
}

func (w *names) handshakes() {
	for {
		c, err := w.tls.Accept()
		if err != nil {
			return
		}
		go func() {
			_ = c.(*tls.Conn).Handshake()
			c.Close()
		}()
	}
}

func (w *names) resolve() {
	buf := make([]byte, 1500)
	for {
		n, from, err := w.dns.ReadFromUDP(buf)
		if err != nil {
			return
		}
		if out := w.answer(buf[:n]); out != nil {
			_, _ = w.dns.WriteToUDP(out, from)
		}
	}
}

func (w *names) answer(asked []byte) []byte {
	var p dnsmessage.Parser
	head, err := p.Start(asked)
	if err != nil {
		return nil
	}
	q, err := p.Question()
	if err != nil {
		return nil
	}
	name := strings.ToLower(strings.TrimSuffix(q.Name.String(), "."))
	head.Response, head.Authoritative = true, true
	b := dnsmessage.NewBuilder(nil, head)
	_ = b.StartQuestions()
	_ = b.Question(q)
	_ = b.StartAnswers()
	rh := dnsmessage.ResourceHeader{Name: q.Name, Class: dnsmessage.ClassINET, TTL: 1}
	w.mu.Lock()
	text, at := w.texts[name], w.at(name)
	w.mu.Unlock()
	switch {
	case q.Type == dnsmessage.TypeTXT && text != "":
		_ = b.TXTResource(rh, dnsmessage.TXTResource{TXT: []string{text}})
	case q.Type == dnsmessage.TypeA && at.Is4():
		_ = b.AResource(rh, dnsmessage.AResource{A: at.As4()})
	case q.Type == dnsmessage.TypeAAAA && at.Is6():
		_ = b.AAAAResource(rh, dnsmessage.AAAAResource{AAAA: at.As16()})
	}
	out, err := b.Finish()
	if err != nil {
		return nil
	}
	return out
}
