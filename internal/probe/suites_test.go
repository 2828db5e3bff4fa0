package probe

import (
	"context"
	"crypto/tls"
	"net"
	"testing"
	"time"

	"ironseal/pki/key"
	"ironseal/pki/specimen"
)

// A server that insists on a suite of yesterday is told apart from one that prefers it.
func TestSuitesOfYesterday(t *testing.T) {
	now := time.Now()
	own := specimen.Make(t, nil, specimen.Plan{Subject: "CN=a.ternbay.example", Names: []string{"a.ternbay.example"},
		Key: key.RSA2048, From: now.Add(-time.Hour), Until: now.Add(time.Hour)})
	pair := tls.Certificate{Certificate: [][]byte{own.Cert.Raw}, PrivateKey: own.Signer}
	for name, c := range map[string]struct {
		suites []uint16
		weak   bool
		only   bool
	}{
		"3DES only":       {[]uint16{tls.TLS_RSA_WITH_3DES_EDE_CBC_SHA}, true, true},
		"RC4 only":        {[]uint16{tls.TLS_ECDHE_RSA_WITH_RC4_128_SHA}, true, true},
		"without secrecy": {[]uint16{tls.TLS_RSA_WITH_AES_128_GCM_SHA256}, true, false},
		"of today":        {[]uint16{tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256}, false, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair},
				CipherSuites: c.suites, MaxVersion: tls.VersionTLS12})
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
			go func() {
				for {
					conn, err := l.Accept()
					if err != nil {
						return
					}
					go func(conn net.Conn) {
						defer conn.Close()
						_ = conn.(*tls.Conn).Handshake() // the client tells how it went
					}(conn)
				}
			}()
			target, err := ParseTarget("a.ternbay.example@" + l.Addr().String())
			if err != nil {
				t.Fatal(err)
			}
			a := Options{}.Look(context.Background(), target, time.Now)
			if (a.Weak() != "") != c.weak || a.WeakOnly != c.only || a.Stage != Shaken {
				t.Errorf("stage %s, weak %q, only that: %v, %s", a.Stage, a.Weak(), a.WeakOnly, a.Words())
			}
		})
	}
}
