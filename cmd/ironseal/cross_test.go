package main

import (
	"crypto/x509"
	"encoding/pem"
	"path/filepath"
	"strings"
	"testing"
)

// A partner's root is vouched for: the standard library, which trusts our root alone, accepts the partner's
// server through the cross-certificate, for the names that it may certify and no others. It is revoked like any
// other certificate.
func TestAPartnersRootIsVouchedFor(t *testing.T) {
	t.Parallel()
	partner := harbour(t)
	for i, host := range []string{"ticket.skua.ternbay.example", "ticket.ternbay.example"} {
		partner.send(host, []string{host})
		partner.must("sign", []string{"R1", "R2"}[i], "--template", "web-server", "--by", "services", "--yes")
		partner.must("certificate", "export", host, "--with", "issuers", "--out", "../"+host+".chain.pem")
	}
	partner.must("authority", "export", "root", "--out", "../root.pem")
	p := place{t: t, dir: t.TempDir()}
	p.must("estate", "create", "own", "--organisation", "Tern Bay Pilots", "--publish-at", "http://pki.ternbay.example")
	p.dir = filepath.Join(p.dir, "own")
	p.env = []string{"IRONSEAL_PASSPHRASE_FILE=" + p.file("../pass", []byte("tern and gull\n"))}
	p.must("authority", "create", "root", "--key", "ecdsa-p256", "--yes")
	p.must("authority", "export", "root", "--out", "../root.pem")
	p.must("authority", "adopt", "skua", filepath.Join(partner.dir, "../root.pem"), "--yes")
	p.refused(3, "needs a waiver: cross-without-limits", "authority", "cross", "root", "skua", "--yes")
	p.refused(1, "have one name", "authority", "cross", "root", "root", "--yes")
	out := p.must("authority", "cross", "root", "skua", "--may-certify", "skua.ternbay.example", "--yes")
	if !strings.Contains(out, "root (g1) vouches for skua (g1)") {
		t.Error(out)
	}
	_, serial, _ := strings.Cut(out, "ironseal certificate export ")
	serial, _, _ = strings.Cut(serial, " ")
	p.must("certificate", "export", "--out", "../cross.pem", serial)
	if out := p.must("authority", "show", "root"); !strings.Contains(out, "g1 vouches for skua.g1") {
		t.Error(out)
	}
	read := func(p place, name string) (list []*x509.Certificate) {
		for rest := p.read(name); ; {
			var block *pem.Block
			if block, rest = pem.Decode(rest); block == nil {
				return list
			}
			c, err := x509.ParseCertificate(block.Bytes)
			if err != nil {
				t.Fatal(err)
			}
			list = append(list, c)
		}
	}
	accepted := func(host string) bool {
		roots, middle := x509.NewCertPool(), x509.NewCertPool()
		roots.AddCert(read(p, "../root.pem")[0])
		chain := read(partner, "../"+host+".chain.pem")
		for _, c := range append(chain[1:], read(p, "../cross.pem")...) {
			middle.AddCert(c)
		}
		_, err := chain[0].Verify(x509.VerifyOptions{Roots: roots, Intermediates: middle, DNSName: host})
		return err == nil
	}
	if !accepted("ticket.skua.ternbay.example") || accepted("ticket.ternbay.example") {
		t.Error("the limits on names do not hold")
	}
	p.must("estate", "check")
	p.must("revoke", serial, "--reason", "cessation-of-operation", "--yes")
	p.must("revocations", "publish", "--to", "../public")
	if out := p.must("revocations", "show", "../public/root.g1.crl"); !strings.Contains(out, "cessation") {
		t.Error(out)
	}
	p.must("incident", "open", "skua", "--because", "they were broken into")
	p.refused(1, "no authority may vouch for it", "authority", "cross", "root", "skua", "--may-certify",
		"skua.ternbay.example",
		"--yes")
	p.must("estate", "check")
}
