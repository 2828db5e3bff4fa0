package probe

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
)

// Stage is how far a connection came.
type Stage string

// The stages.
const (
	Resolving  Stage = "resolving"
	Connecting Stage = "connecting"
	Upgrading  Stage = "upgrading" // the words before TLS
	Shaking    Stage = "handshake"
	Shaken     Stage = "done"
)

// Options are how endpoints are looked at. Zero values mean what is usual.
type Options struct {
	Client   *tls.Certificate // presented where one is asked for
	Wait     time.Duration    // for each step of one endpoint; 10 seconds where it is zero
	Nameless bool             // connect a second time without naming the host
}

// Answer is what an endpoint did and presented.
type Answer struct {
	Target
	Stage      Stage
	Err        error // why it came no further
	Version    uint16
	Cipher     uint16
	Presented  []*cert.Certificate // leaf first, as far as it can be read
	Raw        [][]byte            // as presented, whether it can be read or not
	Unreadable []error             // of each that cannot
	Proven     bool                // it has the private key of what it presented
	Asks       bool                // for a client's certificate
	Accepts    []dn.Name           // from these authorities; none for any
	Stapled    []byte              // the OCSP answer that came with it; nil for none
	WeakOnly   bool                // it chose RC4 or 3DES, and refuses everybody who offers neither
	Nameless   [][]byte            // what it presents to those who do not name the host, where it was asked and differs
	Took       time.Duration
}

const (
	usualWait = 10 * time.Second
	mostBytes = 4 << 20 // read from one endpoint
)

// anything is every suite that the library knows, the weak ones too: what a server chooses is
// what is judged.
var anything = func() (out []uint16) {
	for _, s := range slices.Concat(tls.CipherSuites(), tls.InsecureCipherSuites()) {
		out = append(out, s.ID)
	}
	return out
}()

// dead are the suites that no client of today offers: RC4 (RFC 7465) and 3DES (RFC 9325 section 4.2).
var dead = []uint16{tls.TLS_RSA_WITH_RC4_128_SHA, tls.TLS_ECDHE_RSA_WITH_RC4_128_SHA,
	tls.TLS_ECDHE_ECDSA_WITH_RC4_128_SHA, tls.TLS_RSA_WITH_3DES_EDE_CBC_SHA, tls.TLS_ECDHE_RSA_WITH_3DES_EDE_CBC_SHA}

// alive are the others.
var alive = slices.DeleteFunc(slices.Clone(anything), func(id uint16) bool { return slices.Contains(dead, id) })

// Look connects to an endpoint and says what it presents. It trusts nothing: what is presented
// is judged elsewhere.
func (o Options) Look(ctx context.Context, t Target, now func() time.Time) Answer {
	begun := now()
	out := o.shake(ctx, t, t.Name, anything)
	if out.Stage == Shaken && slices.Contains(dead, out.Cipher) {
		again := o.shake(ctx, t, t.Name, alive)
		out.WeakOnly = again.Stage == Shaking && ctx.Err() == nil
	}
	if o.Nameless && out.Stage == Shaken && !isAddress(t.Name) {
		if bare := o.shake(ctx, t, "", anything); len(bare.Raw) > 0 && !slices.EqualFunc(bare.Raw, out.Raw,
			bytes.Equal) {
			out.Nameless = bare.Raw
		}
	}
	out.Took = now().Sub(begun)
	return out
}

func isAddress(s string) bool { return net.ParseIP(s) != nil }

// shake connects once.
func (o Options) shake(ctx context.Context, t Target, name string, suites []uint16) (out Answer) {
	out = Answer{Target: t, Stage: Resolving}
	wait := o.Wait
	if wait == 0 {
		wait = usualWait
	}
	dialing, cancel := context.WithTimeout(ctx, wait)
	raw, err := (&net.Dialer{}).DialContext(dialing, "tcp", t.Address())
	cancel()
	if err != nil {
		var unknown *net.DNSError
		if out.Err = err; !errors.As(err, &unknown) {
			out.Stage = Connecting
		}
		return out
	}
	conn := &tap{Conn: raw, left: mostBytes}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()
	step := func(s Stage) { // each has its own time
		out.Stage = s
		_ = raw.SetDeadline(time.Now().Add(wait))
	}
	if t.Over != Direct {
		step(Upgrading)
		if out.Err = upgrade(conn, t); out.Err != nil {
			return out
		}
	}
	step(Shaking)
	conn.begin()
	config := o.config(name, conn, &out)
	config.CipherSuites = suites
	c := tls.Client(conn, config)
	out.Err = c.HandshakeContext(ctx)
	if out.Err == nil {
		state := c.ConnectionState()
		out.Stage, out.Proven, out.Version, out.Cipher = Shaken, true, state.Version, state.CipherSuite
		out.Stapled = state.OCSPResponse
		if out.Asks {
			out.Err = refusedLater(c, raw)
		}
	}
	if len(out.Raw) == 0 { // the library dropped it, or never came so far
		conn.recover(&out)
	}
	for _, der := range out.Raw {
		if x, err := cert.Read(der); err == nil {
			out.Presented = append(out.Presented, x)
		} else {
			out.Unreadable = append(out.Unreadable, err)
		}
	}
	return out
}

// config trusts nothing and accepts everything, so that all that is presented is seen.
func (o Options) config(name string, conn *tap, out *Answer) *tls.Config {
	c := &tls.Config{ServerName: name, InsecureSkipVerify: true, MinVersion: tls.VersionTLS10,
		KeyLogWriter: &conn.secrets}
	c.VerifyPeerCertificate = func(raw [][]byte, _ [][]*x509.Certificate) error {
		out.Raw = raw
		return nil
	}
	c.GetClientCertificate = func(asked *tls.CertificateRequestInfo) (*tls.Certificate, error) {
		out.ask(asked.AcceptableCAs)
		if o.Client != nil {
			return o.Client, nil
		}
		return &tls.Certificate{}, nil
	}
	return c
}

// ask notes that a client's certificate is asked for.
func (a *Answer) ask(authorities [][]byte) {
	a.Asks = true
	for _, der := range authorities[:min(len(authorities), 200)] {
		if n, err := dn.Read(der); err == nil {
			a.Accepts = append(a.Accepts, n)
		}
	}
}

// refusedLater waits a moment for the alert of a server that wants a certificate: with TLS 1.3
// it comes after the handshake (RFC 8446 section 4.4.2.4).
func refusedLater(c *tls.Conn, raw net.Conn) error {
	_ = raw.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
	_, err := c.Read(make([]byte, 1))
	var slow net.Error
	if err == nil || errors.Is(err, io.EOF) || errors.As(err, &slow) && slow.Timeout() {
		return nil
	}
	return err
}

// Words is why a connection came no further, in words; "" where it came to its end.
func (a Answer) Words() string {
	var slow net.Error
	var record tls.RecordHeaderError
	switch {
	case a.Err == nil:
		return ""
	case errors.As(a.Err, &record):
		return fmt.Sprintf("it does not speak TLS: it begins with %q%s", record.RecordHeader[:],
			likely(record.RecordHeader[:]))
	case errors.As(a.Err, &slow) && slow.Timeout(), errors.Is(a.Err, context.DeadlineExceeded):
		return map[Stage]string{Resolving: "its name is not resolved in time",
			Connecting: "nothing answers at this address",
			Upgrading:  "it stops during the words before TLS",
			Shaking:    "it stops during the handshake"}[a.Stage]
	case a.Stage == Resolving:
		return "its name does not resolve from here"
	case isAny(a.Err, refused):
		return "nothing listens on this port"
	case errors.Is(a.Err, io.EOF), isAny(a.Err, cutOff):
		return "it ends the connection " + map[Stage]string{Connecting: "as soon as it is made",
			Upgrading: "in the middle of the words before TLS", Shaking: "in the middle of the handshake",
			Shaken: "right after the handshake"}[a.Stage]
	}
	return strings.TrimPrefix(strings.TrimPrefix(a.Err.Error(), "remote error: "), "tls: ")
}

// isAny reports whether an error is one of several.
func isAny(err error, list []error) bool {
	return slices.ContainsFunc(list, func(x error) bool { return errors.Is(err, x) })
}

// likely says what speaks so.
func likely(begins []byte) string {
	for word, what := range map[string]string{"HTTP": "plain HTTP", "SSH-": "SSH",
		"220 ": "mail or FTP, before STARTTLS",
		"220-": "mail or FTP, before STARTTLS", "* OK": "IMAP, before STARTTLS", "+OK": "POP3, before STLS"} {
		if bytes.HasPrefix(begins, []byte(word)) {
			return ", as " + what + " does"
		}
	}
	return ""
}
