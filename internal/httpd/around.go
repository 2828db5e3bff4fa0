package httpd

import (
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"ironseal/internal/estate"
	"ironseal/pki/acme"
	"ironseal/pki/runes"
)

// answer watches what a handler writes.
type answer struct {
	http.ResponseWriter
	status int
	size   int64
}

func (a *answer) WriteHeader(status int) {
	if a.status == 0 {
		a.status = status
	}
	a.ResponseWriter.WriteHeader(status)
}

func (a *answer) Write(p []byte) (int, error) {
	if a.status == 0 {
		a.status = http.StatusOK
	}
	n, err := a.ResponseWriter.Write(p)
	a.size += int64(n)
	return n, err
}

// Unwrap lets http.ResponseController reach the connection.
func (a *answer) Unwrap() http.ResponseWriter { return a.ResponseWriter }

// around does for every request what has nothing to do with what it asks: a number for the log, the pace of its
// address, headers of security, and an end to whatever goes wrong.
func (h *Server) around(name string, inner http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		begun := time.Now()
		id := h.requestID()
		a := &answer{ResponseWriter: w}
		from := h.pace.client(r)
		if name != NamePublic { // there, every octet is sent a million times
			a.Header().Set("X-Request-Id", id)
		}
		defer func() {
			if bad := recover(); bad != nil && bad != http.ErrAbortHandler {
				h.log.Error("a fault in the program", "request", id, "fault", fmt.Sprint(bad), "stack", string(debug.
					Stack()))
				if a.status == 0 {
					http.Error(a, "internal error", http.StatusInternalServerError)
				}
			}
			took := time.Since(begun)
			h.metrics.request(name, a.status, took)
			if !h.log.Enabled(r.Context(), slog.LevelDebug) {
				return
			}
			h.log.Debug("request", "request", id, "on", name, "from", from, "method", runes.Escape(r.Method), "what",
				whatAsked(r), "status", a.status, "octets", a.size, "took", took)
		}()
		if h.open.Load() > mostKept {
			a.Header().Set("Connection", "close") // each that is kept open costs memory
		}
		if !h.pace.allows(from) {
			a.Header().Set("Retry-After", "60")
			if name == NameMachines && strings.HasPrefix(r.URL.Path, acmeAt) {
				h.acmeProblem(a, http.StatusTooManyRequests, &acme.Problem{Kind: acme.RateLimited,
					Detail: "too many requests from your address", Retry: 60})
				return
			}
			http.Error(a, "too many requests from your address: try again in a minute", http.StatusTooManyRequests)
			return
		}
		inner.ServeHTTP(a, r)
	})
}

// whatAsked names what a request asks for in the log: the pattern that it matched, since addresses at the desk are
// secrets.
func whatAsked(r *http.Request) string {
	if r.Pattern != "" {
		return r.Pattern
	}
	return "other"
}

// requestID names a request in the log: a random part for the run, and a number.
func (h *Server) requestID() string { return h.run + strconv.FormatUint(h.count.Add(1), 36) }

// pace limits how many requests an address sends.
type pace struct {
	limit   rate.Limit
	burst   int
	proxies []netip.Prefix
	mu      sync.Mutex
	by      map[netip.Addr]*rate.Limiter
}

// mostPaced is how many addresses are remembered. Beyond it, all are forgotten at once: no one is refused for that.
const mostPaced = 50_000

func newPace(s estate.Serve) (*pace, error) {
	proxies, err := s.Trusted()
	p := &pace{limit: rate.Limit(float64(s.Pace) / 60), burst: max(s.Pace/6, 20), proxies: proxies,
		by: map[netip.Addr]*rate.Limiter{}}
	if s.Pace == 0 {
		p.limit = rate.Inf
	}
	return p, err
}

// client is the address that a request comes from: what a trusted proxy says, or the other end of the connection. A
// zero address is this machine, by a Unix socket.
func (p *pace) client(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	at, err := netip.ParseAddr(host)
	if err != nil {
		return netip.Addr{}
	}
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(hops) - 1; i >= 0 && p.trusts(at); i-- {
		next, err := netip.ParseAddr(strings.TrimSpace(hops[i]))
		if err != nil {
			break
		}
		at = next
	}
	return at.Unmap().WithZone("")
}

func (p *pace) trusts(at netip.Addr) bool {
	for _, n := range p.proxies {
		if n.Contains(at.Unmap()) {
			return true
		}
	}
	return false
}

// allows reports whether an address may send another request. This machine may send any number.
func (p *pace) allows(at netip.Addr) bool { return p.takes(at, 1) }

// takes is allows for what costs more than a request: a guess at a private address.
func (p *pace) takes(at netip.Addr, cost int) bool {
	if !at.IsValid() || p.limit == rate.Inf || at.IsLoopback() && cost == 1 {
		return true
	}
	if at.Is6() { // a host has a network of its own
		if n, err := at.Prefix(64); err == nil {
			at = n.Addr()
		}
	}
	p.mu.Lock()
	l := p.by[at]
	if l == nil {
		if len(p.by) >= mostPaced {
			clear(p.by)
		}
		l = rate.NewLimiter(p.limit, p.burst)
		p.by[at] = l
	}
	p.mu.Unlock()
	return l.AllowN(time.Now(), cost)
}
