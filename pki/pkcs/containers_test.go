package pkcs

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"errors"
	"strings"
	"testing"

	"ironseal/pki/key"
)

func stored(t testing.TB, profile Profile) (*ecdsa.PrivateKey, []byte) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	der, err := WriteStore([]StoreEntry{{Signer: k, Name: "Quay gate é"}, {Certificate: octets(7), Name: "Quay gate é"},
		{Certificate: octets(9)}}, []byte("puffin"), profile, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return k, der
}

func TestStoresOpenWithTheirPasswordOnly(t *testing.T) {
	for _, profile := range []Profile{Modern, PBMAC1, Older} {
		k, der := stored(t, profile)
		list, err := ReadStore(der, []byte("puffin"))
		if err != nil || len(list) != 3 {
			t.Fatalf("%s: %d entries, %v", profile, len(list), err)
		}
		if !k.Equal(list[0].Signer) || list[0].Name != "Quay gate é" || !bytes.Equal(list[1].Certificate, octets(7)) ||
			!bytes.Equal(list[2].Certificate, octets(9)) {
			t.Errorf("%s: other contents came out", profile)
		}
		for _, wrong := range []string{"", "razorbill", "Puffin", "puffin "} {
			if _, err := ReadStore(der, []byte(wrong)); !errors.Is(err, ErrPassword) {
				t.Errorf("%s: password %q: %v", profile, wrong, err)
			}
		}
		for i := 30; i < len(der); i += 41 {
			bad := bytes.Clone(der)
			bad[i] ^= 0x20
			if list, err := ReadStore(bad, []byte("puffin")); err == nil && len(list) == 3 && !k.Equal(list[0].Signer) {
				t.Errorf("%s: a byte changed at %d went unnoticed", profile, i)
			}
		}
	}
	signer, err := key.Generate(key.P256, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := WriteStore([]StoreEntry{{Signer: signer}}, nil, Modern, rand.Reader); err == nil {
		t.Error("a key was written under an empty password")
	}
	anchors, err := WriteStore([]StoreEntry{{Certificate: octets(7), Anchor: true}}, nil, Modern, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	if back, err := ReadStore(anchors, nil); err != nil || len(back) != 1 || !back[0].Anchor {
		t.Errorf("anchors without a password: %v, %v", back, err)
	}
}

func TestHostileStoreWorkIsRefused(t *testing.T) {
	_, der := stored(t, Modern)
	at := bytes.LastIndex(der, []byte{0x02, 0x03, 0x01, 0x86, 0xa0}) // 100,000 rounds of the MAC, at the very end
	if at < 0 || at+5 != len(der) {
		t.Fatal("the rounds are not where they should be")
	}
	hostile := append(bytes.Clone(der[:at]), 0x02, 0x03, 0x47, 0xff, 0xff)
	_, err := ReadStore(hostile, []byte("puffin"))
	if !errors.Is(err, ErrPassword) { // four million rounds are within bounds, and wrong
		t.Errorf("%v", err)
	}
	// More than the bound needs a fourth byte; the lengths around it grow by one.
	bigger := append(bytes.Clone(der[:at]), 0x02, 0x04, 0x7f, 0xff, 0xff, 0xff)
	mac := bytes.LastIndex(der[:at], []byte{0x30, 0x4a, 0x30, 0x31})
	if mac < 0 {
		t.Fatal("the MAC is not where it should be")
	}
	bigger[mac+1]++
	size := int(bigger[2])<<8 | int(bigger[3]) + 1
	bigger[2], bigger[3] = byte(size>>8), byte(size)
	if _, err := ReadStore(bigger, []byte("puffin")); err == nil || !strings.Contains(err.Error(), "out of bounds") {
		t.Errorf("two thousand million rounds: %v", err)
	}
}

func TestSignedDataKeepsItsOrder(t *testing.T) {
	want := [][]byte{octets(9), octets(7), octets(8)}
	der, err := WriteSignedData(want)
	if err != nil {
		t.Fatal(err)
	}
	got, err := ReadSignedData(der)
	if err != nil || len(got) != 3 {
		t.Fatal(err)
	}
	for i := range want {
		if !bytes.Equal(got[i], want[i]) {
			t.Errorf("certificate %d is another", i)
		}
	}
	if _, err := WriteSignedData(nil); err == nil {
		t.Error("a container without certificates must be refused")
	}
}

func FuzzReadStore(f *testing.F) {
	_, der := stored(f, Older)
	f.Add(der)
	f.Add(der[:200])
	f.Fuzz(func(t *testing.T, data []byte) {
		list, err := ReadStore(data, []byte("wrong"))
		if err == nil && len(list) > MostObjects {
			t.Fatal("too many entries")
		}
	})
}

func FuzzReadSignedData(f *testing.F) {
	der, _ := WriteSignedData([][]byte{octets(7)})
	f.Add(der)
	f.Add([]byte{0x30, 0x80, 0x06, 0x01, 0x2a, 0xa0, 0x80, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, data []byte) {
		list, err := ReadSignedData(data)
		if err == nil && len(list) == 0 {
			t.Fatal("success without a certificate")
		}
	})
}

// octets is a small object that reads, and that no other is like.
func octets(fill byte) []byte {
	return append([]byte{0x30, 22, 0x04, 20}, bytes.Repeat([]byte{fill}, 20)...)
}
