package key

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/asn1"
	"math/big"
	"sync"
	"testing"

	"filippo.io/nistec"
)

var order = elliptic.P256().Params().N

// pointTimes is a scalar times the base point of P-256, uncompressed.
func pointTimes(t testing.TB, scalar *big.Int) []byte {
	t.Helper()
	p, err := nistec.NewP256Point().ScalarBaseMult(new(big.Int).Mod(scalar, order).FillBytes(make([]byte, 32)))
	if err != nil {
		t.Fatal(err)
	}
	return p.Bytes()
}

// withTable is the table of a point, and the key of the standard library.
func withTable(t testing.TB, point []byte) (*multiples, *ecdsa.PublicKey) {
	t.Helper()
	p, err := nistec.NewP256Point().SetBytes(point)
	if err != nil {
		t.Fatal(err)
	}
	pub, err := ecdsa.ParseUncompressedPublicKey(elliptic.P256(), point)
	if err != nil {
		t.Fatal(err)
	}
	return multiplesOf(p), pub
}

func encodedSignature(t testing.TB, r, s *big.Int) []byte {
	t.Helper()
	der, err := asn1.Marshal(struct{ R, S *big.Int }{r, s})
	if err != nil {
		t.Fatal(err)
	}
	return der
}

// What a table adds is the multiple of the point, at the borders of its digits too.
func TestMultiplesOfAPoint(t *testing.T) {
	point, err := nistec.NewP256Point().SetBytes(pointTimes(t, big.NewInt(4711)))
	if err != nil {
		t.Fatal(err)
	}
	table := multiplesOf(point)
	var scalars [][]byte
	for _, n := range []int64{0, 1, 127, 128, 129, 255, 256, 257, 32767, 32768, 32769} {
		scalars = append(scalars, big.NewInt(n).FillBytes(make([]byte, 32)))
	}
	for _, octet := range []byte{0x7f, 0x80, 0x81, 0xff} {
		scalars = append(scalars, bytes.Repeat([]byte{octet}, 32))
	}
	for _, off := range []int64{-2, -1, 0, 1} {
		scalars = append(scalars, new(big.Int).Add(order, big.NewInt(off)).FillBytes(make([]byte, 32)))
	}
	for range 200 {
		s := make([]byte, 32)
		rand.Read(s)
		scalars = append(scalars, s)
	}
	for _, s := range scalars {
		want, err := nistec.NewP256Point().ScalarMult(point, s)
		if err != nil {
			t.Fatal(err)
		}
		got := nistec.NewP256Point()
		if table.addTo(got, (*[32]byte)(s)); !bytes.Equal(got.Bytes(), want.Bytes()) {
			t.Errorf("%x times the point: %x, want %x", s, got.Bytes(), want.Bytes())
		}
	}
}

// Both ways to verify answer alike, for signatures that hold and for those that were changed.
func TestOftenVerifiesAsTheStandardLibrary(t *testing.T) {
	minusOne := new(big.Int).Sub(order, big.NewInt(1))
	random, err := rand.Int(rand.Reader, minusOne)
	if err != nil {
		t.Fatal(err)
	}
	for name, d := range map[string]*big.Int{"the base point": big.NewInt(1), "twice the base point": big.NewInt(2),
		"minus the base point": minusOne, "a random key": random.Add(random, big.NewInt(1))} {
		t.Run(name, func(t *testing.T) {
			table, pub := withTable(t, pointTimes(t, d))
			signer, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), d.FillBytes(make([]byte, 32)))
			if err != nil {
				t.Fatal(err)
			}
			alike := func(what string, digest, signature []byte, holds bool) {
				t.Helper()
				got, want := table.verify(digest, signature), ecdsa.VerifyASN1(pub, digest, signature)
				if got != want || got != holds {
					t.Errorf("%s: %v, by the standard library %v, want %v\ndigest %x signature %x", what, got, want,
						holds, digest, signature)
				}
			}
			for _, size := range []int{20, 28, 32, 48, 64} {
				for _, digest := range [][]byte{make([]byte, size), bytes.Repeat([]byte{0xff}, size),
					bytes.Repeat([]byte{1}, size)} {
					der, err := ecdsa.SignASN1(rand.Reader, signer, digest)
					if err != nil {
						t.Fatal(err)
					}
					r, s, _ := readSignature(der)
					alike("as signed", digest, der, true)
					alike("the other sign of s", digest, encodedSignature(t, r, new(big.Int).Sub(order, s)), true)
					changed := bytes.Clone(digest)
					changed[3] ^= 1
					alike("another digest", changed, der, false)
					for _, v := range []*big.Int{new(big.Int), big.NewInt(1), big.NewInt(-1), minusOne, order,
						new(big.Int).Add(order, big.NewInt(1)), new(big.Int).Lsh(order, 8)} {
						alike("another r", digest, encodedSignature(t, v, s), false)
						alike("another s", digest, encodedSignature(t, r, v), false)
					}
					above := encodedSignature(t, new(big.Int).Add(order, r), s)
					alike("a value above the order", digest, above, false)
					alike("octets behind it", digest, append(bytes.Clone(der), 0), false)
					alike("cut off", digest, der[:len(der)-1], false)
					alike("nothing", digest, nil, false)
				}
			}
			// Both halves of the sum are one point; the sum is at infinity.
			k := big.NewInt(99)
			r := new(big.Int).SetBytes(pointTimes(t, k)[1:33])
			r.Mod(r, order)
			rd := new(big.Int).Mul(r, d)
			rd.Mod(rd, order)
			s := new(big.Int).Lsh(rd, 1)
			s.Mul(s, new(big.Int).ModInverse(k, order)).Mod(s, order)
			alike("two times one point", rd.FillBytes(make([]byte, 32)), encodedSignature(t, r, s), true)
			alike("infinity", new(big.Int).Sub(order, rd).FillBytes(make([]byte, 32)), encodedSignature(t, r, s), false)
		})
	}
}

// The x coordinate of the sum can be above the order of the group, where r is not.
func TestOftenTakesTheCoordinateModuloTheOrder(t *testing.T) {
	r, compressed := new(big.Int), make([]byte, 33)
	compressed[0] = 2
	sum := nistec.NewP256Point()
	for {
		r.Add(r, big.NewInt(1))
		new(big.Int).Add(r, order).FillBytes(compressed[1:])
		if _, err := sum.SetBytes(compressed); err == nil {
			break
		}
	}
	// The key for which that is the sum of a signature: (s times the sum - e times the base point) / r.
	s, e := big.NewInt(1234567), big.NewInt(7654321)
	times := func(p *nistec.P256Point, n *big.Int) *nistec.P256Point {
		out, err := nistec.NewP256Point().ScalarMult(p, n.FillBytes(make([]byte, 32)))
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	point := times(sum, s)
	point.Add(point, times(nistec.NewP256Point().SetGenerator(), new(big.Int).Sub(order, e)))
	point = times(point, new(big.Int).ModInverse(r, order))
	table, pub := withTable(t, point.Bytes())
	digest := e.FillBytes(make([]byte, 32))
	for _, c := range []struct {
		r     *big.Int
		holds bool
	}{{r, true}, {new(big.Int).Add(r, order), false}, {new(big.Int).Add(r, big.NewInt(1)), false}} {
		der := encodedSignature(t, c.r, s)
		got, want := table.verify(digest, der), ecdsa.VerifyASN1(pub, digest, der)
		if got != c.holds || want != c.holds {
			t.Errorf("r %v: %v, by the standard library %v, want %v", c.r, got, want, c.holds)
		}
	}
}

// A key counts by itself when a table pays; what it answers is the same before and after, from many goroutines.
func TestAKeyThatVerifiesOften(t *testing.T) {
	signer, err := Generate(P256, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	p, err := Of(signer)
	if err != nil {
		t.Fatal(err)
	}
	p = p.Often()
	message := []byte("tern")
	algorithm, signature, err := SignMessage(message, signer, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	a, err := ReadAlgorithm(algorithm)
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			copied := p
			for range oftenEnough {
				if copied.Verify(a, message, signature) != nil || copied.Verify(a, []byte("gull"), signature) == nil {
					t.Error("the wrong answer")
				}
			}
		})
	}
	wg.Wait()
	if p.often.table.Load() == nil {
		t.Error("there is no table")
	}
	for _, k := range []Kind{P384, Ed25519} {
		signer, err := Generate(k, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		p, err := Of(signer)
		if err != nil || p.Often().often != nil {
			t.Errorf("%s has a table (%v)", k, err)
		}
	}
}

func FuzzOften(f *testing.F) {
	table, pub := withTable(f, pointTimes(f, big.NewInt(4711)))
	signer, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), big.NewInt(4711).FillBytes(make([]byte, 32)))
	if err != nil {
		f.Fatal(err)
	}
	digest := sha256.Sum256([]byte("tern"))
	good, err := ecdsa.SignASN1(rand.Reader, signer, digest[:])
	if err != nil {
		f.Fatal(err)
	}
	f.Add(digest[:], good)
	f.Add([]byte{}, []byte{0x30, 6, 2, 1, 1, 2, 1, 1})
	f.Add(digest[:], []byte{0x30, 0x80})
	f.Fuzz(func(t *testing.T, digest, signature []byte) {
		if got, want := table.verify(digest, signature), ecdsa.VerifyASN1(pub, digest, signature); got != want {
			t.Errorf("%v, by the standard library %v", got, want)
		}
	})
}

func BenchmarkVerify(b *testing.B) {
	table, pub := withTable(b, pointTimes(b, big.NewInt(4711)))
	signer, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), big.NewInt(4711).FillBytes(make([]byte, 32)))
	if err != nil {
		b.Fatal(err)
	}
	digest := sha256.Sum256([]byte("tern"))
	signature, err := ecdsa.SignASN1(rand.Reader, signer, digest[:])
	if err != nil {
		b.Fatal(err)
	}
	for name, verify := range map[string]func() bool{
		"once":  func() bool { return ecdsa.VerifyASN1(pub, digest[:], signature) },
		"often": func() bool { return table.verify(digest[:], signature) },
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if !verify() {
					b.Fatal("it does not hold")
				}
			}
		})
	}
	b.Run("table", func(b *testing.B) {
		for b.Loop() {
			multiplesOf(nistec.NewP256Point().SetGenerator())
		}
	})
}
