package probe

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"net"
	"testing"
	"time"

	"ironseal/pki/specimen"
)

// The reader of what a peer sent takes from it what the library takes, with each version; the
// other suites are tried with a web server, since the library lets none be chosen.
func TestTheRawReaderAgreesWithTheLibrary(t *testing.T) {
	leaf := pair(t)
	leaf.Certificate = append(leaf.Certificate, specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root",
		Authority: true}).Cert.Raw)
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		c, s := net.Pipe()
		go func() {
			_ = tls.Server(s, &tls.Config{Certificates: []tls.Certificate{leaf}, MaxVersion: version,
				ClientAuth: tls.RequestClientCert}).Handshake()
		}()
		kept := &tap{Conn: c, left: mostBytes}
		kept.begin()
		config := &tls.Config{InsecureSkipVerify: true, KeyLogWriter: &kept.secrets}
		conn := tls.Client(kept, config)
		if err := conn.Handshake(); err != nil {
			t.Fatal(err)
		}
		var got Answer
		kept.recover(&got)
		state := conn.ConnectionState()
		if len(got.Raw) != 2 || !bytes.Equal(got.Raw[0], leaf.Certificate[0]) ||
			!bytes.Equal(got.Raw[1], leaf.Certificate[1]) || got.Version != state.Version ||
			got.Cipher != state.CipherSuite || !got.Asks {
			t.Errorf("%x %x: %d certificates, %x %x", version, state.CipherSuite, len(got.Raw), got.Version, got.Cipher)
		}
		c.Close()
	}
}

// What the library drops because it cannot parse it is shown all the same, and what is wrong
// with it; no end of it is not read.
func TestWhatStrictReadersDropIsShown(t *testing.T) {
	signer := specimen.Make(t, nil, specimen.Plan{Subject: "CN=gate.ternbay.example",
		Names: []string{"gate.ternbay.example"}})
	negative := negated(t, signer.Cert.Raw)
	if _, err := x509.ParseCertificate(negative); err == nil {
		t.Fatal("the library reads it")
	}
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		addr := serve(t, func(c net.Conn) {
			mine := tls.Certificate{Certificate: [][]byte{negative}, PrivateKey: signer.Signer}
			_ = tls.Server(c, &tls.Config{Certificates: []tls.Certificate{mine}, MaxVersion: version}).Handshake()
		})
		target, err := ParseTarget("gate.ternbay.example@" + addr)
		if err != nil {
			t.Fatal(err)
		}
		a := Options{Wait: 5 * time.Second}.Look(context.Background(), target, time.Now)
		if a.Err == nil || len(a.Presented) != 1 || a.Proven || a.Version != version ||
			a.Presented[0].Subject.CommonName() != "gate.ternbay.example" {
			t.Errorf("%x: %d presented, %v", version, len(a.Presented), a.Err)
		}
	}
	junk := serve(t, func(c net.Conn) {
		mine := tls.Certificate{Certificate: [][]byte{[]byte("no certificate"), bytes.Repeat([]byte{1}, 60_000)},
			PrivateKey: signer.Signer}
		_ = tls.Server(c, &tls.Config{Certificates: []tls.Certificate{mine}}).Handshake()
	})
	target, _ := ParseTarget(junk)
	if a := (Options{}).Look(context.Background(), target, time.Now); len(a.Unreadable) != 2 || len(a.Raw) != 2 {
		t.Errorf("%+v", a)
	}
	huge := serve(t, func(c net.Conn) {
		chain := [][]byte{signer.Cert.Raw}
		for range 100 {
			chain = append(chain, bytes.Repeat([]byte{0x30}, 50_000))
		}
		_ = tls.Server(c, &tls.Config{Certificates: []tls.Certificate{{Certificate: chain,
			PrivateKey: signer.Signer}}}).Handshake()
	})
	target, _ = ParseTarget(huge)
	if a := (Options{}).Look(context.Background(), target, time.Now); a.Stage == Shaken || a.Words() == "" {
		t.Errorf("5 MB: stage %s", a.Stage)
	}
}

// negated gives a certificate a negative serial; its signature is wrong then.
func negated(t *testing.T, der []byte) []byte {
	t.Helper()
	out := bytes.Clone(der)
	at := bytes.Index(out, []byte{0xa0, 3, 2, 1, 2, 2}) + 7 // behind the version: INTEGER, its length
	if at < 7 {
		t.Fatal("no serial")
	}
	out[at] |= 0x80
	return out
}

// Who names no host may get another certificate; and a server that wants a client's says of
// which authorities.
func TestNamelessAndClients(t *testing.T) {
	mine, other := pair(t), pair(t)
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Crew Root,O=Tern Bay Ferries", Authority: true})
	crew := x509.NewCertPool()
	c, err := x509.ParseCertificate(root.Cert.Raw)
	if err != nil {
		t.Fatal(err)
	}
	crew.AddCert(c)
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		addr := serve(t, func(c net.Conn) {
			s := tls.Server(c, &tls.Config{MaxVersion: version, ClientAuth: tls.RequireAndVerifyClientCert,
				ClientCAs: crew,
				Time:      func() time.Time { return specimen.Now },
				GetCertificate: func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
					if h.ServerName == "" {
						return &other, nil
					}
					return &mine, nil
				}})
			if s.Handshake() == nil {
				_, _ = s.Read(make([]byte, 1))
			}
		})
		target, err := ParseTarget("m.ternbay.example@" + addr)
		if err != nil {
			t.Fatal(err)
		}
		a := Options{}.Look(context.Background(), target, time.Now)
		if !a.Asks || len(a.Accepts) != 1 || a.Accepts[0].String() != "CN=Crew Root,O=Tern Bay Ferries" ||
			a.Err == nil ||
			len(a.Presented) != 1 {
			t.Errorf("%x: %+v, %v", version, a.Accepts, a.Err)
		}
		mate := specimen.Make(t, root, specimen.Plan{Subject: "CN=mate", Extended: []string{"clientAuth"}})
		with := Options{Nameless: true, Client: &tls.Certificate{Certificate: [][]byte{mate.Cert.Raw},
			PrivateKey: mate.Signer}}
		if a = with.Look(context.Background(), target, time.Now); a.Err != nil || !a.Proven || len(a.Nameless) != 1 {
			t.Errorf("%x: with a certificate: %v, nameless %d", version, a.Err, len(a.Nameless))
		}
	}
}

// Old protocols and weak suites are taken, and told.
func TestOldAndWeakServersAreSeen(t *testing.T) {
	mine := pair(t)
	for _, c := range []struct {
		config *tls.Config
		old    bool
		weak   string
	}{
		{&tls.Config{MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11}, true, ""},
		{&tls.Config{MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256}}, false,
			"TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256"},
		{&tls.Config{}, false, ""},
	} {
		t.Run(c.weak, func(t *testing.T) {
			c.config.Certificates = []tls.Certificate{mine}
			addr := serve(t, func(conn net.Conn) { _ = tls.Server(conn, c.config).Handshake() })
			target, _ := ParseTarget(addr)
			a := Options{}.Look(context.Background(), target, time.Now)
			if a.Err != nil || a.OldOnly() != c.old || a.Weak() != c.weak && !c.old {
				t.Errorf("%s %s: %v", a.Protocol(), a.Weak(), a.Err)
			}
		})
	}
}

// An endpoint that never answers holds up none of the others.
func TestManyTogether(t *testing.T) {
	mine := pair(t)
	good := serve(t, func(c net.Conn) {
		_ = tls.Server(c,
			&tls.Config{Certificates: []tls.Certificate{mine}}).Handshake()
	})
	dead := serve(t, func(net.Conn) { time.Sleep(20 * time.Second) })
	var list []Target
	for i := range 200 {
		addr := good
		if i%20 == 0 {
			addr = dead
		}
		target, err := ParseTarget("m.ternbay.example@" + addr)
		if err != nil {
			t.Fatal(err)
		}
		list = append(list, target)
	}
	answers := make([]Answer, len(list))
	Options{Wait: 6 * time.Second}.Many(context.Background(), list, time.Now, func(i int, a Answer) { answers[i] = a })
	for i, a := range answers {
		if (a.Err == nil) == (i%20 == 0) {
			t.Errorf("%d: %v", i, a.Err)
		}
	}
}

func FuzzRawReader(f *testing.F) {
	f.Add([]byte("\x16\x03\x03\x00\x04\x02\x00\x00\x00"), []byte{})
	f.Add([]byte("\x16\x03\x03\x00\x0b\x0b\x00\x00\x07\x00\x00\x04\x00\x00\x01x\x17\x03\x03\x00\x01\x01"),
		[]byte("secret"))
	f.Fuzz(func(t *testing.T, data, secret []byte) {
		var kept tap
		kept.kept.Write(data)
		kept.secrets.WriteString("SERVER_HANDSHAKE_TRAFFIC_SECRET 00 " + hex.EncodeToString(secret) + "\n")
		var out Answer
		kept.recover(&out)
		total := 0
		for _, c := range out.Raw {
			total += len(c)
		}
		if total > len(data) {
			t.Errorf("%d bytes out of %d", total, len(data))
		}
	})
}
