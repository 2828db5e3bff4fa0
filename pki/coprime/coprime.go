// Package coprime finds RSA keys that share a prime: a greatest common divisor gives both
// private keys away. So that a new key can be compared with all others in one reading,
// their moduli are kept multiplied together, some hundreds to a row.
package coprime

import "math/big"

// perRow is how many moduli one row holds.
const perRow = 256

// Row is a product of moduli.
type Row struct {
	ID      int64  // in whatever keeps it; 0 for a new one
	Keys    []byte // fingerprints of the keys, 32 bytes each, in the order in which they came
	Product *big.Int
	Changed bool
}

// Shares reports whether a modulus has a prime in common with a product of others, or with
// another modulus.
func Shares(product, n *big.Int) bool {
	rest := new(big.Int).Rem(product, n)
	return rest.Sign() == 0 || new(big.Int).GCD(nil, nil, rest, n).Cmp(big.NewInt(1)) != 0
}

// Rows are products, the newest last.
type Rows []Row

// Add multiplies a key's modulus into the last row, or begins another.
func (r *Rows) Add(sum [32]byte, n *big.Int) {
	if len(*r) == 0 || len((*r)[len(*r)-1].Keys) >= 32*perRow {
		*r = append(*r, Row{Product: big.NewInt(1)})
	}
	last := &(*r)[len(*r)-1]
	last.Keys = append(last.Keys, sum[:]...)
	last.Product.Mul(last.Product, n)
	last.Changed = true
}
