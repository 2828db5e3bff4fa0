package revocation

import (
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"testing"
	"time"

	"ironseal/pki/specimen"
)

// libraryList makes a list with the standard library.
func libraryList(t testing.TB, issuer *specimen.Entity, entries int) []byte {
	t.Helper()
	parent, err := x509.ParseCertificate(issuer.Cert.Raw)
	if err != nil {
		t.Fatal(err)
	}
	l := &x509.RevocationList{Number: big.NewInt(1234567890123), ThisUpdate: specimen.Now,
		NextUpdate: specimen.Now.AddDate(0, 0, 7)}
	for i := range entries {
		l.RevokedCertificateEntries = append(l.RevokedCertificateEntries,
			x509.RevocationListEntry{SerialNumber: big.NewInt(int64(1000 + i)),
				RevocationTime: specimen.Now.AddDate(0, 0, -i), ReasonCode: i % 5})
	}
	l.RevokedCertificateEntries = append(l.RevokedCertificateEntries,
		x509.RevocationListEntry{SerialNumber: big.NewInt(7), RevocationTime: specimen.Now,
			ExtraExtensions: []pkix.Extension{}})
	der, err := x509.CreateRevocationList(rand.Reader, l, parent, issuer.Signer)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func TestListsOfTheStandardLibraryAreRead(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root,O=Tern Bay", Authority: true})
	other := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root,O=Tern Bay", Authority: true})
	der := libraryList(t, root, 12)
	l, err := ReadList(der)
	if err != nil {
		t.Fatal(err)
	}
	entries := all(t, l)
	if len(entries) != 13 || l.Count != 13 || entries[3].Reason != 3 || entries[3].Serial.Big().Int64() != 1003 ||
		l.Number.Int64() != 1234567890123 || !l.Issuer.Equal(root.Cert.Subject) ||
		!l.ThisUpdate.Equal(specimen.Now) || l.NextUpdate.IsZero() {
		t.Errorf("%+v", l)
	}
	if l.VerifiedBy(root.Cert.Key) != nil || l.VerifiedBy(other.Cert.Key) == nil {
		t.Error("the signature is judged wrongly")
	}
	for i := range der {
		if _, err := ReadList(der[:i]); err == nil {
			t.Fatalf("cut after %d bytes it still reads", i)
		}
	}
}

func all(t testing.TB, l *List) (out []Entry) {
	t.Helper()
	if err := l.Each(func(e Entry) error { out = append(out, e); return nil }); err != nil {
		t.Fatal(err)
	}
	return out
}

func TestListNumbersNeverGoBackwards(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	for _, c := range []struct{ last, want int64 }{{0, 1_800_000_000}, {1_799_999_999, 1_800_000_000},
		{1_800_000_000, 1_800_000_001}, {1_900_000_000, 1_900_000_001}} {
		t.Run(fmt.Sprint(c.last), func(t *testing.T) {
			if got := NextNumber(c.last, now); got != c.want {
				t.Errorf("after %d: %d, want %d", c.last, got, c.want)
			}
		})
	}
}

func FuzzReadList(f *testing.F) {
	root := specimen.Make(f, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	f.Add(libraryList(f, root, 3))
	f.Fuzz(func(t *testing.T, data []byte) {
		if l, err := ReadList(data); err == nil {
			_ = l.VerifiedBy(root.Cert.Key)
			n := 0
			_ = l.Each(func(e Entry) error {
				n++
				l.Find(e.Serial, l.Issuer)
				return nil
			})
			if _, left := l.Without(map[string]bool{"\x07": true}); n > l.Count || left > l.Count {
				t.Errorf("%d of %d entries, %d are left", n, l.Count, left)
			}
		}
	})
}

// What a list says in a way that this reader does not know, and must know, makes the
// whole list unreadable (RFC 5280 section 5.2): it might cover other certificates.
func TestUnknownCriticalExtensionsOfLists(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root,O=Tern Bay", Authority: true})
	parent, err := x509.ParseCertificate(root.Cert.Raw)
	if err != nil {
		t.Fatal(err)
	}
	for _, critical := range []bool{true, false} {
		unknown := []pkix.Extension{{Id: []int{1, 3, 6, 1, 4, 1, 32473, 9}, Critical: critical, Value: []byte{5, 0}}}
		entry := x509.RevocationListEntry{SerialNumber: big.NewInt(7), RevocationTime: specimen.Now}
		whole := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: specimen.Now,
			NextUpdate: specimen.Now.AddDate(0, 0, 7), ExtraExtensions: unknown}
		part := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: specimen.Now,
			NextUpdate: specimen.Now.AddDate(0, 0, 7)}
		entry.ExtraExtensions = unknown
		part.RevokedCertificateEntries = []x509.RevocationListEntry{entry}
		for what, l := range map[string]*x509.RevocationList{"the list": whole, "an entry": part} {
			der, err := x509.CreateRevocationList(rand.Reader, l, parent, root.Signer)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := ReadList(der); (err == nil) == critical {
				t.Errorf("an unknown extension of %s, critical %v: %v", what, critical, err)
			}
		}
	}
}
