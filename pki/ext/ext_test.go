package ext_test

import (
	"crypto/x509"
	"strings"
	"testing"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/san"
	"ironseal/pki/specimen"
)

// What is written must be what the standard library reads.
func TestPublishedAddressesAndPolicies(t *testing.T) {
	policies, err := ext.Policies([]string{"1.3.6.1.4.1.99999.1", "2.5.29.32.0"})
	if err != nil {
		t.Fatal(err)
	}
	e := specimen.Make(t, nil, specimen.Plan{Subject: "CN=a", Names: []string{"a.example"}, Extra: ext.Set{
		policies, ext.ListAddresses([]string{"http://pki.ternbay.example/a.crl", "http://pki2.ternbay.example/a.crl"}),
		ext.Access([]string{"http://pki.ternbay.example/a.der"}, []string{"http://ocsp.ternbay.example/"}),
		ext.NoCheck(),
	}})
	c, err := x509.ParseCertificate(e.Cert.Raw)
	if err != nil {
		t.Fatal(err)
	}
	switch {
	case len(c.Policies) != 2 || c.Policies[0].String() != "1.3.6.1.4.1.99999.1":
		t.Errorf("policies %v", c.Policies)
	case len(c.CRLDistributionPoints) != 2 || c.CRLDistributionPoints[1] != "http://pki2.ternbay.example/a.crl":
		t.Errorf("lists %v", c.CRLDistributionPoints)
	case len(c.OCSPServer) != 1 || len(c.IssuingCertificateURL) != 1 ||
		c.OCSPServer[0] != "http://ocsp.ternbay.example/":
		t.Errorf("access %v %v", c.OCSPServer, c.IssuingCertificateURL)
	}
	words := map[string]string{}
	for _, x := range e.Cert.Extensions {
		words[ext.NameOf(x.ID)] = x.Words()
	}
	for name, want := range map[string]string{"certificate policies": "any policy",
		"revocation list addresses": "pki2.ternbay", "authority information access": "ocsp.ternbay",
		"key usage": "digitalSignature"} {
		t.Run(name, func(t *testing.T) {
			if !strings.Contains(words[name], want) {
				t.Errorf("%s in words: %q", name, words[name])
			}
		})
	}
	if _, err := ext.Policies([]string{"not.an.oid"}); err == nil {
		t.Error("a policy that is no identifier was taken")
	}
}

func TestKeyUsageBits(t *testing.T) {
	for i := range 9 {
		word := ext.KeyUsage(1 << i).String()
		u, err := ext.ParseKeyUsage([]string{strings.ToUpper(word)})
		if err != nil || u != 1<<i {
			t.Errorf("%s: %b, %v", word, u, err)
		}
		back, err := ext.ReadKeyUsage(u.Extension().Value)
		if err != nil || back != u {
			t.Errorf("%s came back as %s, %v", word, back, err)
		}
	}
	if der := ext.DigitalSignature.Extension().Value; string(der) != "\x03\x02\x07\x80" { // X.690 section 11.2.2
		t.Errorf("digitalSignature is %x", der)
	}
	if _, err := ext.ParseKeyUsage([]string{"signing"}); err == nil {
		t.Error("an unknown usage was taken")
	}
}

func TestBrokenExtensionsAreErrors(t *testing.T) {
	for what, err := range map[string]error{
		"basic":       second(ext.ReadBasic([]byte{0x30, 0x03, 0x01, 0x01})),
		"path length": second(ext.ReadBasic([]byte{0x30, 0x06, 0x01, 0x01, 0xff, 0x02, 0x01, 0xff})),
		"usage":       second(ext.ReadKeyUsage([]byte{0x04, 0x01, 0x00})),
		"extended":    second(ext.ReadExtendedUsage([]byte{0x30, 0x02, 0x05, 0x00})),
		"key id":      second(ext.ReadKeyID([]byte{0x30, 0x00})),
		"constraints": second(ext.ReadConstraints([]byte{0x30, 0x04, 0xa0, 0x02, 0x30, 0x00})),
		"minimum": second(ext.ReadConstraints([]byte{0x30, 0x0a, 0xa0, 0x08, 0x30, 0x06, 0x82, 0x01, 'a', 0x80,
			0x01, 0x01})),
		"holed mask": second(ext.ReadConstraints([]byte{0x30, 0x0e, 0xa0, 0x0c, 0x30, 0x0a, 0x87, 0x08, 192, 0, 2,
			0, 255, 0, 255, 0})),
		"policies":     second(ext.ReadPolicies([]byte{0x30, 0x02, 0x30, 0x00})),
		"authority id": second(ext.ReadAuthorityKeyID([]byte{0x04, 0x00})),
		"set":          second(ext.ReadSet([]byte{0x30, 0x02, 0x30, 0x00})),
	} {
		t.Run(what, func(t *testing.T) {
			if err == nil {
				t.Errorf("%s: no error", what)
			}
		})
	}
}

func second[T any](_ T, err error) error { return err }

func TestConstraintsHoldForSubjectsToo(t *testing.T) {
	c := ext.Constraints{Excluded: specimen.Constraints(t, "email:ternbay.example")}
	n := specimen.Names(t, "a.ternbay.example")
	e := specimen.Make(t, nil, specimen.Plan{Subject: "emailAddress=crew@ternbay.example,CN=a"})
	if c.Breach(e.Cert.Subject, n) == "" {
		t.Error("a mail address in the subject escapes the constraint")
	}
	if c.Breach(e.Cert.Subject, []san.Name{san.Found(san.Email, "crew@elsewhere.example")}) == "" {
		t.Error("with a mail name the subject's address escapes the constraint")
	}
	two := specimen.Make(t, nil, specimen.Plan{Subject: "emailAddress=a@elsewhere.example," +
		"emailAddress=crew@ternbay.example,emailAddress=b@elsewhere.example,CN=a"})
	if c.Breach(two.Cert.Subject, nil) == "" {
		t.Error("the second of three mail addresses escapes the constraint")
	}
	hosts := ext.Constraints{Permitted: specimen.Constraints(t, "ternbay.example")}
	cn := specimen.Make(t, nil, specimen.Plan{Subject: "CN=gate.ternbay.example,CN=evil.example"})
	if hosts.Breach(cn.Cert.Subject, nil) == "" {
		t.Error("a second common name escapes the constraint")
	}
	if why := hosts.Breach(cn.Cert.Subject, n); why != "" && strings.Contains(why, "evil") {
		t.Errorf("where DNS names are listed, common names are no names: %s", why)
	}
	for _, bad := range []san.Name{san.Found(san.URI, "https:evil.example"), san.Found(san.URI, "https://10.0.0.1/")} {
		uris := ext.Constraints{Excluded: specimen.Constraints(t, "uri:evil.example")}
		if uris.Breach(dn.Name{}, []san.Name{bad}) == "" {
			t.Errorf("%s passes under a constraint on hosts", bad)
		}
	}
}

func FuzzReadSet(f *testing.F) {
	f.Add([]byte{0x30, 0x09, 0x30, 0x07, 0x06, 0x03, 0x55, 0x1d, 0x0f, 0x04, 0x00})
	f.Fuzz(func(t *testing.T, der []byte) {
		set, err := ext.ReadSet(der)
		if err != nil {
			return
		}
		for _, e := range set {
			_ = e.Words()
			_, _ = ext.ReadConstraints(e.Value)
			_, _ = ext.ReadPolicies(e.Value)
		}
		_ = set.Repeated()
	})
}
