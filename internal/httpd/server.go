// Package httpd is the only place that speaks HTTP. A handler parses, calls one act, and renders one view; it decides
// nothing about certificates.
//
// Three handlers are served, each on an address of its own. Public hands out lists, certificates of authorities, OCSP
// answers and roots over plain HTTP (RFC 5280 section 8, RFC 5019). Desk takes requests over HTTPS. Health tells
// operators how the server is.
//
// Cross-site request forgery has nothing to work with here. The desk sets no cookie and asks for no password, so a
// browser adds nothing to a request that the page which sends it does not know. What a person may do depends on the
// secret in the address of a page. That secret does not leave the browser: there are no scripts, no addresses of
// others, and no Referer header. Requests that a browser marks as coming from another site are refused as well.
package httpd

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/net/netutil"

	"ironseal/internal/app/ops/service"
)

// Names of the listeners, as systemd passes them and as logs call them.
const (
	NamePublic = "public"
	NameDesk   = "desk"
	NameHealth = "health"

	NameMachines = "machines"
)

// Bounds of every connection.
const (
	mostHeader  = 16 << 10
	headerTime  = 10 * time.Second
	askTime     = 10 * time.Second // for a whole request to the public
	bodyTime    = time.Minute      // for a form with a file
	answerTime  = time.Minute      // for an answer, and more for large files
	idleTime    = 2 * time.Minute
	mostKept    = 2000     // connections that are kept open after an answer; each takes about 14 kB
	slowest     = 16 << 10 // octets a second that a client takes at least
	stopTime    = 20 * time.Second
	mostOCSP    = 64 << 10
	mostForm    = 512 << 10
	mostGetPath = 8 << 10
)

// Server speaks HTTP for a service.
type Server struct {
	s       *service.Service
	log     *slog.Logger
	metrics *metrics
	pace    *pace
	proving *proving
	kits    kits
	run     string        // begins the names of requests
	count   atomic.Uint64 // of requests
	open    atomic.Int64  // connections
	paths   atomic.Pointer[ocspPaths]
}

// New makes a server.
func New(s *service.Service, l *slog.Logger) (*Server, error) {
	p, err := newPace(s.Settings())
	if err != nil {
		return nil, err
	}
	h := &Server{s: s, log: l, pace: p, proving: newProving(), run: rand.Text()[:6] + "-"}
	h.metrics = newMetrics(s)
	return h, nil
}

// Handlers are what is served, by name.
func (h *Server) Handlers() map[string]http.Handler {
	return map[string]http.Handler{
		NamePublic: h.around(NamePublic, h.Public()),
		NameDesk:   h.around(NameDesk, http.NewCrossOriginProtection().Handler(h.Desk())),
		NameHealth: h.around(NameHealth, h.Health()),

		NameMachines: h.around(NameMachines, h.Machines()),
	}
}

// Listening is a socket with what is served on it.
type Listening struct {
	Name     string
	Listener net.Listener
}

// Serve serves until ctx ends. Then it takes no more connections, and lets requests that began finish.
func (h *Server) Serve(ctx context.Context, on []Listening) error {
	var servers []*http.Server
	var all sync.WaitGroup
	failed := make(chan error, len(on))
	handlers := h.Handlers()
	for _, l := range on {
		srv := h.server(l.Name, handlers[l.Name])
		servers = append(servers, srv)
		inner := netutil.LimitListener(l.Listener, h.s.Settings().Most)
		if srv.TLSConfig != nil {
			inner = tls.NewListener(inner, srv.TLSConfig)
		}
		all.Go(func() {
			if err := srv.Serve(inner); !errors.Is(err, http.ErrServerClosed) {
				failed <- err
			}
		})
	}
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopTime)
	defer cancel()
	for _, srv := range servers {
		if e := srv.Shutdown(stop); e != nil {
			err = errors.Join(err, srv.Close())
		}
	}
	all.Wait()
	return err
}

func (h *Server) server(name string, handler http.Handler) *http.Server {
	srv := &http.Server{Handler: handler, ReadHeaderTimeout: headerTime, ReadTimeout: askTime,
		WriteTimeout: answerTime,
		IdleTimeout:  idleTime, MaxHeaderBytes: mostHeader, ErrorLog: log.New(quiet{h.log, name}, "", 0),
		ConnState: h.counted}
	if name == NameDesk || name == NameMachines {
		srv.ReadTimeout = bodyTime
		srv.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"},
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
				if i := h.s.Identity(); i != nil {
					return i.TLS, nil
				}
				return nil, errors.New("the desk has no certificate yet")
			}}
	}
	if name == NameMachines { // a certificate is asked for, and judged by the records
		srv.TLSConfig.ClientAuth = tls.RequestClientCert
		srv.TLSConfig.NextProtos = []string{"http/1.1"} // RFC 7030 binds requests to the connection
		srv.TLSConfig.SessionTicketsDisabled = true     // each session shows its certificate itself
	}
	return srv
}

// counted counts connections.
func (h *Server) counted(_ net.Conn, now http.ConnState) {
	switch now {
	case http.StateNew:
		h.open.Add(1)
	case http.StateClosed, http.StateHijacked:
		h.open.Add(-1)
	}
}

// quiet is the log of net/http: what clients do wrong is worth no more than a line at the lowest level.
type quiet struct {
	log  *slog.Logger
	name string
}

func (q quiet) Write(p []byte) (int, error) {
	q.log.Debug("connection", "on", q.name, "what", strings.TrimSpace(string(p)))
	return len(p), nil
}

var _ io.Writer = quiet{}
