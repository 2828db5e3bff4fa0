package ber

import (
	"math/bits"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

// Append appends an element by the distinguished rules: a tag, the length, and the content in
// pieces (X.690 section 8.1). It is for what is encoded many times; the rest is built with
// cryptobyte.
func Append(to []byte, tag byte, content ...[]byte) []byte {
	n := 0
	for _, c := range content {
		n += len(c)
	}
	to = AppendHeader(to, tag, n)
	for _, c := range content {
		to = append(to, c...)
	}
	return to
}

// AppendHeader appends a tag and the length of what will follow.
func AppendHeader(to []byte, tag byte, n int) []byte {
	to = append(to, tag)
	if n < 0x80 {
		return append(to, byte(n))
	}
	size := (bits.Len(uint(n)) + 7) / 8
	to = append(to, 0x80|byte(size))
	for i := size - 1; i >= 0; i-- {
		to = append(to, byte(n>>(8*i)))
	}
	return to
}

// HeaderSize is how many octets AppendHeader appends.
func HeaderSize(n int) int {
	if n < 0x80 {
		return 2
	}
	return 2 + (bits.Len(uint(n))+7)/8
}

// Count is how many elements by the distinguished rules stand one behind the other, up to most; those behind one that
// cannot be parsed do not count. It says how much room what is read needs.
func Count(in []byte, most int) int {
	n := 0
	for rest := cryptobyte.String(in); n < most; n++ {
		var element cryptobyte.String
		var tag casn1.Tag
		if !rest.ReadAnyASN1Element(&element, &tag) {
			break
		}
	}
	return n
}
