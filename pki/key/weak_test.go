package key

import (
	"bytes"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

func prime(t testing.TB, bits int) *big.Int {
	t.Helper()
	p, err := rand.Prime(rand.Reader, bits)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func rsaOf(t testing.TB, n *big.Int) Public {
	t.Helper()
	der, err := encoded(&rsa.PublicKey{N: n, E: 65537})
	if err != nil {
		t.Fatal(err)
	}
	p, err := Read(der)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// weakModulus is a modulus whose primes are built the way of CVE-2017-15361.
func weakModulus(t *testing.T) *big.Int {
	m := big.NewInt(1)
	for _, p := range primesBelow()[:126] {
		m.Mul(m, big.NewInt(p))
	}
	made := func() *big.Int {
		for {
			a, k := prime(t, 40), prime(t, 1024-m.BitLen())
			p := new(big.Int).Exp(big.NewInt(65537), a, m)
			p.Add(p, new(big.Int).Mul(k, m))
			if p.BitLen() == 1024 && p.ProbablyPrime(20) {
				return p
			}
		}
	}
	return new(big.Int).Mul(made(), made())
}

// Every modulus here gives its factors to anyone who looks.
func TestWorthlessModuli(t *testing.T) {
	p := prime(t, 1024)
	next := new(big.Int).Add(p, big.NewInt(2))
	for !next.ProbablyPrime(20) {
		next.Add(next, big.NewInt(2))
	}
	third := prime(t, 2040)
	for word, n := range map[string]*big.Int{
		"is a prime": prime(t, 2048), "a square": new(big.Int).Mul(p, p),
		"close to each other": new(big.Int).Mul(p, next),
		"small factor":        new(big.Int).Mul(third, big.NewInt(9973)), "CVE-2017-15361": weakModulus(t),
	} {
		t.Run(word, func(t *testing.T) {
			got := rsaOf(t, n).Scrutiny()
			if len(got.Refusing()) != 1 || !strings.Contains(got[0].Message, word) && n.BitLen() >= 2048 {
				t.Errorf("%s: %v", word, got)
			}
		})
	}
	for range 3 {
		if got := rsaOf(t, new(big.Int).Mul(prime(t, 1024), prime(t, 1024))).Scrutiny(); len(got.Refusing()) > 0 &&
			!strings.Contains(got[0].Message, "2047") {
			t.Errorf("a good modulus: %v", got)
		}
	}
}

// The points of small order, and their encodings that are not the one of RFC 8032,
// as they are published with several implementations.
func TestEd25519PointsThatProveNothing(t *testing.T) {
	for _, text := range []string{
		"0000000000000000000000000000000000000000000000000000000000000000",
		"0100000000000000000000000000000000000000000000000000000000000000",
		"26e8958fc2b227b045c3f489f2ef98f0d5dfac05d3c63339b13802886d53fc05",
		"c7176a703d4dd84fba3c0b760d10670f2a2053fa2c39ccc64ec7fd7792ac037a",
		"ecffffffffffffffffffffffffffffffffffffffffffffffffffffffffffff7f",
		"edffffffffffffffffffffffffffffffffffffffffffffffffffffffffffff7f",
		"eeffffffffffffffffffffffffffffffffffffffffffffffffffffffffffff7f",
	} {
		b, err := hex.DecodeString(text)
		if err != nil {
			t.Fatal(err)
		}
		for _, sign := range []byte{0, 0x80} {
			point := bytes.Clone(b)
			point[31] |= sign
			der, err := encoded(ed25519.PublicKey(point))
			if err != nil {
				t.Fatal(err)
			}
			p, err := Read(der)
			if err != nil {
				t.Fatal(err)
			}
			if p.Key != nil || len(p.Weakness().Refusing()) == 0 {
				t.Errorf("%x passes", point)
			}
		}
	}
	for range 50 {
		pub, _, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if why := edwardsFault(pub); why != "" {
			t.Errorf("%x: %s", pub, why)
		}
	}
}

// spkiWith is a SubjectPublicKeyInfo with the bits given, and with something
// behind them where tail is not empty.
func spkiWith(alg func(*cryptobyte.Builder), bits, tail []byte) []byte {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.SEQUENCE, alg)
		b.AddASN1BitString(bits)
		b.AddBytes(tail)
	})
	return b.BytesOrPanic()
}

// One key is one key, whatever it came in: a compressed point, something behind the
// values, parameters left out.
func TestKeysAreComparedAsValues(t *testing.T) {
	signer, err := Generate(P256, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	plain, err := Of(signer)
	if err != nil {
		t.Fatal(err)
	}
	x, y := elliptic.Unmarshal(elliptic.P256(), plain.bitBytes) //lint:ignore SA1019 the test makes what devices send
	ec := func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(oidEC)
		b.AddASN1ObjectIdentifier(curves[0].oid)
	}
	big1 := rsaOf(t, new(big.Int).Mul(prime(t, 1024), prime(t, 1024)))
	rsaAlg := func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(oidRSA) }
	for name, c := range map[string]struct {
		der  []byte
		same Public
	}{
		"compressed point": {spkiWith(ec, elliptic.MarshalCompressed(elliptic.P256(), x, y), nil), plain},
		"something behind": {spkiWith(ec, plain.bitBytes, []byte{5, 0}), plain},
		"no parameters":    {spkiWith(rsaAlg, big1.bitBytes, nil), big1},
		"behind the RSA key": {spkiWith(func(b *cryptobyte.Builder) { rsaAlg(b); b.AddASN1NULL() },
			append(bytes.Clone(big1.bitBytes), 0, 0), nil), big1},
	} {
		t.Run(name, func(t *testing.T) {
			p, err := Read(c.der)
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			if !Same(p, c.same) || p.Fingerprint() != c.same.Fingerprint() || !bytes.Equal(p.Canonical(),
				c.same.SPKI) ||
				!bytes.Equal(p.Identifier(), c.same.Identifier()) {
				t.Errorf("%s: it is not the same key", name)
			}
			if bytes.Equal(p.SPKI, c.same.SPKI) {
				t.Errorf("%s: the test compares one encoding", name)
			}
		})
	}
	if plain.Fingerprint() != sha256.Sum256(plain.SPKI) {
		t.Error("the fingerprint of a plain key is not that of its bytes")
	}
}

func TestSHA224IsWeak(t *testing.T) {
	for _, a := range slices.Concat(rsaScheme.algorithms, ecdsaScheme.algorithms, ed25519Scheme.algorithms) {
		weak := strings.Contains(a.name, "MD5") || strings.Contains(a.name, "SHA-1 ") ||
			strings.HasSuffix(a.name, "SHA-1") || strings.Contains(a.name, "SHA-224")
		if (Algorithm{Hash: a.hash}).Weak() != weak {
			t.Errorf("%s: weak is not %v", a.name, weak)
		}
	}
}

func BenchmarkWeakness(b *testing.B) {
	for _, bits := range []int{1024, 2048} {
		p := rsaOf(b, new(big.Int).Mul(prime(b, bits), prime(b, bits)))
		b.Run(fmt.Sprint(p.Kind), func(b *testing.B) {
			for b.Loop() {
				p.Weakness()
			}
		})
		b.Run(fmt.Sprint(p.Kind, " scrutiny"), func(b *testing.B) {
			for b.Loop() {
				p.Scrutiny()
			}
		})
	}
}
