// Package probe looks at a live TLS endpoint: what it presents, and what a
// client that trusts certain roots makes of it.
//
// Two opinions are kept apart. The handshake's own verdict is that of the
// standard library, a real client. The explanation beside it is our path
// validator's, which says why where the client only says no.
package probe

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/path"
)

// timeout bounds one connection.
const timeout = 10 * time.Second

// Result is what one connection showed.
type Result struct {
	Trusted   bool   // whether the client completed the handshake
	Refusal   error  // what the client said when it refused
	Protocol  string // such as "TLS 1.3"
	Presented []*cert.Certificate
	Verdict   path.Verdict
}

// Connect connects to addr as a client that trusts only the anchors and expects
// the given name. An error means that no certificate was seen.
func Connect(ctx context.Context, addr, name string, anchors []*cert.Certificate, now time.Time) (Result, error) {
	var out Result
	pool := x509.NewCertPool()
	for _, a := range anchors {
		c, err := x509.ParseCertificate(a.Raw)
		if err != nil {
			return out, fmt.Errorf("anchor %s: strict clients do not read it: %w", a.Title(), err)
		}
		pool.AddCert(c)
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	raw, err := (&net.Dialer{}).DialContext(ctx, "tcp", addr)
	if err != nil {
		return out, fmt.Errorf("%s: %w", addr, err)
	}
	defer raw.Close()
	var seen [][]byte
	config := &tls.Config{RootCAs: pool, ServerName: name, Time: func() time.Time { return now }}
	conn := tls.Client(raw, config)
	err = conn.HandshakeContext(ctx)
	var refused *tls.CertificateVerificationError
	switch {
	case err == nil:
		state := conn.ConnectionState()
		out.Trusted, out.Protocol = true, tls.VersionName(state.Version)
		for _, c := range state.PeerCertificates {
			seen = append(seen, c.Raw)
		}
	case errors.As(err, &refused):
		out.Refusal = refused.Err
		for _, c := range refused.UnverifiedCertificates {
			seen = append(seen, c.Raw)
		}
	default:
		return out, fmt.Errorf("%s: the handshake failed: %w", addr, err)
	}
	for _, der := range seen {
		c, err := cert.Read(der)
		if err != nil {
			return out, fmt.Errorf("%s presented something that is no certificate: %w", addr, err)
		}
		out.Presented = append(out.Presented, c)
	}
	usage, err := ext.ParseExtendedUsage("serverAuth")
	if err != nil {
		return out, err
	}
	if len(out.Presented) > 0 {
		out.Verdict = path.Verify(out.Presented[0], out.Presented,
			path.Question{Anchors: anchors, Now: now, Name: name, Usage: usage})
	}
	return out, nil
}
