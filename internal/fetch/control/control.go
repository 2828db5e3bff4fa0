// Package control fetches what is published at a name, to see whether whoever asks for a certificate controls it: a
// page by HTTP (RFC 8555 section 8.3), texts in DNS (section 8.4), a certificate by TLS (RFC 8737).
//
// Names come from clients, so they are hostile: each could lead to a service inside that no client can reach itself.
// Loopback, link-local and multicast addresses are never connected to unless it is allowed, nor the server's own
// addresses; networks of one's own are, since that is where the machines are. What is refused is the address that is
// connected to, after names were resolved, so no answer of DNS gets around it. Sizes, times and redirects are bounded.
package control

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"ironseal/internal/fetch"
	"ironseal/pki/acme"
	"ironseal/pki/san"
)

// Why nothing was found. Other errors are of the connection.
var (
	ErrDNS    = errors.New("DNS")
	ErrTLS    = errors.New("TLS")
	ErrAnswer = errors.New("answer")
)

// Bounds of one look.
const (
	within    = 10 * time.Second
	mostPage  = 4 << 10
	mostTexts = 100
)

// Looker looks at names. It is safe for many at once.
type Looker struct {
	Resolver string           // HOST:PORT of a DNS server; "" for the system's
	HTTPPort int              // 80 where it is 0
	TLSPort  int              // 443 where it is 0
	Local    bool             // loopback and link-local addresses are allowed
	Own      []netip.AddrPort // the server's own addresses, that are never connected to
}

func (l Looker) resolver() *net.Resolver {
	if l.Resolver == "" {
		return net.DefaultResolver
	}
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{Timeout: within}).DialContext(ctx, network, l.Resolver)
	}}
}

// Refuses says why an address is not connected to; nil where it is.
func (l Looker) Refuses(at netip.AddrPort) error {
	ip := at.Addr().Unmap().WithZone("")
	if slices.ContainsFunc(l.Own, func(o netip.AddrPort) bool {
		return o.Port() == at.Port() && (o.Addr().Unmap() == ip || o.Addr().IsUnspecified() && l.onHost(ip))
	}) {
		return fmt.Errorf("%s is an address of this server itself", at)
	}
	if !l.Local && (!ip.IsGlobalUnicast() || ip.Is4() && ip.As4()[0] == 0 || fetch.Translated(ip) || metadata == ip) {
		return fmt.Errorf("%s is a loopback, link-local or special address, which no challenge may lead to", at.Addr())
	}
	return nil
}

// metadata is where a cloud tells machines their secrets, beside the link-local address that is refused anyway.
var metadata = netip.MustParseAddr("fd00:ec2::254")

// onHost reports whether an address is one of this machine.
func (l Looker) onHost(ip netip.Addr) bool {
	if ip.IsLoopback() {
		return true
	}
	list, err := net.InterfaceAddrs()
	return err == nil && slices.ContainsFunc(list, func(a net.Addr) bool {
		p, err := netip.ParsePrefix(a.String())
		return err == nil && p.Addr().Unmap() == ip
	})
}

func (l Looker) dialer() *net.Dialer {
	return &net.Dialer{Timeout: within, Resolver: l.resolver(),
		Control: func(_, address string, _ syscall.RawConn) error {
			at, err := netip.ParseAddrPort(address)
			if err == nil {
				err = l.Refuses(at)
			}
			return err
		}}
}

// Page fetches the page of a challenge.
func (l Looker) Page(ctx context.Context, n san.Name, token string) ([]byte, error) {
	port, secure := l.HTTPPort, l.TLSPort
	if secure == 0 {
		secure = 443
	}
	host := n.Value()
	if port == 0 {
		port = 80
	}
	if port == 80 {
		if at, err := netip.ParseAddr(host); err == nil && at.Is6() {
			host = "[" + host + "]"
		}
	} else {
		host = net.JoinHostPort(host, fmt.Sprint(port))
	}
	address := (&url.URL{Scheme: "http", Host: host, Path: "/.well-known/acme-challenge/" + token}).String()
	data, err := fetch.GetFrom(ctx, address, fetch.Source{Most: mostPage, Within: within, Dialer: l.dialer(),
		Host: n.Value(), Ports: []int{80, port, secure}})
	return data, classed(err)
}

// classed says of which kind an error is.
func classed(err error) error {
	var dns *net.DNSError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &dns):
		return fmt.Errorf("%w: %s cannot be resolved: %s", ErrDNS, dns.Name, dns.Err)
	case errors.Is(err, fetch.ErrStatus):
		return fmt.Errorf("%w: %w", ErrAnswer, err)
	}
	return err
}

// Texts asks for the texts of a name.
func (l Looker) Texts(ctx context.Context, name string) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	list, err := l.resolver().LookupTXT(ctx, strings.TrimSuffix(name, ".")+".")
	if err != nil {
		return nil, classed(err)
	}
	return list[:min(len(list), mostTexts)], nil
}

// Certificate asks a server for the certificate of a challenge (RFC 8737 section 3). It need not be trusted: that the
// server has it is the answer.
func (l Looker) Certificate(ctx context.Context, n san.Name) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	port := l.TLSPort
	if port == 0 {
		port = 443
	}
	raw, err := l.dialer().DialContext(ctx, "tcp", net.JoinHostPort(n.Value(), fmt.Sprint(port)))
	if err != nil {
		return nil, classed(err)
	}
	defer raw.Close()
	c := tls.Client(raw, &tls.Config{ServerName: acme.ServerName(n), NextProtos: []string{acme.ALPN},
		MinVersion: tls.VersionTLS12, InsecureSkipVerify: true})
	if err := c.HandshakeContext(ctx); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrTLS, err)
	}
	state := c.ConnectionState()
	if state.NegotiatedProtocol != acme.ALPN || len(state.PeerCertificates) == 0 {
		return nil, fmt.Errorf("%w: the server does not speak %s", ErrTLS, acme.ALPN)
	}
	return state.PeerCertificates[0].Raw, nil
}
