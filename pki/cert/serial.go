package cert

import (
	"encoding/hex"
	"math/big"
)

// Serial is a serial number as it stood in a certificate or a list: any integer,
// since others hand out 1, 0 and negative ones. It cannot be changed. The zero value
// is the serial 0.
type Serial struct{ n *big.Int }

// SerialOf makes a serial of a number.
func SerialOf(n *big.Int) Serial { return Serial{new(big.Int).Set(n)} }

// Big is the serial as a number of its own.
func (s Serial) Big() *big.Int {
	if s.n == nil {
		return new(big.Int)
	}
	return new(big.Int).Set(s.n)
}

// Hex is the serial in lower-case hex, in whole bytes; with a minus before it where
// it is negative.
func (s Serial) Hex() string {
	if s.n == nil {
		return "00"
	}
	sign := ""
	if s.n.Sign() < 0 {
		sign = "-"
	}
	size := max(1, (s.n.BitLen()+7)/8)
	return sign + hex.EncodeToString(s.n.FillBytes(make([]byte, size))) // the bytes are those without the sign
}

// shortest is how many digits of a serial people are shown where there are more.
const shortest = 8

// Short is what people are shown of a serial: its first eight digits, or all of it.
func (s Serial) Short() string { return ShortSerial(s.Hex()) }

// ShortSerial shortens a serial that is written in hex already.
func ShortSerial(hex string) string { return hex[:min(shortest, len(hex))] }

// String is Hex.
func (s Serial) String() string { return s.Hex() }
