// Package fetch gets lists and OCSP answers from the addresses that certificates name.
//
// Addresses come out of certificates, so they are hostile: someone could have a certificate
// made whose address leads to a service inside. So only plain HTTP is spoken, to public
// addresses unless it is allowed otherwise, by no proxy, with few redirects, and no more is
// read, nor longer waited, than was said before.
package fetch

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"syscall"
	"time"

	"ironseal/pki/advice"
	"ironseal/pki/fault"
)

// Rules bound what is fetched.
type Rules struct {
	Local  bool          // loopback and private addresses are allowed
	Most   int64         // octets
	Within time.Duration // for all of it
}

// Usual are bounds that fit lists and answers.
var Usual = Rules{Most: 64 << 20, Within: 20 * time.Second}

// ErrLocal says that an address leads inside.
var ErrLocal = fault.New(fault.Refused, "local address").Then(
	advice.To("allow it", advice.FetchLocal))

// Get fetches what is at an address.
func Get(ctx context.Context, address string, r Rules) ([]byte, error) {
	return do(ctx, http.MethodGet, address, "", nil, r)
}

// Post sends a body to an address and returns the answer.
func Post(ctx context.Context, address, kind string, body []byte, r Rules) ([]byte, error) {
	return do(ctx, http.MethodPost, address, kind, body, r)
}

const mostRedirects = 3

// ErrStatus says that a server answered, and not with what was asked for.
var ErrStatus = errors.New("it is not what was asked for")

func do(ctx context.Context, method, address, kind string, body []byte, r Rules) ([]byte, error) {
	return send(ctx, method, address, kind, body, Source{Most: r.Most, Within: r.Within, Dialer: dialer(r)})
}

// Source says how something is fetched from whoever a client names.
type Source struct {
	Most   int64         // octets
	Within time.Duration // for all of it
	Dialer *net.Dialer   // it refuses the addresses that are not connected to
	Host   string        // redirects lead to this host alone, by HTTPS too, whose certificate need not be trusted
	Ports  []int         // and to these ports of it
}

// GetFrom fetches what is at an address.
func GetFrom(ctx context.Context, address string, s Source) ([]byte, error) {
	return send(ctx, http.MethodGet, address, "", nil, s)
}

// Follows says what is wrong with an address.
func (s Source) Follows(address string) error {
	if s.Host == "" {
		return plain(address)
	}
	u, err := url.Parse(address)
	if err != nil || u.User != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() != s.Host {
		return fmt.Errorf("%q: only addresses of %s are fetched from", address, s.Host)
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	if !slices.ContainsFunc(s.Ports, func(p int) bool { return strconv.Itoa(p) == port }) {
		return fmt.Errorf("%q: nothing is fetched from the port %s", address, port)
	}
	return nil
}

func send(ctx context.Context, method, address, kind string, body []byte, s Source) ([]byte, error) {
	if err := s.Follows(address); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, s.Within)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(body))
	if err != nil {
		return nil, fmt.Errorf("%q: %w", address, err)
	}
	q.Header.Set("User-Agent", "ironseal")
	if kind != "" {
		q.Header.Set("Content-Type", kind)
	}
	transport := &http.Transport{DialContext: s.Dialer.DialContext, DisableKeepAlives: true,
		MaxResponseHeaderBytes: 64 << 10, ResponseHeaderTimeout: s.Within,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: s.Host != "", MinVersion: tls.VersionTLS12}}
	defer transport.CloseIdleConnections()
	client := http.Client{Transport: transport, CheckRedirect: func(q *http.Request, via []*http.Request) error {
		if len(via) > mostRedirects {
			return fmt.Errorf("more than %d redirects", mostRedirects)
		}
		return s.Follows(q.URL.String())
	}}
	answer, err := client.Do(q)
	if err != nil {
		return nil, told(address, err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%q: the server answers %d, and not 200: %w", address, answer.StatusCode, ErrStatus)
	}
	data, err := io.ReadAll(io.LimitReader(answer.Body, s.Most+1))
	switch {
	case err != nil:
		return nil, told(address, err)
	case int64(len(data)) > s.Most:
		return nil, fmt.Errorf("%q: it is larger than the %d octets that are fetched at most: %w", address, s.Most,
			ErrStatus)
	}
	return data, nil
}

// told names the address and leaves out what the library says of it again.
func told(address string, err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		err = errors.New("there was no answer in time")
	}
	return fmt.Errorf("%q: %w", address, err)
}

func plain(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" || u.Host == "" || u.User != nil {
		return fmt.Errorf("%q: only plain http addresses are fetched from", address)
	}
	return nil
}

// dialer refuses addresses inside once names were resolved, so that no name gets around it.
func dialer(r Rules) *net.Dialer {
	return &net.Dialer{Timeout: r.Within, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		if !r.Local && inner(at.Addr()) {
			return ErrLocal
		}
		return nil
	}}
}

// inner reports whether an address does not lead out into the public network: it is no global
// unicast address, or stands in a block that IANA's registries of special addresses do not call
// globally reachable, or is written into another address that a network translates.
func inner(ip netip.Addr) bool {
	ip = ip.Unmap().WithZone("")
	return !ip.IsGlobalUnicast() || ip.IsPrivate() ||
		slices.ContainsFunc(special, func(p netip.Prefix) bool { return p.Contains(ip) })
}

// Translated reports whether an address stands in a block that networks translate or tunnel to another address.
func Translated(ip netip.Addr) bool {
	return ip.Is6() && !ip.Is4In6() && slices.ContainsFunc(translated, func(p netip.Prefix) bool {
		return p.
			Contains(ip)
	})
}

var translated = prefixes("::/96", "64:ff9b::/96", "64:ff9b:1::/48", "2001::/23", "2002::/16")

// special are those blocks. What is translated is refused whole, whatever it leads to: no one puts a
// list of ours there, and a network may translate more than it should.
var special = prefixes(
	"0.0.0.0/8",       // this network (RFC 791)
	"100.64.0.0/10",   // carriers' own networks (RFC 6598)
	"192.0.0.0/24",    // protocol assignments (RFC 6890)
	"192.0.2.0/24",    // documentation (RFC 5737)
	"192.88.99.0/24",  // relays from IPv6 (RFC 7526)
	"198.18.0.0/15",   // benchmarks (RFC 2544)
	"198.51.100.0/24", // documentation (RFC 5737)
	"203.0.113.0/24",  // documentation (RFC 5737)
	"240.0.0.0/4",     // reserved (RFC 1112), and broadcast
	"::/96",           // IPv4-compatible (RFC 4291)
	"::ffff:0:0:0/96", // translated (RFC 2765)
	"64:ff9b::/96",    // translated (RFC 6052)
	"64:ff9b:1::/48",  // translated within a network (RFC 8215)
	"100::/64",        // discarded (RFC 6666)
	"2001::/23",       // protocol assignments, tunnels among them (RFC 2928, RFC 4380)
	"2001:db8::/32",   // documentation (RFC 3849)
	"2002::/16",       // tunnels to IPv4 addresses (RFC 3056)
	"3fff::/20",       // documentation (RFC 9637)
	"5f00::/16",       // segment routing (RFC 9602)
	"fec0::/10",       // site-local (RFC 3879)
)

func prefixes(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}
