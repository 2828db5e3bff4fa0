package acme

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"errors"
	"math/big"
	"net"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/jose"
)

// The certificate of RFC 9773 appendix A has the name that the standard gives it.
func TestPublishedCertificateID(t *testing.T) {
	authority, serial, err := ReadCertificateID("aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE")
	if err != nil || base64.RawURLEncoding.EncodeToString(authority) != "aYhba4dGQEHhs3uEe6CuLN4ByNQ" ||
		new(big.Int).SetBytes(serial).Int64() != 0x87654321 {
		t.Errorf("%x %x %v", authority, serial, err)
	}
	for _, bad := range []string{"", ".", "a", "aYhb", "aYhb.", ".AIdl", "aYhb.AIdl.AIdl", "aYhb=.AIdl"} {
		if _, _, err := ReadCertificateID(bad); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range []int64{1, 0x7f, 0x80, 0x87654321} {
		tmpl := &x509.Certificate{SerialNumber: big.NewInt(n), NotAfter: time.Now(), AuthorityKeyId: []byte{1, 2, 3}}
		parent := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "a"},
			SubjectKeyId: []byte{1, 2, 3}}
		der, err := x509.CreateCertificate(rand.Reader, tmpl, parent, k.Public(), k)
		if err != nil {
			t.Fatal(err)
		}
		c, err := cert.Read(der)
		if err != nil {
			t.Fatal(err)
		}
		a, s, err := ReadCertificateID(CertificateID(c))
		if err != nil || string(a) != "\x01\x02\x03" || new(big.Int).SetBytes(s).Int64() != n {
			t.Errorf("%d: %x %x %v", n, a, s, err)
		}
	}
}

func TestNamesOfServers(t *testing.T) {
	for value, want := range map[string]string{"192.0.2.7": "7.2.0.192.in-addr.arpa",
		"2001:db8::1": "1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa"} {
		n, err := Identifier{"ip", value}.Name()
		if err != nil || ServerName(n) != want {
			t.Errorf("%s: %s, %v", value, ServerName(n), err)
		}
	}
	n, err := Identifier{"dns", "*.quay.ternbay.example"}.Name()
	if err != nil || TXTName(n) != "_acme-challenge.quay.ternbay.example" || len(Methods(n)) != 1 {
		t.Errorf("%s, %v", TXTName(n), err)
	}
}

// A certificate answers a challenge only by the name alone, and by the digest in a critical extension (RFC 8737).
func TestCertificatesOfChallenges(t *testing.T) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	n, err := Identifier{"dns", "gate-1.quay.ternbay.example"}.Name()
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256([]byte("token.print"))
	value, err := asn1.Marshal(sum[:])
	if err != nil {
		t.Fatal(err)
	}
	other, err := asn1.Marshal(make([]byte, 32))
	if err != nil {
		t.Fatal(err)
	}
	id := asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}
	for name, x := range map[string]struct {
		names []string
		ips   []net.IP
		ext   []pkix.Extension
		good  bool
	}{
		"as it should be": {[]string{n.Value()}, nil, []pkix.Extension{{Id: id, Critical: true, Value: value}}, true},
		"not critical":    {[]string{n.Value()}, nil, []pkix.Extension{{Id: id, Value: value}}, false},
		"another digest":  {[]string{n.Value()}, nil, []pkix.Extension{{Id: id, Critical: true, Value: other}}, false},
		"no extension":    {[]string{n.Value()}, nil, nil, false},
		"another name": {[]string{"a.example"}, nil, []pkix.Extension{{Id: id, Critical: true, Value: value}},
			false},
		"two names": {[]string{n.Value(), "a.example"}, nil, []pkix.Extension{{Id: id, Critical: true,
			Value: value}}, false},
		"an address too": {[]string{n.Value()}, []net.IP{{192, 0, 2, 1}}, []pkix.Extension{{Id: id, Critical: true,
			Value: value}}, false},
	} {
		tmpl := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: x.names, IPAddresses: x.ips,
			ExtraExtensions: x.ext, NotAfter: time.Now().Add(time.Hour)}
		der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, k.Public(), k)
		if err != nil {
			t.Fatal(err)
		}
		c, err := cert.Read(der)
		if err != nil {
			t.Fatal(err)
		}
		if err := CertificateAnswers(c, n, "token.print"); (err == nil) != x.good {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestAnswersAndContacts(t *testing.T) {
	if !Answers([]byte("a.b\r\n"), "a.b") || Answers([]byte("a.bc"), "a.b") || Answers([]byte(" a.b"), "a.b") {
		t.Error("answers are compared loosely, or not at all")
	}
	k, err := jose.Known([]byte(`{"kty":"EC","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",` +
		`"y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}`))
	if err != nil {
		t.Fatal(err)
	}
	one := Token("seed", 0, HTTP01)
	if one == Token("seed", 1, HTTP01) || one == Token("seed", 0, DNS01) || one == Token("other", 0, HTTP01) ||
		len(one) < 22 {
		t.Error("tokens are not one of a kind")
	}
	if KeyAuthorization(one, k) != one+"."+k.Thumbprint() {
		t.Error("the key authorization is another")
	}
	if err := CheckContacts([]string{"mailto:yard@ternbay.example"}); err != nil {
		t.Error(err)
	}
	var p *Problem
	if err := CheckContacts([]string{"tel:1"}); !errors.As(err, &p) || p.Type() !=
		"urn:ietf:params:acme:error:unsupportedContact" {
		t.Error(err)
	}
}
