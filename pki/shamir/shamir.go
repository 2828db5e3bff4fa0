// Package shamir divides a secret among custodians, so that some of them together can give it back, and fewer learn
// nothing of it (A. Shamir, How to Share a Secret, 1979).
//
// Each octet of the secret is the value at 0 of a polynomial over GF(2^8) whose other coefficients are random; a share
// is the value at its own number. The field is that of AES: polynomials over GF(2) modulo x^8 + x^4 + x^3 + x + 1.
// Arithmetic takes the same time whatever the numbers are: there are no tables, and no branches on secrets.
package shamir

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strings"

	"ironseal/pki/fault"
	"ironseal/pki/paper"
)

// Most is how many custodians there can be.
const Most = 16

// SecretBytes is the length of the secrets that are divided.
const SecretBytes = 32

// multiply multiplies in GF(2^8).
func multiply(a, b byte) (p byte) {
	for range 8 {
		p ^= a & -(b & 1)
		a = a<<1 ^ 0x1b&-(a>>7)
		b >>= 1
	}
	return p
}

// inverse is the inverse of a number other than 0: its 254th power.
func inverse(a byte) byte {
	p, square := byte(1), a
	for i := range 8 {
		if i > 0 { // 254 is binary 11111110
			p = multiply(p, square)
		}
		square = multiply(square, square)
	}
	return p
}

// at is the value of a polynomial, whose coefficients begin with that of x^0.
func at(coefficients []byte, x byte) (y byte) {
	for _, c := range slices.Backward(coefficients) {
		y = multiply(y, x) ^ c
	}
	return y
}

// values divides octets: each share has as many. x counts from 1.
func values(secret []byte, need, n int, random io.Reader) ([][]byte, error) {
	out := make([][]byte, n)
	coefficients := make([]byte, need)
	defer clear(coefficients)
	for _, octet := range secret {
		coefficients[0] = octet
		if _, err := io.ReadFull(random, coefficients[1:]); err != nil {
			return nil, err
		}
		for i := range out {
			out[i] = append(out[i], at(coefficients, byte(i+1)))
		}
	}
	return out, nil
}

// join gives octets back: x are the numbers of the shares, which differ.
func join(x []byte, y [][]byte) []byte {
	out := make([]byte, len(y[0]))
	for i := range x {
		weight := byte(1) // Lagrange's polynomial of this share, at 0
		for j := range x {
			if j != i {
				weight = multiply(weight, multiply(x[j], inverse(x[j]^x[i])))
			}
		}
		for k := range out {
			out[k] ^= multiply(weight, y[i][k])
		}
	}
	return out
}

// Share is what one custodian has.
type Share struct {
	Split  [4]byte // which division it is of
	Need   int     // how many give the secret back
	Number int     // 1, 2 ...
	value  []byte
}

// Divide divides a secret among n custodians, need of whom give it back.
func Divide(secret []byte, need, n int, random io.Reader) ([]Share, error) {
	switch {
	case len(secret) != SecretBytes:
		return nil, fault.New(fault.Internal, "a secret of %d bytes is divided, not of %d", SecretBytes, len(secret))
	case need < 2 || n > Most || need > n:
		return nil, fault.New(fault.BadInput, "%d of %d: at least 2 are needed, and there are at most %d", need, n,
			Most)
	}
	var split [4]byte
	if _, err := io.ReadFull(random, split[:]); err != nil {
		return nil, err
	}
	list, err := values(secret, need, n, random)
	if err != nil {
		return nil, err
	}
	var out []Share
	for i, v := range list {
		out = append(out, Share{split, need, i + 1, v})
	}
	return out, nil
}

// Combine gives the secret back. The shares are of one division, and differ.
func Combine(shares []Share) ([]byte, error) {
	var x []byte
	var y [][]byte
	for _, s := range shares {
		switch {
		case s.Split != shares[0].Split || s.Need != shares[0].Need:
			return nil, fault.New(fault.BadInput, "share %d is of another division", s.Number)
		case slices.Contains(x, byte(s.Number)):
			return nil, fault.New(fault.BadInput, "share %d is there twice", s.Number)
		}
		x, y = append(x, byte(s.Number)), append(y, s.value)
	}
	if len(shares) == 0 || len(shares) < shares[0].Need {
		return nil, fault.New(fault.BadInput, "there are too few shares")
	}
	return join(x, y), nil
}

// form is the first octet of a share's encoding.
const form = 1

// Encode writes a share.
func (s Share) Encode() []byte {
	out := append([]byte{form}, s.Split[:]...)
	return append(append(out, byte(s.Need), byte(s.Number)), s.value...)
}

// Decode reads a share.
func Decode(data []byte) (Share, error) {
	if len(data) != 7+SecretBytes || data[0] != form {
		return Share{}, fault.New(fault.BadInput, "this is no share of a key")
	}
	s := Share{Split: [4]byte(data[1:5]), Need: int(data[5]), Number: int(data[6]), value: slices.Clone(data[7:])}
	if s.Need < 2 || s.Need > Most || s.Number < 1 || s.Number > Most {
		return Share{}, fault.New(fault.BadInput, "this is no share of a key: %d of %d", s.Number, s.Need)
	}
	return s, nil
}

// Lines are the lines of a share on paper.
func (s Share) Lines() []string { return paper.Lines(s.Encode()) }

// Clear wipes the share's value.
func (s Share) Clear() { clear(s.value) }

// digest is what a note keeps of a share, to know it again. Of a value of 256 random bits it tells nothing.
func (s Share) digest() string {
	sum := sha256.Sum256(append([]byte("a share of a key\x00"), s.Encode()...))
	return hex.EncodeToString(sum[:])
}

// Custodian is someone who has a share.
type Custodian struct {
	Name   string `json:"name"`
	Number int    `json:"number"`
	Digest string `json:"sha256"` // of the share
}

// Note tells who has the shares of a key, beside the file that they open. There is no secret in it.
type Note struct {
	Split      string      `json:"split"` // in hex
	Need       int         `json:"need"`
	Custodians []Custodian `json:"custodians"`
	File       string      `json:"file"` // SHA-256 of the key's file that they open, in hex
}

// NoteOf notes who has which share.
func NoteOf(shares []Share, names []string) Note {
	out := Note{Split: hex.EncodeToString(shares[0].Split[:]), Need: shares[0].Need}
	for i, s := range shares {
		out.Custodians = append(out.Custodians, Custodian{names[i], s.Number, s.digest()})
	}
	return out
}

// Whose finds out whose share it is. The error says what is wrong with a share that no custodian has.
func (n Note) Whose(s Share) (Custodian, error) {
	if hex.EncodeToString(s.Split[:]) != n.Split {
		return Custodian{}, fault.New(fault.Refused, "it is a share of another key, or of an earlier division of "+
			"this one")
	}
	for _, c := range n.Custodians {
		if c.Number == s.Number {
			if subtle.ConstantTimeCompare([]byte(c.Digest), []byte(s.digest())) == 1 {
				return c, nil
			}
			return c, fault.New(fault.Refused, "it is not the share that %s was given: it was changed", c.Name)
		}
	}
	return Custodian{}, fault.New(fault.Refused, "no custodian was given share %d", s.Number)
}

// Missing names those whose shares are not there yet.
func (n Note) Missing(have []Share) (out []string) {
	for _, c := range n.Custodians {
		if !slices.ContainsFunc(have, func(s Share) bool { return s.Number == c.Number }) {
			out = append(out, c.Name)
		}
	}
	return out
}

// CheckNames refuses names of custodians that could be mistaken for each other.
func CheckNames(names []string) error {
	seen := map[string]bool{}
	for _, n := range names {
		folded := strings.ToLower(n)
		bad := strings.Trim(folded, "abcdefghijklmnopqrstuvwxyz0123456789-_.") != ""
		if n == "" || len(n) > 40 || bad || n[0] == '.' || n[0] == '-' || seen[folded] {
			return fault.New(fault.BadInput, "custodian %q: a name has letters, digits, and . _ - inside, and is "+
				"there once", n)
		}
		seen[folded] = true
	}
	return nil
}

// Text is the secret as a passphrase of a key's file.
func Text(secret []byte) []byte { return fmt.Appendf(nil, "%x", secret) }
