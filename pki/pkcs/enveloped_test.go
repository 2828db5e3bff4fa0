package pkcs

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"testing"
	"time"

	"ironseal/pki/cert"
)

func recipientOf(t testing.TB, bits int) (*cert.Certificate, *rsa.PrivateKey) {
	t.Helper()
	k, err := rsa.GenerateKey(rand.Reader, bits)
	if err != nil {
		t.Fatal(err)
	}
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "gate"},
		SubjectKeyId: []byte{1, 2, 3, 4}, NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, k.Public(), k)
	if err != nil {
		t.Fatal(err)
	}
	c, err := cert.Read(der)
	if err != nil {
		t.Fatal(err)
	}
	return c, k
}

func TestEnvelopes(t *testing.T) {
	c, k := recipientOf(t, 2048)
	for _, by := range ciphers {
		for _, size := range []int{0, 1, 7, 8, 15, 16, 17, 1000} {
			content := bytes.Repeat([]byte{0x5a}, size)
			der, err := Seal(nil, content, c, by, rand.Reader)
			if err != nil {
				t.Fatal(err)
			}
			e, err := ReadEnvelope(der)
			if err != nil || !e.For(c) || e.Cipher.Name != by.Name {
				t.Fatalf("%s: %v", by.Name, err)
			}
			if got, err := e.Open(c, k, rand.Reader); err != nil || !bytes.Equal(got, content) {
				t.Errorf("%s, %d octets: %x, %v", by.Name, size, got, err)
			}
		}
	}
	der, err := SealToKey(nil, []byte("content"), c.SubjectKey, &k.PublicKey, AES128, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	e, err := ReadEnvelope(der)
	if err != nil || !e.For(c) {
		t.Fatal(err)
	}
	if got, err := e.Open(c, k, rand.Reader); err != nil || string(got) != "content" {
		t.Errorf("by a key identifier: %q, %v", got, err)
	}
	other, _ := recipientOf(t, 2048)
	other.SubjectKey = []byte{9}
	if _, err := e.Open(other, k, rand.Reader); err == nil {
		t.Error("somebody else opens it")
	}
}

// What is wrong with the key, with its padding or with that of the content is no error: it opens to what means nothing.
func TestOpeningTellsNothing(t *testing.T) {
	c, k := recipientOf(t, 2048)
	content := bytes.Repeat([]byte("content "), 10)
	der, err := Seal(nil, content, c, AES128, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	e, err := ReadEnvelope(der)
	if err != nil {
		t.Fatal(err)
	}
	for name, change := range map[string]func(*Envelope){
		"a random key":      func(e *Envelope) { e.recipients[0].wrapped = bytes.Repeat([]byte{1}, 256) },
		"zeros":             func(e *Envelope) { e.recipients[0].wrapped = make([]byte, 256) },
		"a short key":       func(e *Envelope) { e.recipients[0].wrapped = []byte{1} },
		"a long key":        func(e *Envelope) { e.recipients[0].wrapped = make([]byte, 1000) },
		"the initial block": func(e *Envelope) { e.iv = bytes.Repeat([]byte{0xff}, 16) },
	} {
		changed := e
		changed.recipients = []sealedTo{e.recipients[0]}
		change(&changed)
		if got, err := changed.Open(c, k, rand.Reader); err != nil || bytes.Equal(got, content) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for end, want := range map[string]int{"\x01": 15, "\x02\x02": 14, "\x00": 16, "\x11": 16, "\x03\x02": 16,
		"\x02\x03\x03": 16} {
		b := append(bytes.Repeat([]byte{0x5a}, 16-len(end)), end...)
		if got := unpadded(b, 16); got != want {
			t.Errorf("%x: %d", end, got)
		}
	}
}

func FuzzReadMessages(f *testing.F) {
	c, k := recipientOf(f, 2048)
	sealed, err := Seal(nil, []byte("content"), c, AES128, rand.Reader)
	if err != nil {
		f.Fatal(err)
	}
	signed, err := Draft{Content: sealed, Certificates: [][]byte{c.Raw}, When: time.Now(), RSA: true}.Sign(k,
		rand.Reader)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(sealed)
	f.Add(signed)
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, err := ReadSigned(data); err == nil {
			s.Signer()
			_ = s.Verify(c.Key, true)
		}
		if e, err := ReadEnvelope(data); err == nil && e.For(c) {
			_, _ = e.Open(c, k, rand.Reader)
		}
	})
}
