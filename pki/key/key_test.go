package key

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"math/big"
	"strings"
	"testing"

	"ironseal/pki/finding"
)

func TestEveryKindIsReadByTheStandardLibrary(t *testing.T) {
	for _, k := range Kinds() {
		if testing.Short() && k == RSA4096 {
			continue
		}
		signer, err := Generate(k, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		p, err := Of(signer)
		if err != nil || p.Kind != k || p.Key == nil {
			t.Fatalf("%s: %+v, %v", k, p, err)
		}
		std, err := x509.MarshalPKIXPublicKey(signer.Public())
		if err != nil || !bytes.Equal(std, p.SPKI) {
			t.Errorf("%s: SubjectPublicKeyInfo differs from the standard library's (%v)", k, err)
		}
		if w := p.Weakness(); len(w) > 0 {
			t.Errorf("%s: %v", k, w)
		}
		obj, err := SignedObject([]byte{0x30, 0x00}, signer, rand.Reader)
		if err != nil {
			t.Fatalf("%s: %v", k, err)
		}
		var parts struct {
			Content, Algorithm asn1.RawValue
			Signature          asn1.BitString
		}
		if _, err := asn1.Unmarshal(obj, &parts); err != nil {
			t.Fatal(err)
		}
		alg, _ := ReadAlgorithm(parts.Algorithm.FullBytes)
		if err := p.Verify(alg, []byte{0x30, 0x00}, parts.Signature.Bytes); err != nil {
			t.Errorf("%s: %v", k, err)
		}
		if err := p.Verify(alg, []byte{0x30, 0x01}, parts.Signature.Bytes); !errors.Is(err, ErrSignature) {
			t.Errorf("%s: changed content: %v", k, err)
		}
	}
}

func TestCompressedPointIsRead(t *testing.T) {
	k, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	std, _ := x509.MarshalPKIXPublicKey(k.Public())
	var info struct {
		Algorithm asn1.RawValue
		Key       asn1.BitString
	}
	if _, err := asn1.Unmarshal(std, &info); err != nil {
		t.Fatal(err)
	}
	b := elliptic.MarshalCompressed(elliptic.P256(), k.X, k.Y)
	info.Key = asn1.BitString{Bytes: b, BitLength: 8 * len(b)}
	der, _ := asn1.Marshal(info)
	p, err := Read(der)
	if err != nil || !k.PublicKey.Equal(p.Key) {
		t.Fatalf("%+v, %v", p, err)
	}
	b[5] ^= 1
	info.Key = asn1.BitString{Bytes: append([]byte{5}, b[1:]...), BitLength: 8 * len(b)}
	der, _ = asn1.Marshal(info)
	if p, err = Read(der); err != nil || p.Fault == "" {
		t.Errorf("a point off the curve: %+v, %v", p, err)
	}
}

func rsaSPKI(t *testing.T, n, e *big.Int) []byte {
	t.Helper()
	inner, err := asn1.Marshal(struct{ N, E *big.Int }{n, e})
	if err != nil {
		t.Fatal(err)
	}
	der, err := asn1.Marshal(struct {
		Alg struct {
			OID  asn1.ObjectIdentifier
			Null asn1.RawValue
		}
		Key asn1.BitString
	}{struct {
		OID  asn1.ObjectIdentifier
		Null asn1.RawValue
	}{oidRSA, asn1.NullRawValue}, asn1.BitString{Bytes: inner, BitLength: 8 * len(inner)}})
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func TestWeakAndOddKeysAreNamed(t *testing.T) {
	n := func(bits int, low int64) *big.Int { // odd without small factors, where it is not to be even
		m := new(big.Int).Add(new(big.Int).Lsh(big.NewInt(1), uint(bits-1)), big.NewInt(low))
		for low > 0 && new(big.Int).GCD(nil, nil, m, smallProduct()).Cmp(big.NewInt(1)) != 0 {
			m.Add(m, big.NewInt(2))
		}
		return m
	}
	for _, c := range []struct {
		n, e *big.Int
		want finding.Code
		word string
	}{
		{n(1024, 1), big.NewInt(65537), finding.WeakKey, "1024 bits"},
		{n(2048, 0), big.NewInt(65537), finding.WeakKey, "even"},
		{n(2048, 1), big.NewInt(1), finding.WeakKey, "exponent is 1"},
		{n(2048, 1), big.NewInt(65536), finding.WeakKey, "exponent"},
		{n(2048, 1), big.NewInt(3), finding.OddKey, "small exponent"},
		{n(2047, 1), big.NewInt(65537), finding.WeakKey, "2047"},
		{n(2100, 1), big.NewInt(65537), finding.OddKey, "unusual"},
		{n(20000, 1), big.NewInt(65537), finding.WeakKey, "16384"},
	} {
		t.Run(c.word, func(t *testing.T) {
			p, err := Read(rsaSPKI(t, c.n, c.e))
			if err != nil {
				t.Fatal(err)
			}
			w := p.Weakness()
			if len(w) != 1 || w[0].Code != c.want || !strings.Contains(w[0].Message, c.word) {
				t.Errorf("%d bits, exponent %s: %v", c.n.BitLen(), c.e, w)
			}
		})
	}
}

func TestSmallRSAIsCheckedAndNotMistakenForForged(t *testing.T) {
	// A 512-bit key made for this test alone.
	p, _ := new(big.Int).SetString("f5c5f6c3a4ed4f2a4d4f6ab5b5a7c2d1f0f8b2f0c9a3d1e7b8a6c5d4e3f20107", 16)
	for !p.ProbablyPrime(20) {
		p.Add(p, big.NewInt(2))
	}
	q := new(big.Int).Add(p, big.NewInt(1<<40))
	for q.SetBit(q, 0, 1); !q.ProbablyPrime(20); {
		q.Add(q, big.NewInt(2))
	}
	n := new(big.Int).Mul(p, q)
	one := big.NewInt(1)
	phi := new(big.Int).Mul(new(big.Int).Sub(p, one), new(big.Int).Sub(q, one))
	d := new(big.Int).ModInverse(big.NewInt(65537), phi)
	pub, err := Read(rsaSPKI(t, n, big.NewInt(65537)))
	if err != nil || pub.Key == nil {
		t.Fatal(err)
	}
	t0 := []byte("a request from long ago")
	info, _ := asn1.Marshal(struct {
		A struct {
			O asn1.ObjectIdentifier
			N asn1.RawValue
		}
		D []byte
	}{struct {
		O asn1.ObjectIdentifier
		N asn1.RawValue
	}{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}, asn1.NullRawValue}, sha(t0)})
	em := append([]byte{0, 1}, bytes.Repeat([]byte{0xff}, 64-3-len(info))...)
	em = append(append(em, 0), info...)
	sig := new(big.Int).Exp(new(big.Int).SetBytes(em), d, n).FillBytes(make([]byte, 64))
	alg := Algorithm{Name: "SHA-256 with RSA", Hash: 5, family: "rsa", known: true}
	if err := pub.Verify(alg, t0, sig); err != nil {
		t.Errorf("a right signature by a small key: %v", err)
	}
	sig[10] ^= 1
	if err := pub.Verify(alg, t0, sig); !errors.Is(err, ErrSignature) {
		t.Errorf("a wrong one: %v", err)
	}
}

func TestOlderKeyFormsAreRead(t *testing.T) {
	r, _ := rsa.GenerateKey(rand.Reader, 2048)
	e, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	sec1, _ := x509.MarshalECPrivateKey(e)
	for _, der := range [][]byte{x509.MarshalPKCS1PrivateKey(r), sec1} {
		if _, err := ReadPrivate(der); err != nil {
			t.Error(err)
		}
	}
	if _, err := ReadPrivate([]byte("noise")); err == nil {
		t.Error("noise is no key")
	}
}

func FuzzRead(f *testing.F) {
	for _, k := range []Kind{P256, Ed25519} {
		signer, _ := Generate(k, rand.Reader)
		p, _ := Of(signer)
		f.Add(p.SPKI)
	}
	f.Fuzz(func(t *testing.T, der []byte) {
		p, err := Read(der)
		if err != nil {
			return
		}
		if (p.Key == nil) != (p.Fault != "") {
			t.Fatal("a key without a fault must be usable, and one with a fault must not")
		}
		_, _ = p.Weakness(), p.Words()
		_, _ = ReadAlgorithm(der)
	})
}

func sha(b []byte) []byte {
	sum := sha256.Sum256(b)
	return sum[:]
}
