package probe

import (
	"context"
	"crypto/tls"
	"net"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/specimen"
)

// The library's verdict and our explanation of it, on live connections.
func TestBothOpinionsAgree(t *testing.T) {
	now := time.Now()
	lives := func(p specimen.Plan) specimen.Plan {
		p.From, p.Until = now.Add(-time.Hour), now.Add(time.Hour)
		return p
	}
	root := specimen.Make(t, nil, lives(specimen.Plan{Subject: "CN=Root", Authority: true}))
	mid := specimen.Make(t, root, lives(specimen.Plan{Subject: "CN=Mid", Authority: true}))
	stranger := specimen.Make(t, nil, lives(specimen.Plan{Subject: "CN=Stranger", Authority: true}))
	plan := lives(specimen.Plan{Subject: "CN=a.ternbay.example", Names: []string{"a.ternbay.example"},
		Extended: []string{"serverAuth"}})
	leaf := specimen.Make(t, mid, plan)
	ended := plan
	ended.Until = now.Add(-time.Minute)
	old := specimen.Make(t, mid, ended)
	for _, c := range []struct {
		what    string
		served  []*specimen.Entity
		name    string
		anchor  *specimen.Entity
		trusted bool
		code    finding.Code
	}{
		{"right", []*specimen.Entity{leaf, mid}, "a.ternbay.example", root, true, ""},
		{"wrong name", []*specimen.Entity{leaf, mid}, "b.ternbay.example", root, false, finding.WrongName},
		{"missing issuer", []*specimen.Entity{leaf}, "a.ternbay.example", root, false, finding.MissingIssuer},
		{"another root", []*specimen.Entity{leaf, mid}, "a.ternbay.example", stranger, false, finding.MissingIssuer},
		{"ended", []*specimen.Entity{old, mid}, "a.ternbay.example", root, false, finding.Expired},
	} {
		t.Run(c.name, func(t *testing.T) {
			pair := tls.Certificate{PrivateKey: c.served[0].Signer}
			for _, e := range c.served {
				pair.Certificate = append(pair.Certificate, e.Cert.Raw)
			}
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			go func() {
				conn, err := l.Accept()
				if err == nil {
					_ = tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{pair}}).Handshake()
					conn.Close()
				}
			}()
			r, err := Connect(context.Background(), l.Addr().String(), c.name, []*cert.Certificate{c.anchor.Cert}, now)
			l.Close()
			if err != nil {
				t.Errorf("%s: %v", c.what, err)
				return
			}
			if r.Trusted != c.trusted || r.Verdict.Valid != c.trusted || c.code != "" && !r.Verdict.Reasons().
				Has(c.code) {
				t.Errorf("%s: trusted %v (%v), ours %v %v", c.what, r.Trusted, r.Refusal, r.Verdict.Valid,
					r.Verdict.Reasons().Codes())
			}
		})
	}
	if _, err := Connect(context.Background(), "127.0.0.1:1", "a", nil, now); err == nil ||
		!strings.Contains(err.Error(), "127.0.0.1:1") {
		t.Errorf("nobody there: %v", err)
	}
}
