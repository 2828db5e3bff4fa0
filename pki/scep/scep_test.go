package scep

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"math/big"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/pkcs"
)

func holder(t testing.TB, name string) (*cert.Certificate, *rsa.PrivateKey) {
	t.Helper()
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: name},
		NotAfter: time.Now().Add(time.Hour)}
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

// written is a message of a device.
func written(t testing.TB, change func(*pkcs.Draft)) []byte {
	t.Helper()
	c, k := holder(t, "gate")
	ra, _ := holder(t, "registration")
	sealed, err := pkcs.Seal(nil, []byte("content"), ra, pkcs.AES128, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	d := pkcs.Draft{Content: sealed, Certificates: [][]byte{c.Raw}, RSA: true, Attributes: []pkcs.Attribute{
		{ID: idType, Value: text("19")}, {ID: idTransaction, Value: text("T1")},
		{ID: idSenderNonce, Value: octets(make([]byte, NonceSize))}}}
	if change != nil {
		change(&d)
	}
	der, err := d.Sign(k, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func TestMessagesAreRead(t *testing.T) {
	m, err := Read(written(t, nil), false)
	if err != nil || m.Type != PKCSReq || m.Transaction != "T1" || m.Older || m.Signer.Title() != "gate" {
		t.Fatalf("%+v, %v", m, err)
	}
	if _, err := Read(written(t, func(d *pkcs.Draft) { d.SHA1 = true }), false); !errors.Is(err, BadAlgorithm) {
		t.Errorf("SHA-1: %v", err)
	}
	if m, err := Read(written(t, func(d *pkcs.Draft) { d.SHA1 = true }), true); err != nil || !m.Older {
		t.Errorf("SHA-1, where it is taken: %v", err)
	}
	for name, change := range map[string]func(*pkcs.Draft){
		"no type":             func(d *pkcs.Draft) { d.Attributes = d.Attributes[1:] },
		"a type that is none": func(d *pkcs.Draft) { d.Attributes[0].Value = text("019") },
		"no transaction":      func(d *pkcs.Draft) { d.Attributes = append(d.Attributes[:1:1], d.Attributes[2]) },
		"an odd transaction":  func(d *pkcs.Draft) { d.Attributes[1].Value = text("T\n1") },
		"no nonce":            func(d *pkcs.Draft) { d.Attributes = d.Attributes[:2] },
		"a long nonce":        func(d *pkcs.Draft) { d.Attributes[2].Value = octets(make([]byte, 100)) },
		"no content":          func(d *pkcs.Draft) { d.Detached = true },
	} {
		if _, err := Read(written(t, change), true); !errors.Is(err, ErrUnsigned) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Read(written(t, func(d *pkcs.Draft) { d.Content = []byte("content") }), true); !errors.Is(err,
		BadMessageCheck) {
		t.Errorf("a content in clear: %v", err)
	}
	der := written(t, nil)
	der[len(der)-1] ^= 1
	if _, err := Read(der, false); !errors.Is(err, ErrUnsigned) {
		t.Errorf("a wrong signature: %v", err)
	}
}

// An answer is sealed to the device, says to which message it belongs, and is signed by the registration authority.
func TestAnswers(t *testing.T) {
	c, k := holder(t, "registration")
	by := Authority{c, k}
	m, err := Read(written(t, nil), false)
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range []Answer{{Status: Success, Content: []byte("certificate")}, {Status: Pending},
		{Status: Failure, Fail: BadRequest}} {
		der, err := m.Answer(a, by, time.Now(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		s, err := pkcs.ReadSigned(der)
		if err != nil {
			t.Fatal(err)
		}
		if (s.Content != nil) != (a.Status == Success) {
			t.Errorf("%d: it has a content: %t", a.Status, s.Content != nil)
		}
		if err := s.Verify(c.Key, false); err != nil {
			t.Errorf("%d: %v", a.Status, err)
		}
		if got, err := printable(s.Attribute(idTransaction)); err != nil || got != "T1" ||
			string(s.Attribute(idRecipientNonce)) != string(octets(m.Nonce)) {
			t.Errorf("%d: it belongs to %q, %v", a.Status, got, err)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(written(f, nil))
	f.Add(written(f, func(d *pkcs.Draft) { d.SHA1 = true }))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := Read(data, true)
		if err == nil && m.Signer == nil {
			t.Error("it has no signer")
		}
		_, _, _ = ReadSerial(data)
		_, _, _ = ReadSubject(data)
	})
}
