package pkcs

import (
	"crypto/rand"
	"testing"
	"time"

	"ironseal/pki/key"
)

// signedBy signs a content by a certificate that holds no more than what a signature names.
func signedBy(t testing.TB, content []byte) (data []byte, pub key.Public) {
	t.Helper()
	signer, err := key.Generate(key.P256, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	if pub, err = key.Of(signer); err != nil {
		t.Fatal(err)
	}
	when := time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)
	data, err = SignDetached(content, signer, [][]byte{bare}, when, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return data, pub
}

// bare begins like a certificate: a serial, an algorithm, an issuer.
var bare = []byte{0x30, 0x0b, 0x30, 0x09, 0x02, 0x01, 0x05, 0x30, 0x00, 0x30, 0x02, 0x31, 0x00}

func TestDetachedSignatures(t *testing.T) {
	content := []byte("a list of hashes\n")
	data, pub := signedBy(t, content)
	d, err := ReadDetached(data)
	if err != nil || d.Signer() != 0 || d.When.Year() != 2026 {
		t.Fatal(err, d.Signer(), d.When)
	}
	if err := d.Verify(content, pub); err != nil {
		t.Error(err)
	}
	if d.Verify([]byte("another list\n"), pub) == nil {
		t.Error("it is of any content")
	}
	if _, other := signedBy(t, content); d.Verify(content, other) == nil {
		t.Error("it is by any key")
	}
}

// A signature of which one bit was changed verifies only where the change does not matter:
// in what names the signer, and in the certificates, which are judged by themselves.
func TestChangedSignaturesDoNotVerify(t *testing.T) {
	content := []byte("a list of hashes\n")
	data, pub := signedBy(t, content)
	passed := 0
	for i := range data {
		for bit := range 8 {
			changed := append([]byte(nil), data...)
			changed[i] ^= 1 << bit
			d, err := ReadDetached(changed)
			if err != nil || d.Verify(content, pub) != nil {
				continue
			}
			passed++
			if string(d.attributes) != string(mustRead(t, data).attributes) {
				t.Errorf("byte %d, bit %d: other attributes verify", i, bit)
			}
		}
	}
	if passed > 8*(2*len(bare)+20) {
		t.Errorf("%d changes of %d bits make no difference", passed, 8*len(data))
	}
}

func mustRead(t *testing.T, data []byte) Detached {
	t.Helper()
	d, err := ReadDetached(data)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func FuzzReadDetached(f *testing.F) {
	data, pub := signedBy(f, []byte("a list"))
	f.Add(data)
	f.Add(data[:len(data)/2])
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := ReadDetached(data)
		if err != nil {
			return
		}
		d.Signer()
		if d.Verify([]byte("another list"), pub) == nil {
			t.Error("it is of any content")
		}
	})
}
