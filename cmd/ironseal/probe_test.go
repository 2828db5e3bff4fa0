package main

import (
	"crypto/tls"
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/pki/endpoint"
	"ironseal/pki/specimen"
)

// serving answers TLS with what certificate says at the time; it can be changed.
func serving(t testing.TB, certificate func() (*tls.Certificate, error)) string {
	t.Helper()
	return listening(t, &tls.Config{
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return certificate() }})
}

// listening answers TLS until the test ends, and reads until the client goes.
func listening(t testing.TB, config *tls.Config) string {
	t.Helper()
	l, err := tls.Listen("tcp", "127.0.0.1:0", config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				_, _ = c.Read(make([]byte, 1))
				c.Close()
			}()
		}
	}()
	return l.Addr().String()
}

// fixed serves files of a place.
func (p place) fixed(chain, key string) func() (*tls.Certificate, error) {
	return func() (*tls.Certificate, error) {
		c, err := tls.LoadX509KeyPair(filepath.Join(p.dir, chain), filepath.Join(p.dir, key))
		return &c, err
	}
}

// An endpoint is wrong in one way after another, put right as it is said, and the board goes
// from red to green.
func TestEndpointsAreLookedAt(t *testing.T) {
	p := harbour(t)
	const host = "a.ternbay.example"
	p.must("request", "draft", host, "--out", "..")
	p.must("sign", "../"+host+".request.pem", "--template", "web-server", "--yes")
	p.must("certificate", "export", host, "--out", "../alone.pem")
	p.must("certificate", "export", host, "--with", "issuers", "--out", "../whole.pem")
	p.must("certificate", "handover", host, "--for", "nginx", "--to", "quay office", "--out", "../handed")
	key := "../" + host + ".key.pem"
	whole, alone := serving(t, p.fixed("../whole.pem", key)), serving(t, p.fixed("../alone.pem", key))
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	out := p.must("probe", host+"@"+whole)
	for _, want := range []string{"✓ trusted", "R1, serial", "services.g1", "web-server", "quay office",
		"2. Tern Bay Ferries"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing:\n%s", want, out)
		}
	}
	p.refused(4, "add it to its chain file: ironseal authority export services.g1", "probe", host+"@"+alone)
	p.refused(4, "name-differs", "probe", "a@"+whole, "--json")
	p.file("../list.csv", []byte("endpoint;name\r\n"+whole+";"+host+"\r\n"+alone+";"+host+"\r\nx "+
		"y;\r\n"+silent.Addr().String()+
		";\r\n"))
	r := p.run("", "probe", "--list", "../list.csv", "--wait", "500ms", "--html", "../board.html", "--metrics",
		"../m.txt",
		"--before", "../before.json")
	if r.code != 4 || !strings.Contains(r.out, "1 of 3 endpoints trusted") || !strings.Contains(r.errors, "line 4") ||
		!strings.Contains(r.out, "stops during the handshake") {
		t.Errorf("%+v", r)
	}
	if page := string(p.read("../board.html")); strings.Count(page, `<tr role="row" class=`) != 3 ||
		!strings.Contains(string(p.read("../m.txt")), "} 0\n") {
		t.Error(page)
	}
	p.file("../alone.pem", p.read("../whole.pem")) // put right, as was said
	r = p.run("", "probe", "--list", "../list.csv", "--wait", "500ms", "--before", "../before.json", "--json")
	var changes []endpoint.Change
	if err := json.Unmarshal([]byte(r.out), &changes); err != nil || len(changes) != 1 || changes[0].What != "better" {
		t.Errorf("%v %s", err, r.out)
	}
	for _, c := range []struct {
		want string
		args []string
	}{
		{"leave out --as-of", []string{whole, "--record", "--as-of", "2040-01-01"}},
		{"above zero", []string{whole, "--wait", "-1s"}}, {"add --watch", []string{whole, "--until", host}},
		{"name it with --client", []string{whole, "--client-key", "../x"}},
		{"needs an endpoint", nil}, {"the port", []string{"a:b"}}, {"leave one out", []string{whole, "--set", "own",
			"--anchor", "../whole.pem"}}, {"invalid", []string{whole, "--wait", "x"}},
	} {
		t.Run(c.want, func(t *testing.T) {
			p := p.with(t)
			p.refused(2, c.want, append([]string{"probe"}, c.args...)...)
		})
	}
	p.file("../words.txt", []byte("a b\n\x1b[2J\n"))
	p.refused(1, "there is no endpoint", "probe", "--list", "../words.txt")
	p.refused(1, "no result that was kept", "probe", whole, "--before", "../words.txt")
	p.refused(1, "there are: own", "probe", whole, "--set", "onw")
}

// A renewal that has not come to its server yet is reported, waited for, and seen to come.
func TestARestartIsWatched(t *testing.T) {
	long(t)
	p := harbour(t)
	const host = "a.ternbay.example"
	p.must("request", "draft", host, "--out", "..")
	p.must("sign", "../"+host+".request.pem", "--template", "web-server", "--yes")
	p.must("certificate", "export", host, "--with", "issuers", "--out", "../served.pem")
	addr := host + "@" + serving(t, p.fixed("../served.pem", "../"+host+".key.pem"))
	time.Sleep(1100 * time.Millisecond) // certificates begin on whole seconds
	p.must("certificate", "renew", host, "--yes")
	out := p.must("probe", addr)
	if !strings.Contains(out, "older-served") || !strings.Contains(out, "! trusted") {
		t.Error(out)
	}
	p.must("certificate", "export", host, "--with", "issuers", "--out", "../newer.pem")
	go func() {
		time.Sleep(1500 * time.Millisecond)
		_ = os.Rename(filepath.Join(p.dir, "../newer.pem"), filepath.Join(p.dir, "../served.pem"))
	}()
	r := p.run("", "probe", addr, "--watch", "300ms", "--until", host)
	if r.code != 0 || !strings.Contains(r.errors, "not yet") || !strings.Contains(r.errors,
		"another certificate, serial") ||
		strings.Contains(r.out, "older-served") {
		t.Errorf("%+v", r)
	}
}

// A server that wants a client's certificate is examined with one that is on record here.
func TestClientsOfServersThatWantOne(t *testing.T) {
	p := harbour(t)
	const host = "gw.sandpiper.ternbay.example"
	p.must("request", "draft", host, "--out", "..")
	p.must("request", "receive", "../"+host+".request.pem")
	p.must("sign", "R1", "--template", "mutual-peer", "--yes")
	p.must("authority", "export", "root", "--out", "../root.pem")
	p.must("certificate", "export", host, "--with", "issuers", "--out", "../chain.pem")
	roots := pool(t, filepath.Join(p.dir, "../root.pem"))
	mine, err := p.fixed("../chain.pem", "../"+host+".key.pem")()
	if err != nil {
		t.Fatal(err)
	}
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		at := host + "@" + listening(t, &tls.Config{Certificates: []tls.Certificate{*mine}, ClientCAs: roots,
			ClientAuth: tls.RequireAndVerifyClientCert, MaxVersion: version})
		p.refused(4, "It wants a client's certificate from CN=Tern Bay Ferries Root", "probe", at)
		p.must("probe", at, "--client", host)
		p.must("probe", at, "--client", "../chain.pem", "--client-key", "../"+host+".key.pem")
		p.refused(1, "there is no private key in it", "probe", at, "--client", "../chain.pem")
	}
}

// What an endpoint says of itself reaches no screen, page or file as it is.
func TestWhatEndpointsSayIsEscaped(t *testing.T) {
	p := harbour(t)
	e := specimen.Make(t, nil, specimen.Plan{Subject: "CN=gate \x1b[2J\u202e<script>\n",
		Names: []string{"gate.ternbay.example"},
		From:  time.Now().Add(-time.Hour), Until: time.Now().AddDate(0, 1, 0)})
	addr := serving(t, func() (*tls.Certificate, error) {
		return &tls.Certificate{Certificate: [][]byte{e.Cert.Raw}, PrivateKey: e.Signer}, nil
	})
	for _, args := range [][]string{{addr}, {addr, "gate.ternbay.example@" + addr, "--like", addr}} {
		r := p.run("", append([]string{"probe", "--html", "../b.html", "--metrics", "../m.txt"}, args...)...)
		shown := r.out + r.errors + string(p.read("../b.html")) + string(p.read("../m.txt"))
		if r.code != 4 || strings.ContainsAny(shown, "\x1b\u202e") || strings.Contains(shown, "<script>\\n") ||
			!strings.Contains(shown, `\x1b[2J\u{202e}`) {
			t.Errorf("%d: %q", r.code, shown)
		}
	}
}
