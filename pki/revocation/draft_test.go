package revocation

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"math/big"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/dn"
	"ironseal/pki/key"
	"ironseal/pki/specimen"
)

var sample = []Entry{
	{Serial: serial(1), At: specimen.Now.AddDate(0, 0, -3), Reason: KeyCompromise, Invalid: specimen.Now.AddDate(0, 0,
		-9)},
	{Serial: serial(0x80), At: specimen.Now.AddDate(0, 0, -2)},
	{Serial: serial(1 << 40), At: specimen.Now.AddDate(30, 0, 0), Reason: CertificateHold},
	{Serial: serial(77), At: specimen.Now, Reason: PrivilegeWithdrawn},
}

func serial(n int64) cert.Serial { return cert.SerialOf(big.NewInt(n)) }

func encoded(t testing.TB, list []Entry) (out []byte) {
	t.Helper()
	var err error
	for _, e := range list {
		if out, err = AppendEntry(out, e); err != nil {
			t.Fatal(err)
		}
	}
	return out
}

func drafted(e *specimen.Entity) Draft {
	return Draft{Issuer: e.Cert.Subject, KeyID: e.Cert.SubjectKey, Number: 1_800_000_000, This: specimen.Now,
		Next: specimen.Now.AddDate(0, 0, 7)}
}

// Lists of every kind of key are read by the standard library as they were meant, and by
// our own reader.
func TestListsAreReadByTheStandardLibrary(t *testing.T) {
	for _, kind := range []key.Kind{key.RSA2048, key.P256, key.P384, key.P521, key.Ed25519} {
		root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root,O=Tern Bay", Authority: true, Key: kind})
		issuer, err := x509.ParseCertificate(root.Cert.Raw)
		if err != nil {
			t.Fatal(err)
		}
		for n := range len(sample) + 1 {
			d := drafted(root)
			der, err := d.Sign([][]byte{encoded(t, sample[:n])}, root.Signer, rand.Reader, nil)
			if err != nil {
				t.Fatal(kind, err)
			}
			l, err := x509.ParseRevocationList(der)
			if err != nil {
				t.Fatal(kind, err)
			}
			if err := l.CheckSignatureFrom(issuer); err != nil {
				t.Error(kind, err)
			}
			if len(l.RevokedCertificateEntries) != n || l.Number.Int64() != d.Number || !l.NextUpdate.Equal(d.Next) ||
				!l.ThisUpdate.Equal(d.This) || !bytes.Equal(l.AuthorityKeyId, d.KeyID) {
				t.Errorf("%s, %d entries: %+v", kind, n, l)
			}
			for i, e := range l.RevokedCertificateEntries {
				want := sample[i]
				if e.SerialNumber.Cmp(want.Serial.Big()) != 0 || !e.RevocationTime.Equal(want.At) ||
					e.ReasonCode != int(want.Reason) {
					t.Errorf("%s: %+v, and it should be %+v", kind, e, want)
				}
			}
			own, err := ReadList(der)
			if err != nil || own.VerifiedBy(root.Cert.Key) != nil {
				t.Fatal(kind, err)
			}
			for i, e := range all(t, own) {
				if e.Serial.Hex() != sample[i].Serial.Hex() || !e.Invalid.Equal(sample[i].Invalid) {
					t.Errorf("%s: %+v", kind, e)
				}
			}
		}
	}
}

func TestDeltasAndScopes(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root,O=Tern Bay", Authority: true})
	d := drafted(root)
	d.Base = d.Number - 5
	scope := distpoint.Scope{Names: []distpoint.Name{{URI: "http://pki.ternbay.example/services-2.crl"}},
		Reasons: distpoint.AllReasons}
	scope.OnlyUsers = true
	d.Scope = &scope
	der, err := d.Sign([][]byte{encoded(t, sample)}, root.Signer, rand.Reader, nil)
	if err != nil {
		t.Fatal(err)
	}
	l, err := ReadList(der)
	if err != nil {
		t.Fatal(err)
	}
	if l.Base.Int64() != d.Base || !l.Scoped || !l.Scope.OnlyUsers || l.Scope.Names[0].URI != scope.Names[0].URI ||
		l.Scope.Reasons != distpoint.AllReasons {
		t.Errorf("%+v", l)
	}
	theirs, err := x509.ParseRevocationList(der)
	if err != nil {
		t.Fatal(err)
	}
	critical := 0
	for _, x := range theirs.Extensions {
		if x.Critical {
			critical++
		}
	}
	if critical != 2 { // RFC 5280 sections 5.2.4 and 5.2.5
		t.Errorf("%d critical extensions", critical)
	}
	for what, spoil := range map[string]func(*Draft){"no number": func(d *Draft) { d.Number = 0 },
		"a base after it": func(d *Draft) { d.Base = d.Number }, "no successor": func(d *Draft) { d.Next = d.This },
		"a delta of a delta": func(d *Draft) { d.Freshest = []string{"http://pki.ternbay.example/x"} },
		"no issuer":          func(d *Draft) { d.Issuer = dn.Name{} }} {
		t.Run(what, func(t *testing.T) {
			bad := d
			spoil(&bad)
			if _, err := bad.Sign(nil, root.Signer, rand.Reader, nil); err == nil {
				t.Errorf("%s: it was signed", what)
			}
		})
	}
}

func TestEntriesAreFoundAndLeftOut(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	der, err := drafted(root).Sign([][]byte{encoded(t, sample)}, root.Signer, rand.Reader, nil)
	if err != nil {
		t.Fatal(err)
	}
	l, err := ReadList(der)
	if err != nil {
		t.Fatal(err)
	}
	for i, e := range sample {
		if found, ok := l.Find(e.Serial, root.Cert.Subject); !ok || found.Reason != e.Reason {
			t.Errorf("%s: %+v, %v", e.Serial, found, ok)
		}
		pieces, left := l.Without(map[string]bool{Key(e.Serial): true, "nothing": true})
		want := encoded(t, slices.Delete(slices.Clone(sample), i, i+1))
		if !bytes.Equal(bytes.Join(pieces, nil), want) || left != len(sample)-1 {
			t.Errorf("without %s: %d are left", e.Serial, left)
		}
	}
	if _, ok := l.Find(serial(5), root.Cert.Subject); ok {
		t.Error("what is not on it was found")
	}
	other := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Other", Authority: true})
	if _, ok := l.Find(serial(1), other.Cert.Subject); ok {
		t.Error("somebody else's certificate was found by its serial")
	}
}

// Entries that are made of texts are octet for octet those that are made of values.
func TestEntriesOfTexts(t *testing.T) {
	const layout = "2006-01-02T15:04:05.000000000Z"
	for _, n := range []string{"00", "01", "7f", "80", "0080", "ff", "00ff", "0100", "7fffffffffffffffffffffffffffffff",
		"ffffffffffffffffffffffffffffffff"} {
		big, _ := new(big.Int).SetString(n, 16)
		for _, e := range []Entry{{}, {Reason: KeyCompromise}, {Invalid: specimen.Now}, {Reason: AACompromise,
			Invalid: specimen.Now.AddDate(-90, 0, 0)}} {
			for _, at := range []time.Time{specimen.Now, specimen.Now.AddDate(60, 0, 0)} {
				e.Serial, e.At = cert.SerialOf(big), at
				since := []byte(nil)
				if !e.Invalid.IsZero() {
					since = []byte(e.Invalid.Format(layout))
				}
				got, err := AppendStamped(nil, []byte(n), []byte(at.Format(layout)), e.Reason, since)
				if err != nil || !bytes.Equal(got, encoded(t, []Entry{e})) {
					t.Errorf("%s %+v: %x, %v", n, e, got, err)
				}
			}
		}
	}
	for _, bad := range []string{"", "1", "zz", strings.Repeat("ab", 70)} {
		if _, err := AppendStamped(nil, []byte(bad), []byte(specimen.Now.Format(layout)), 0, nil); err == nil {
			t.Errorf("the serial %q is listed", bad)
		}
	}
}

func TestReasonsInWords(t *testing.T) {
	for _, w := range ReasonWords() {
		r, err := ParseReason(w)
		if err != nil || r.Word() != w {
			t.Errorf("%s: %v, %v", w, r, err)
		}
		if again, err := ParseReason(r.String()); err != nil || again != r {
			t.Errorf("%s: %v", r, err)
		}
	}
	for _, w := range []string{"", "removeFromCRL", "stolen", "7", "key"} {
		if r, err := ParseReason(w); err == nil {
			t.Errorf("%q is taken for %s", w, r)
		}
	}
}

// many are the encoded entries of so many certificates, with serials as ours are.
func many(t testing.TB, n int) []byte {
	out := make([]byte, 0, n*50)
	var err error
	for i := range n {
		sum := sha256.Sum256(binary.BigEndian.AppendUint64(nil, uint64(i)))
		sum[0] &= 0x7f
		if out, err = AppendEntry(out, Entry{Serial: cert.SerialOf(new(big.Int).SetBytes(sum[:16])),
			At: specimen.Now.Add(time.Duration(-i) * time.Second), Reason: Reason(i % 2)}); err != nil {
			t.Fatal(err)
		}
	}
	return out
}

// A list of many entries costs the memory of its bytes, made or asked.
func TestLargeListsStayBytes(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	entries := many(t, 100_000)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	der, err := drafted(root).Sign([][]byte{entries}, root.Signer, rand.Reader, nil)
	if err != nil {
		t.Fatal(err)
	}
	l, err := ReadList(der)
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := l.Find(serial(4), root.Cert.Subject); ok || l.Count != 100_000 {
		t.Errorf("%d entries", l.Count)
	}
	runtime.ReadMemStats(&after)
	if used := after.TotalAlloc - before.TotalAlloc; used > uint64(len(der))*5/4+1<<20 {
		t.Errorf("%d octets were used for a list of %d", used, len(der))
	}
}

func BenchmarkReadingAMillion(b *testing.B) {
	root := specimen.Make(b, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	der, err := drafted(root).Sign([][]byte{many(b, 1_000_000)}, root.Signer, rand.Reader, nil)
	if err != nil {
		b.Fatal(err)
	}
	b.SetBytes(int64(len(der)))
	b.Run("raw hash", func(b *testing.B) {
		for range b.N {
			sha256.Sum256(der)
		}
	})
	b.Run("read and find", func(b *testing.B) {
		for range b.N {
			l, err := ReadList(der)
			if err != nil {
				b.Fatal(err)
			}
			l.Find(serial(4), root.Cert.Subject)
		}
	})
}

func TestTheContentDigestIsOfEveryOctet(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	for _, entries := range [][][]byte{nil, {encoded(t, sample)}} {
		der, err := drafted(root).Sign(entries, root.Signer, rand.Reader, nil)
		if err != nil {
			t.Fatal(err)
		}
		l, err := Skim(der)
		if err != nil {
			t.Fatal(err)
		}
		proof := NewProof()
		proof.Write(bytes.Join(entries, nil))
		if l.DigestBy(proof.Sum(nil)) != l.ContentDigest() {
			t.Error("the digest by the proof of the entries is another")
		}
		for i := range der {
			changed := bytes.Clone(der)
			changed[i] ^= 1
			if other, err := Skim(changed); err == nil && other.ContentDigest() == l.ContentDigest() {
				t.Errorf("octet %d is changed, and the digest is not", i)
			}
		}
	}
}

// What is given early is what the list holds at that place.
func TestALargeListIsGivenEarly(t *testing.T) {
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	var part []byte
	at := 0
	der, err := drafted(root).Sign([][]byte{many(t, 10_000)}, root.Signer, rand.Reader, func(p []byte, begins int) {
		part, at = bytes.Clone(p), begins
	})
	if err != nil || len(part) < len(der)*99/100 || !bytes.Equal(der[at:at+len(part)], part) {
		t.Errorf("%d of %d octets at %d, %v", len(part), len(der), at, err)
	}
}
