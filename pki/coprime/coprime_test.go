package coprime

import (
	"crypto/rand"
	"math/big"
	"testing"
)

// A shared prime is found among many moduli, whichever row it is in, and nothing is found
// where none is shared.
func TestSharedPrimesAreFound(t *testing.T) {
	prime := func() *big.Int {
		p, err := rand.Prime(rand.Reader, 96)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	shared := prime()
	var rows Rows
	for i := range perRow + 3 {
		p := prime()
		if i == 7 || i == perRow+1 {
			p = shared
		}
		rows.Add([32]byte{byte(i), byte(i >> 8)}, new(big.Int).Mul(p, prime()))
	}
	if len(rows) != 2 || len(rows[0].Keys) != 32*perRow || len(rows[1].Keys) != 3*32 {
		t.Fatalf("%d rows", len(rows))
	}
	for i, r := range rows {
		if !Shares(r.Product, new(big.Int).Mul(shared, prime())) {
			t.Errorf("row %d: the shared prime is not found", i)
		}
		if Shares(r.Product, new(big.Int).Mul(prime(), prime())) {
			t.Errorf("row %d: a prime is found that nobody shares", i)
		}
	}
}
