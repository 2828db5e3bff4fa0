//go:build linux

package peers

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	kinds "ironseal/pki/client"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/specimen"
)

// odd is a chain in which kinds of client may differ.
type odd struct {
	name  string
	chain []*specimen.Entity // as served
	port  int
}

// oddities makes the chains under one root, and serves each.
func oddities(t *testing.T) (root *specimen.Entity, list []odd) {
	now := time.Now()
	make := func(issuer *specimen.Entity, p specimen.Plan) *specimen.Entity {
		p.From, p.Until = now.Add(-time.Hour), now.AddDate(0, 3, 0)
		return specimen.Make(t, issuer, p)
	}
	site := specimen.Plan{Subject: "CN=localhost", Names: []string{"localhost"}, Extended: []string{"serverAuth"}}
	root = make(nil, specimen.Plan{Subject: "CN=Odd Root", Authority: true})
	mid := make(root, specimen.Plan{Subject: "CN=Odd Services", Authority: true})
	add := func(name string, mid *specimen.Entity, change func(p *specimen.Plan)) {
		p := site
		change(&p)
		list = append(list, odd{name: name, chain: []*specimen.Entity{make(mid, p), mid}})
	}
	add("good", mid, func(*specimen.Plan) {})
	add("common name only", mid, func(p *specimen.Plan) { p.Names = nil })
	add("leaf for clients", mid, func(p *specimen.Plan) { p.Extended = []string{"clientAuth"} })
	add("no usages", mid, func(p *specimen.Plan) { p.Extended = nil })
	add("authority for clients", make(root, specimen.Plan{Subject: "CN=Odd Clients", Authority: true,
		Extended: []string{"clientAuth"}}), func(*specimen.Plan) {})
	add("RSA leaf that enciphers", mid, func(p *specimen.Plan) {
		p.Key, p.Usage = key.RSA2048, ext.KeyEncipherment
	})
	add("Ed25519 leaf", mid, func(p *specimen.Plan) { p.Key = key.Ed25519 })
	add("P-521 leaf", mid, func(p *specimen.Plan) { p.Key = key.P521 })
	short, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil {
		t.Fatal(err)
	}
	add("RSA 1024 leaf", mid, func(p *specimen.Plan) { p.Signer = short })
	add("wrong name", mid, func(p *specimen.Plan) { p.Names, p.Subject = []string{"elsewhere.example"}, "CN=Else" })
	add("no intermediate", mid, func(*specimen.Plan) {})
	list[len(list)-1].chain = list[len(list)-1].chain[:1]
	for i := range list {
		list[i].port = serveOdd(t, list[i].chain)
	}
	return root, list
}

func serveOdd(t *testing.T, chain []*specimen.Entity) int {
	t.Helper()
	pair := tls.Certificate{PrivateKey: chain[0].Signer}
	for _, c := range chain {
		pair.Certificate = append(pair.Certificate, c.Cert.Raw)
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		io.WriteString(w, "all aboard\n")
	}), ErrorLog: log.New(io.Discard, "", 0), TLSNextProto: map[string]func(*http.Server, *tls.Conn, http.Handler){}}
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return l.Addr().(*net.TCPAddr).Port
}

// What is said of a kind of client is what the client does.
func TestKindsOfClientAreAsMeasured(t *testing.T) {
	long(t)
	root, list := oddities(t)
	file := write(t, t.TempDir()+"/root.pem", string(bundle.PEM(bundle.Certificate, root.Cert.Raw)))
	tried := map[string]func(o odd) bool{}
	for i, name := range []string{"curl", "wget", "python", "node"} {
		c := clients[i]
		binary := peer(t, c.program...)
		tried[name] = func(o odd) bool {
			out, _ := exec.Command(binary, c.command(file, fmt.Sprintf("https://localhost:%d/", o.port), "localhost",
				o.port)...).CombinedOutput()
			return strings.Contains(string(out), "all aboard")
		}
	}
	var urls []string
	for _, o := range list {
		urls = append(urls, fmt.Sprintf("https://localhost:%d/", o.port))
	}
	said := strings.Split(strings.TrimSpace(java(t, "TrustClient.java", nil, append([]string{file}, urls...)...)), "\n")
	tried["java"] = func(o odd) bool {
		for i := range list {
			if list[i].port == o.port {
				return strings.HasPrefix(said[i], "trusted 200")
			}
		}
		return false
	}
	if accepted := chromiumAccepts(t, root, list); accepted != nil {
		tried["chromium"] = func(o odd) bool { return accepted[o.port] }
	}
	tried["go"] = func(o odd) bool { return goTrusts(t, root, o.port) }
	usage, err := ext.ParseExtendedUsage("serverAuth")
	if err != nil {
		t.Fatal(err)
	}
	for name, try := range tried {
		k, err := kinds.Of(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range list {
			v := path.Verify(o.chain[0].Cert, certificates(o.chain), path.Question{Now: time.Now(),
				Anchors: []*cert.Certificate{root.Cert}, Name: "localhost", Usage: usage})
			if a, real := k.Judge(v), try(o); a.Accepts != real {
				t.Errorf("%s, %s: it accepts: %v; we say %+v", name, o.name, real, a)
			}
		}
	}
}

func certificates(list []*specimen.Entity) (out []*cert.Certificate) {
	for _, e := range list {
		out = append(out, e.Cert)
	}
	return out
}

func goTrusts(t *testing.T, root *specimen.Entity, port int) bool {
	t.Helper()
	config := &tls.Config{ServerName: "localhost", RootCAs: poolOf(t, root)}
	c, err := tls.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port), config)
	if err != nil {
		return false
	}
	c.Close()
	return true
}

func poolOf(t *testing.T, root *specimen.Entity) *x509.CertPool {
	t.Helper()
	c, err := x509.ParseCertificate(root.Cert.Raw)
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AddCert(c)
	return pool
}

// chromiumAccepts says which of the chains Chromium takes, by a policy that gives it the root;
// nil where it cannot be given one.
func chromiumAccepts(t *testing.T, root *specimen.Entity, list []odd) map[int]bool {
	t.Helper()
	chromium := peer(t, "chromium")
	if exec.Command(peer(t, "unshare"), "-m", "true").Run() != nil {
		return nil
	}
	dir := t.TempDir()
	policy := write(t, dir+"/policy.json", fmt.Sprintf(`{"CACertificates":["%s"]}`,
		base64.StdEncoding.EncodeToString(root.Cert.Raw)))
	text := fmt.Sprintf("mkdir -p /etc/chromium/policies/managed\nmount -t tmpfs none /etc/chromium/policies/managed\n"+
		"cp %s /etc/chromium/policies/managed/\n", policy)
	for _, o := range list {
		text += fmt.Sprintf("HOME=%[1]s timeout 60 %[2]s --headless --no-sandbox --disable-gpu --no-proxy-server "+
			"--user-data-dir=%[1]s/p --virtual-time-budget=5000 --dump-dom https://localhost:%[3]d/ 2>/dev/null | "+
			"grep -q 'all aboard' && echo %[3]d\n", dir, chromium, o.port)
	}
	out, _ := exec.Command("unshare", "-m", "sh", write(t, dir+"/try.sh", text)).Output()
	accepted := map[int]bool{}
	for _, line := range strings.Fields(string(out)) {
		port, err := strconv.Atoi(line)
		if err != nil {
			t.Fatal(err)
		}
		accepted[port] = true
	}
	return accepted
}
