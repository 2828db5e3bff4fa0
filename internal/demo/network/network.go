// Package network is a stand-in for the network in which machines prove control of their names: a DNS server by which
// every name leads to this machine, and a web server and a TLS server for all of them.
package network

import (
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/dns/dnsmessage"
)

// Network is such a network. It is safe for many at once.
type Network struct {
	dns  *net.UDPConn
	web  *http.Server
	http net.Listener
	tls  net.Listener

	mu           sync.Mutex
	pages        map[string]http.HandlerFunc // by host and path
	texts        map[string]string           // by name
	certificates map[string]*tls.Certificate // by server name
	at           func(name string) netip.Addr
}

// New begins a network.
func New() (*Network, error) {
	w := &Network{pages: map[string]http.HandlerFunc{}, texts: map[string]string{},
		certificates: map[string]*tls.Certificate{},
		at:           func(string) netip.Addr { return netip.MustParseAddr("127.0.0.1") }}
	var err error
	if w.dns, err = net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)}); err != nil {
		return nil, err
	}
	if w.http, err = net.Listen("tcp4", "127.0.0.1:0"); err != nil {
		return nil, errors.Join(err, w.dns.Close())
	}
	if w.tls, err = tls.Listen("tcp4", "127.0.0.1:0", &tls.Config{NextProtos: []string{"acme-tls/1", "http/1.1"},
		GetCertificate: func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
			w.mu.Lock()
			defer w.mu.Unlock()
			return w.certificates[h.ServerName], nil
		}}); err != nil {
		return nil, errors.Join(err, w.dns.Close(), w.http.Close())
	}
	w.web = &http.Server{Handler: http.HandlerFunc(w.page), ReadHeaderTimeout: 10 * time.Second}
	go w.resolve()
	go w.handshakes()
	go func() { _ = w.web.Serve(w.http) }()
	return w, nil
}

// Close ends it.
func (w *Network) Close() {
	_ = w.dns.Close()
	_ = w.web.Close()
	_ = w.tls.Close()
}

// Resolver is where its DNS server listens.
func (w *Network) Resolver() string { return w.dns.LocalAddr().String() }

// Ports are those of its web server and of its TLS server.
func (w *Network) Ports() (web, tls int) {
	return w.http.Addr().(*net.TCPAddr).Port, w.tls.Addr().(*net.TCPAddr).Port
}

// Leads says where names lead.
func (w *Network) Leads(at func(name string) netip.Addr) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.at = at
}

// Text puts a text at a name.
func (w *Network) Text(name, text string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.texts[name] = text
}

// Certificate lets a host present a certificate.
func (w *Network) Certificate(host string, c *tls.Certificate) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.certificates[host] = c
}

// Page lets a host serve a page.
func (w *Network) Page(host, path string, do http.HandlerFunc) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.pages[host+path] = do
}

func (w *Network) page(a http.ResponseWriter, r *http.Request) {
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

func (w *Network) handshakes() {
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

func (w *Network) resolve() {
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

func (w *Network) answer(asked []byte) []byte {
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
