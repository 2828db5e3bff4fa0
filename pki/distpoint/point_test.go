package distpoint

import (
	"crypto/x509"
	"encoding/hex"
	"slices"
	"strings"
	"testing"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/specimen"
)

const address = "http://pki.ternbay.example/services.g1-2.crl"

func TestPointsOfCertificates(t *testing.T) {
	c := specimen.Make(t, nil, specimen.Plan{Subject: "CN=a", Extra: ext.Set{ext.ListAddresses([]string{address,
		"http://other.ternbay.example/x"})}})
	theirs, err := x509.ParseCertificate(c.Cert.Raw)
	if err != nil {
		t.Fatal(err)
	}
	x, ok := c.Cert.Extensions.Find(ext.CRLPoints)
	if !ok {
		t.Fatal("there is none")
	}
	list, err := Read(x.Value, c.Cert.Issuer)
	if err != nil || len(list) != 1 || !slices.Equal(Addresses(list[0].Names), theirs.CRLDistributionPoints) ||
		list[0].Reasons != AllReasons {
		t.Errorf("%+v, %v", list, err)
	}
}

// A name below the issuer is the issuer's with one more part; where another signs the list, it
// is below that one.
func TestNamesBelowAnIssuer(t *testing.T) {
	issuer, err := dn.Parse("O=Tern Bay,CN=Services")
	if err != nil {
		t.Fatal(err)
	}
	whole, err := dn.Parse("O=Tern Bay,CN=Services,OU=Lists")
	if err != nil {
		t.Fatal(err)
	}
	der, _ := hex.DecodeString("301430" + "12a010a10e300c06035504" + "0b0c054c69737473")
	list, err := Read(der, issuer)
	if err != nil {
		t.Fatal(err)
	}
	ends := strings.HasSuffix(list[0].Names[0].Directory.String(), "OU=Lists") ||
		strings.HasPrefix(list[0].Names[0].Directory.String(), "OU=Lists")
	if !Meet(list[0].Names, []Name{{Directory: whole}}) && !ends {
		t.Errorf("%s", list[0].Names[0].Directory)
	}
}

func TestScopesGoBothWays(t *testing.T) {
	for _, s := range []Scope{Scope{Names: []Name{{URI: address}}, Reasons: AllReasons}, {OnlyUsers: true,
		Reasons: AllReasons}, {OnlyAuthorities: true,
		Reasons: AllReasons, Names: []Name{{URI: address}}}} {
		x := s.Extension()
		got, err := ReadScope(x.Value, dn.Name{})
		if err != nil || !x.Critical || got.OnlyUsers != s.OnlyUsers || got.OnlyAuthorities != s.OnlyAuthorities ||
			!slices.Equal(Addresses(got.Names), Addresses(s.Names)) || got.Reasons != AllReasons {
			t.Errorf("%+v became %+v, %v", s, got, err)
		}
		if s.Words() == "" {
			t.Errorf("%+v says nothing", s)
		}
	}
}

func TestRespondersAreFound(t *testing.T) {
	x := ext.Access([]string{"http://pki.ternbay.example/services.g1.cer"}, []string{"http://ocsp.ternbay.example/",
		"https://ocsp.ternbay.example/"})
	if got := Responders(x.Value); !slices.Equal(got, []string{"http://ocsp.ternbay.example/"}) {
		t.Errorf("%v", got)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(ext.ListAddresses([]string{address}).Value)
	f.Add(Scope{Names: []Name{{URI: address}}, Reasons: AllReasons}.Extension().Value)
	f.Add(ext.Access([]string{address}, []string{address}).Value)
	issuer := dn.Name{}
	f.Fuzz(func(_ *testing.T, data []byte) {
		if list, err := Read(data, issuer); err == nil {
			for _, p := range list {
				Addresses(p.Names)
			}
		}
		if s, err := ReadScope(data, issuer); err == nil {
			s.Words()
		}
		_, _ = ReadIssuer(data)
		Responders(data)
	})
}
