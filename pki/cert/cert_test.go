package cert

import (
	"bytes"
	"crypto/rand"
	"crypto/x509"
	"encoding/asn1"
	"math/big"
	"strings"
	"testing"
	"time"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/san"
)

func draft(t testing.TB) (Draft, func(Draft) []byte) {
	t.Helper()
	signer, err := key.Generate(key.P256, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	pub, _ := key.Of(signer)
	subject, _ := dn.Parse("CN=quay-gate-3.ternbay.example,O=Tern Bay Ferries,C=NO")
	var names []san.Name
	for _, s := range []string{"quay-gate-3.ternbay.example", "192.0.2.43", "2001:db8::43", "crew@ternbay.example",
		"https://ternbay.example/"} {
		n, err := san.ParseTyped(s)
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, n)
	}
	alt, _ := ext.NamesExtension(names, false)
	permit, _ := san.ParseConstraint("ternbay.example")
	network, _ := san.ParseConstraint("192.0.2.0/24")
	limits, err := ext.Constraints{Permitted: []san.Constraint{permit}, Excluded: []san.Constraint{network}}.Extension()
	if err != nil {
		t.Fatal(err)
	}
	usage, _ := ext.ParseExtendedUsage("serverAuth")
	d := Draft{Serial: big.NewInt(0x7f01), Issuer: subject, Subject: subject, SPKI: pub.SPKI,
		NotBefore: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), NotAfter: time.Date(2051, 1, 1, 0, 0, 0, 0, time.UTC),
		Extensions: ext.Set{ext.Basic{Authority: true, PathLength: 1}.Extension(),
			(ext.KeyCertSign | ext.CRLSign | ext.DecipherOnly).Extension(),
			ext.ExtendedExtension([]asn1.ObjectIdentifier{usage}, false), ext.KeyID(pub.Identifier()),
			ext.AuthorityKey(pub.Identifier()), alt, limits}}
	return d, func(d Draft) []byte {
		der, err := d.Sign(signer, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		return der
	}
}

func TestWhatIsWrittenIsWhatTheStandardLibraryReads(t *testing.T) {
	d, sign := draft(t)
	c, err := x509.ParseCertificate(sign(d))
	if err != nil {
		t.Fatal(err)
	}
	switch {
	case c.Version != 3 || c.SerialNumber.Cmp(d.Serial) != 0:
		t.Errorf("version %d, serial %s", c.Version, c.SerialNumber)
	case !c.NotBefore.Equal(d.NotBefore) || !c.NotAfter.Equal(d.NotAfter):
		t.Errorf("validity %s to %s", c.NotBefore, c.NotAfter)
	case !bytes.Equal(c.RawSubject, d.Subject.DER()) || !bytes.Equal(c.RawIssuer, d.Issuer.DER()):
		t.Error("subject or issuer changed")
	case !c.IsCA || c.MaxPathLen != 1:
		t.Errorf("authority %v, path length %d", c.IsCA, c.MaxPathLen)
	case c.KeyUsage != x509.KeyUsageCertSign|x509.KeyUsageCRLSign|x509.KeyUsageDecipherOnly:
		t.Errorf("key usage %b", c.KeyUsage)
	case len(c.ExtKeyUsage) != 1 || c.ExtKeyUsage[0] != x509.ExtKeyUsageServerAuth:
		t.Errorf("extended usage %v", c.ExtKeyUsage)
	case len(c.DNSNames) != 1 || len(c.IPAddresses) != 2 || len(c.EmailAddresses) != 1 || len(c.URIs) != 1:
		t.Errorf("names %v %v %v %v", c.DNSNames, c.IPAddresses, c.EmailAddresses, c.URIs)
	case len(c.PermittedDNSDomains) != 1 || len(c.ExcludedIPRanges) != 1:
		t.Errorf("constraints %v %v", c.PermittedDNSDomains, c.ExcludedIPRanges)
	}
	if err := c.CheckSignatureFrom(c); err != nil {
		t.Error(err)
	}
}

func TestReadGivesBackWhatWasWritten(t *testing.T) {
	d, sign := draft(t)
	c, err := Read(sign(d))
	if err != nil || len(c.Faults) > 0 {
		t.Fatal(err, c.Faults)
	}
	if !c.Subject.Equal(d.Subject) || c.Serial.Big().Cmp(d.Serial) != 0 || !c.NotAfter.Equal(d.NotAfter) ||
		len(c.Names) != 5 ||
		c.Basic.PathLength != 1 || len(c.Constraints.Permitted) != 1 || c.SerialHex() != "7f01" || !c.SelfSigned() {
		t.Errorf("%+v", c)
	}
}

func TestDraftsThatNoClientTakesAreRefused(t *testing.T) {
	for what, change := range map[string]func(*Draft){
		"serial 0":        func(d *Draft) { d.Serial = big.NewInt(0) },
		"no serial":       func(d *Draft) { d.Serial = nil },
		"negative serial": func(d *Draft) { d.Serial = big.NewInt(-5) },
		"long serial":     func(d *Draft) { d.Serial = new(big.Int).Lsh(big.NewInt(1), 170) },
		"dates turned":    func(d *Draft) { d.NotAfter = d.NotBefore.Add(-time.Hour) },
		"year 10000":      func(d *Draft) { d.NotAfter = time.Date(10000, 1, 1, 0, 0, 0, 0, time.UTC) },
		"twice":           func(d *Draft) { d.Extensions = append(d.Extensions, d.Extensions[0]) },
	} {
		t.Run(what, func(t *testing.T) {
			d, _ := draft(t)
			change(&d)
			if _, err := d.TBS([]byte{0x30, 0}); err == nil {
				t.Errorf("%s: no error", what)
			}
		})
	}
}

// Certificates that strict parsers refuse must still be reported.
func TestBrokenCertificatesAreToldAsFarAsTheyGo(t *testing.T) {
	d, sign := draft(t)
	der := sign(d)
	swap := func(old, new []byte) []byte {
		if !bytes.Contains(der, old) {
			t.Fatalf("%x is not in the specimen", old)
		}
		return bytes.Replace(der, old, new, 1)
	}
	for _, c := range []struct {
		what string
		der  []byte
		word string
	}{
		{"negative serial", swap([]byte{2, 2, 0x7f, 1}, []byte{2, 2, 0xff, 1}), "negative"},
		{"zero serial", swap([]byte{2, 2, 0x7f, 1}, []byte{2, 2, 0, 0}), "zero"},
		{"bad time", swap([]byte("261123080000Z"), []byte("261323080000Z")), "not a time"},
		{"address of five bytes", swap([]byte{0x87, 4, 192, 0, 2, 43}, []byte{0x81, 4, 192, 0, 2, 43}), ""},
		{"version 1 with extensions", swap([]byte{0xa0, 3, 2, 1, 2}, []byte{0xa0, 3, 2, 1, 0}), "version is 1"},
		{"trailing bytes", append(bytes.Clone(der), 0, 0), "follow"},
	} {
		t.Run(c.what, func(t *testing.T) {
			got, err := Read(c.der)
			if err != nil {
				t.Errorf("%s: %v", c.what, err)
				return
			}
			if got.Subject.CommonName() != "quay-gate-3.ternbay.example" ||
				c.word != "" && !strings.Contains(strings.Join(got.Faults, "; "), c.word) {
				t.Errorf("%s: %v", c.what, got.Faults)
			}
		})
	}
	for _, n := range []int{0, 1, 10, len(der) / 2, len(der) - 1} {
		if _, err := Read(der[:n]); err == nil {
			t.Errorf("the first %d bytes alone must be an error", n)
		}
	}
}

func TestTimesFrom2050AreWrittenAsRFC5280Asks(t *testing.T) {
	d, sign := draft(t)
	der := sign(d)
	if !bytes.Contains(der, []byte("20510101000000Z")) || !bytes.Contains(der, []byte("\x17\x0d261123080000Z")) {
		t.Error("UTCTime through 2049, GeneralizedTime from 2050 on")
	}
}

// The octets of a time under another tag are no time, whatever they can be read as.
func TestATimeHasATagOfTime(t *testing.T) {
	d, sign := draft(t)
	der := sign(d)
	at := bytes.Index(der, []byte("\x17\x0d261123080000Z"))
	if at < 0 {
		t.Fatal("there is no such time")
	}
	for _, tag := range []byte{0x30, 0x04, 0x0c, 0x13, 0x02, 0x19} {
		changed := bytes.Clone(der)
		changed[at] = tag
		copy(changed[at+2:], "311201031308Z")
		got, err := Read(changed)
		if err == nil && !strings.Contains(strings.Join(got.Faults, "; "), "not a time") {
			t.Errorf("tag %#x: %v", tag, got.Faults)
		}
	}
}

func FuzzRead(f *testing.F) {
	d, sign := draft(f)
	f.Add(sign(d))
	f.Add(sign(d)[:200])
	f.Add([]byte{0x30, 0x80})
	f.Fuzz(func(t *testing.T, der []byte) {
		c, err := Read(der)
		if err != nil {
			return
		}
		_, _, _, _ = c.Title(), c.SerialHex(), c.SelfIssued(), c.IsAuthority()
		for _, e := range c.Extensions {
			_ = e.Words()
		}
		_ = c.Constraints.Breach(c.Subject, c.Names)
	})
}

func BenchmarkRead(b *testing.B) {
	d, sign := draft(b)
	der := sign(d)
	for b.Loop() {
		if _, err := Read(der); err != nil {
			b.Fatal(err)
		}
	}
}

// A serial that is shorter than what is shown of one is shown as it is.
func TestShortSerialsAreShownWhole(t *testing.T) {
	for hex, want := range map[string]string{"": "", "5": "5", "05": "05", "0123456": "0123456",
		"0123456789abcdef": "01234567"} {
		t.Run(hex, func(t *testing.T) {
			if got := ShortSerial(hex); got != want {
				t.Errorf("%q is shown as %q", hex, got)
			}
		})
	}
}
