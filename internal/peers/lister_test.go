//go:build linux

package peers

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"syscall"
	"testing"
	"time"
)

// issued is a certificate with its key, made by the standard library.
type issued struct {
	c   *x509.Certificate
	key *ecdsa.PrivateKey
}

func (i issued) pem() string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: i.c.Raw}))
}

// made signs a certificate by an issuer; on its own where there is none.
func made(t *testing.T, by *issued, c x509.Certificate) issued {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c.NotBefore, c.NotAfter = time.Now().Add(-time.Hour), time.Now().Add(24*time.Hour)
	if by == nil {
		by = &issued{&c, key}
	}
	der, err := x509.CreateCertificate(rand.Reader, &c, by.c, &key.PublicKey, by.key)
	if err != nil {
		t.Fatal(err)
	}
	out, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return issued{out, key}
}

// A list may be signed with a key of its own, certified for that under the issuer's name (RFC 5280 section 6.3.3
// f). A server takes only the list that the issuer's own key signed: with the other it refuses every client. So
// lists are always signed by the authority's own key.
func TestAServerWantsTheListOfTheIssuersKey(t *testing.T) {
	binary := peer(t, "nginx", "/usr/sbin/nginx")
	q := quay{estate: estate{t, openDir(t)}}
	name := pkix.Name{CommonName: "Tern Bay Ferries Root", Organization: []string{"Tern Bay Ferries"}}
	root := made(t, nil, x509.Certificate{SerialNumber: big.NewInt(1), Subject: name, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign})
	lister := made(t, &root, x509.Certificate{SerialNumber: big.NewInt(2), Subject: name, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCRLSign, SubjectKeyId: []byte("the lists' own key")})
	for n, host := range []string{"localhost", "mate", "stoker", "cook"} {
		usage := x509.ExtKeyUsageClientAuth
		if host == "localhost" {
			usage = x509.ExtKeyUsageServerAuth
		}
		leaf := made(t, &root, x509.Certificate{SerialNumber: big.NewInt(int64(10 + n)),
			Subject: pkix.Name{CommonName: host}, DNSNames: []string{host}, KeyUsage: x509.KeyUsageDigitalSignature,
			ExtKeyUsage: []x509.ExtKeyUsage{usage}})
		der, err := x509.MarshalPKCS8PrivateKey(leaf.key)
		if err != nil {
			t.Fatal(err)
		}
		write(t, q.path(host+".pem"), leaf.pem())
		write(t, q.path(host+".key.pem"), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})))
	}
	write(t, q.path("root.pem"), root.pem()+lister.pem())
	for who, by := range map[string]issued{"the issuer's key": root, "a key of its own": lister} {
		t.Run(who, func(t *testing.T) {
			der, err := x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: big.NewInt(1),
				ThisUpdate: time.Now().Add(-time.Minute), NextUpdate: time.Now().Add(time.Hour),
				RevokedCertificateEntries: []x509.RevocationListEntry{{SerialNumber: big.NewInt(12),
					RevocationTime: time.Now().Add(-time.Minute)}}}, by.c, by.key)
			if err != nil {
				t.Fatal(err)
			}
			list := write(t, q.path("list.pem"), string(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der})))
			port := freePort(t)
			met := q.on(port, nil, syscall.SIGTERM, func() map[string]bool { return q.met(port) }, binary, "-c",
				q.site(port, list), "-p", q.dir)
			if own := by.key == root.key; met["mate"] != own || met["cook"] != own || met["stoker"] {
				t.Errorf("%v", met)
			}
		})
	}
}
