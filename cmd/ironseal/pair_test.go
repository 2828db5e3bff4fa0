package main

import (
	"crypto/x509"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/label"
	"ironseal/pki/specimen"
)

// pool is what a PEM file makes the standard library trust.
func pool(t *testing.T, file string) *x509.CertPool {
	t.Helper()
	data, err := os.ReadFile(file)
	out := x509.NewCertPool()
	if err != nil || !out.AppendCertsFromPEM(data) {
		t.Fatal(file, err)
	}
	return out
}

// accepts has the standard library judge a chain in a file as a machine does that trusts what
// is in a folder of its pair.
func accepts(t *testing.T, roots, chain string, usage x509.ExtKeyUsage) error {
	t.Helper()
	data, err := os.ReadFile(chain)
	if err != nil {
		t.Fatal(err)
	}
	o := x509.VerifyOptions{Roots: pool(t, roots), Intermediates: x509.NewCertPool(),
		KeyUsages: []x509.ExtKeyUsage{usage}}
	block, rest := pem.Decode(data)
	o.Intermediates.AppendCertsFromPEM(rest)
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	_, err = c.Verify(o)
	return err
}

// A gateway of ours and one of a partner's, whose root we know from a set.
func TestPairs(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	root, mid, _ := partner(t)
	leaf := specimen.Make(t, mid, specimen.Plan{Subject: "CN=gw.skua.ternbay.example",
		Names: []string{"gw.skua.ternbay.example"}, Extended: []string{"serverAuth", "clientAuth"},
		From: time.Now().Add(-time.Hour), Until: time.Now().AddDate(1, 0, 0)})
	p.file("../gw.pem", pemOf(leaf, mid))
	p.file("../bare.pem", pemOf(leaf))
	const ours = "gw.sandpiper.ternbay.example"
	for _, host := range []string{ours, "booking.ternbay.example", "pier.ternbay.example"} {
		p.must("request", "draft", host, "--out", "../drafts")
		p.must("request", "receive", "../drafts/"+host+".request.pem")
	}
	p.must("sign", "R1", "--template", "mutual-peer", "--yes")
	p.must("sign", "R2", "--template", "web-server", "--yes")
	p.refused(1, "no root is known above gw.skua", "trust", "pair", ours, "../gw.pem", "--out", "../pairs")
	if p.exists("../pairs") {
		t.Error("a pair without a root was written")
	}
	p.must("trust", "create", "partners")
	p.file("../root.pem", pemOf(root))
	p.must("trust", "add", "partners", "../root.pem", "--yes")
	out := p.must("trust", "pair", ours, "../gw.pem", "--out", "../pairs", "--for", "appliance,bundle")
	if strings.Count(out, "✓") != 6 || !strings.Contains(out, "$(touch x)") {
		t.Error(out)
	}
	us, them := filepath.Join(p.dir, "../pairs", ours), filepath.Join(p.dir, "../pairs/gw.skua.ternbay.example")
	mine, theirs := filepath.Join(us, ours+".with-issuers.pem"), filepath.Join(them,
		"gw.skua.ternbay.example.with-issuers.pem")
	for _, usage := range []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth} {
		if err := accepts(t, kitFile(t, us, "*.appliance/roots.pem"), theirs, usage); err != nil {
			t.Error(err)
		}
		if err := accepts(t, kitFile(t, them, "*.bundle/*.pem"), mine, usage); err != nil {
			t.Error(err)
		}
	}
	p.refused(2, "no terminal", "trust", "pair", ours, "../gw.pem", "--out", "../pairs", "--for", "appliance,bundle")
	p.must("trust", "pair", ours, "../gw.pem", "--out", "../pairs", "--for", "appliance,bundle", "--yes")
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{4, "issuer-missing", []string{ours, "../bare.pem"}},
		{4, "lacks the usage clientAuth", []string{"booking.ternbay.example", ours}},
		{0, "connects to", []string{ours, "booking.ternbay.example", "--one-way"}},
		{0, "will accept", []string{"R3", ours}},
		{4, "By the template web-server it would lack", []string{"R3", ours, "--template", "web-server"}},
		{4, "short form", []string{ours, "../gw.pem", "--reached-at", "gw,gw.skua.ternbay.example"}},
		{4, "ipsecIKE", []string{ours, "../gw.pem", "--over", "ike"}},
		{2, "use tls or ike", []string{ours, "../gw.pem", "--over", "quic"}},
		{2, "needs two names", []string{ours, "../gw.pem", "--reached-at", "gw"}},
		{2, "two sides", []string{ours}},
		{2, "for two sides", []string{ours, "../gw.pem", "--for", "a,b,c"}},
		{1, "is an authority", []string{"services", ours}},
		{1, "is an authority", []string{"../root.pem", ours}},
		{1, "there is no file nothing", []string{"nothing", ours}},
		{1, "there is no certificate", []string{"ironseal.toml", ours}},
		{1, "did you mean", []string{"R3", ours, "--template", "web-servr"}},
		{1, "did you mean", []string{"R3", ours, "--for", "debain", "--out", "../other"}},
	} {
		t.Run(c.want, func(t *testing.T) {
			p := p.with(t)
			r := p.run("", append([]string{"trust", "pair"}, c.args...)...)
			if r.code != c.code || !strings.Contains(strings.Join(strings.Fields(r.out+r.errors), " "), c.want) {
				t.Errorf("%q: %d\n%s%s", c.args, r.code, r.out, r.errors)
			}
		})
	}
	p.must("estate", "check")
}

func kitFile(t *testing.T, dir, pattern string) string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(dir, pattern))
	if err != nil || len(found) == 0 {
		t.Fatal(dir, pattern, err)
	}
	return found[0]
}

// Roots that another product offers, among much else: looked at, compared by the fingerprint
// that somebody read out, named, and handed on to three kinds of machine.
func TestRootsOfOthersAreHandedOn(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	root, mid, leaf := partner(t)
	other, _, _ := partner(t)
	zipped := zipOf(t, [][2]string{{"certs/lin/1a2b.0", string(pemOf(other))},
		{"certs/win/1.crt", string(root.Cert.Raw)},
		{"certs/win/2.crt", string(mid.Cert.Raw)}, {"server.pem", string(pemOf(leaf))}})
	p.must("trust", "create", "harbour-cameras", "--title", "What the camera desk trusts")
	sum := root.Cert.SHA256()
	spoken := strings.ToLower(strings.ReplaceAll(label.Colons(sum[:]), ":", " \u200b:"))
	out := p.must("trust", "add", "harbour-cameras", p.file("../roots.zip", zipped), "--fingerprint", spoken, "--yes")
	if !strings.Contains(out, "has another fingerprint") || !strings.Contains(out, "✓ added 1 anchor") {
		t.Error(out)
	}
	p.must("trust", "kit", "harbour-cameras", "--for", "debian,firefox,kubernetes", "--out", "../kits")
	at := func(pattern string) []byte {
		data, err := os.ReadFile(kitFile(t, filepath.Join(p.dir, "../kits"), pattern))
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	block, _ := pem.Decode(at("harbour-cameras.debian/*.crt"))
	manifest := string(at("harbour-cameras.kubernetes/*.yaml"))
	in := strings.Index(manifest, "-----BEGIN")
	inManifest, _ := pem.Decode([]byte(strings.ReplaceAll(manifest[max(in, 0):], "    ", "")))
	for what, data := range map[string][]byte{"debian": block.Bytes,
		"firefox":    at("harbour-cameras.firefox/*.der"),
		"kubernetes": inManifest.Bytes} {
		t.Run(what, func(t *testing.T) {
			c, err := cert.Read(data)
			if err != nil || c.SHA256() != sum {
				t.Error(what, err)
			}
		})
	}
}

// An authority that changes over to a kind of key which some clients do not know: said before
// the day, and at every handover after it.
func TestClientsThatAreLost(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	const file = "templates/intermediate-authority.toml"
	p.file(file, []byte(strings.Replace(string(p.read(file)), `"ecdsa-p521"`, `"ed25519"`, 1)))
	p.must("sign", p.send("a.ternbay.example", []string{"a.ternbay.example"}), "--template", "web-server", "--yes")
	out := p.must("certificate", "handover", "a.ternbay.example", "--for", "nginx", "--out", "..", "--clients", "all")
	if strings.Contains(out, "refuse") {
		t.Error(out)
	}
	day := time.Now().AddDate(0, 2, 0).Format("2006-01-02")
	p.must("authority", "renew", "services", "--key", "ed25519", "--switch-day", day, "--yes")
	p.must("changeover", "prepare", "services", "--yes")
	out = p.must("changeover", "progress", "services")
	for _, want := range []string{"! chromium would refuse a.ternbay.example: It does not know Ed25519",
		"! firefox would refuse a.ternbay.example"} {
		if !strings.Contains(out, want) {
			t.Error(want, out)
		}
	}
	p.must("changeover", "switch", "services", "--early", "--yes")
	handOver := []string{"certificate", "handover", "a.ternbay.example", "--for", "nginx", "--out", "../after"}
	p.refused(3, "It does not know Ed25519", append(handOver, "--clients", "curl,chromium")...)
	p.refused(2, `did you mean "chromium"`, append(handOver, "--clients", "chromum")...)
	if p.exists("../after/a.ternbay.example.nginx") {
		t.Error("it was handed over in spite of a refusal")
	}
	if out := p.must(append(handOver, "--clients", "curl")...); strings.Count(out, "some-clients-refuse") != 2 {
		t.Error(out)
	}
	p.must(append(handOver, "--clients", "chromium", "--waive", "client-refuses", "--because",
		"no browser comes here", "--yes")...)
}
