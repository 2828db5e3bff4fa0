package key

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"math/big"
	"sync/atomic"

	"filippo.io/nistec"
	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

// An authority's key verifies the signature of every certificate, list and answer that it makes. Two thirds of the
// time of one ECDSA verification go into one multiple of the key. A key that comes back that often keeps a table of its
// multiples, and adds up the one that is asked for. All of it is public: neither the time nor the memory that it takes
// has to be hidden. The arithmetic of the curve is that of the standard library, whose packages do not export it.

// Often is the same key, which many signatures will be verified with. What it answers does not change. From the
// 64th signature on it takes less than half of the time; the table takes 0.4 MB. Copies share it.
func (p Public) Often() Public {
	if p.Kind == P256 && p.often == nil {
		p.often = &often{}
	}
	return p
}

// often counts what a key verified, and has the table once that pays.
type often struct {
	count atomic.Int64
	table atomic.Pointer[multiples]
}

// oftenEnough is from which verification on a key has a table: to make one takes as long as 40 verifications.
const oftenEnough = 64

// of gives the table; nil before it is there, and for a key that it cannot be made for. Then the standard library
// verifies.
func (o *often) of(pub *ecdsa.PublicKey) *multiples {
	if t := o.table.Load(); t != nil || o.count.Add(1) != oftenEnough {
		return t
	}
	encoded, err := pub.Bytes()
	if err != nil {
		return nil
	}
	point, err := nistec.NewP256Point().SetBytes(encoded)
	if err != nil {
		return nil
	}
	t := multiplesOf(point)
	o.table.Store(t)
	return t
}

// multiples of a point of P-256: row i has it 1 to 128 times 256^i. A digit of a scalar is from -127 to 128, so that
// half of a row is enough; what is carried out of the last digit is the last point.
type multiples struct {
	rows [32][128]nistec.P256Point
	last nistec.P256Point
}

func multiplesOf(point *nistec.P256Point) *multiples {
	t := &multiples{}
	base := nistec.NewP256Point().Set(point)
	for i := range t.rows {
		row := &t.rows[i]
		row[0].Set(base)
		for j := 1; j < len(row); j++ {
			row[j].Add(&row[j-1], base)
		}
		base.Double(&row[len(row)-1])
	}
	t.last.Set(base)
	return t
}

// addTo adds the point, a scalar of 32 octets times, to a sum.
func (t *multiples) addTo(sum *nistec.P256Point, scalar *[32]byte) {
	minus := nistec.NewP256Point() // the sum of what is subtracted, negated once
	carry := 0
	for i := range t.rows {
		digit := int(scalar[31-i]) + carry
		if carry = 0; digit > 128 {
			digit, carry = digit-256, 1
		}
		switch {
		case digit > 0:
			sum.Add(sum, &t.rows[i][digit-1])
		case digit < 0:
			minus.Add(minus, &t.rows[i][-digit-1])
		}
	}
	if carry == 1 {
		sum.Add(sum, &t.last)
	}
	sum.Add(sum, minus.Negate(minus))
}

// verify checks a signature over a digest (FIPS 186-5 section 6.4.2, SEC 1 section 4.1.4).
func (t *multiples) verify(digest, signature []byte) bool {
	order := elliptic.P256().Params().N
	r, s, ok := readSignature(signature)
	if !ok || r.Sign() <= 0 || s.Sign() <= 0 || r.Cmp(order) >= 0 || s.Cmp(order) >= 0 {
		return false
	}
	e := new(big.Int).SetBytes(digest[:min(len(digest), 32)]) // the leftmost bits of a longer digest
	w := s.ModInverse(s, order)
	var u1, u2 [32]byte
	e.Mul(e, w).Mod(e, order).FillBytes(u1[:])
	w.Mul(w, r).Mod(w, order).FillBytes(u2[:])
	sum, err := nistec.NewP256Point().ScalarBaseMult(u1[:])
	if err != nil {
		return false
	}
	t.addTo(sum, &u2)
	x, err := sum.BytesX()
	if err != nil { // the point at infinity
		return false
	}
	v := e.SetBytes(x)
	return v.Mod(v, order).Cmp(r) == 0
}

// readSignature reads the two values (RFC 3279 section 2.2.3), in DER and without anything behind them.
func readSignature(der []byte) (r, s *big.Int, ok bool) {
	in := cryptobyte.String(der)
	var inner cryptobyte.String
	r, s = new(big.Int), new(big.Int)
	ok = in.ReadASN1(&inner, casn1.SEQUENCE) && in.Empty() && inner.ReadASN1Integer(r) && inner.ReadASN1Integer(s) &&
		inner.Empty()
	return r, s, ok
}
