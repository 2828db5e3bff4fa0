// Package ber rewrites what others encode by the basic rules of ASN.1 (X.690) by the
// distinguished ones: lengths that were left open are closed, strings in pieces joined.
package ber

import (
	"errors"
)

// Containers from older software are often in BER: lengths left open, strings
// cut into pieces. toDER rewrites such input in DER form, bounded in depth, and
// leaves DER as it is. It does not sort sets: their order carries the chain.

const deepest = 32

var errBER = errors.New("it is not an ASN.1 structure")

// ToDER rewrites one structure; nesting is bounded.
func ToDER(in []byte) ([]byte, error) {
	out, rest, err := berElement(in, 0)
	if err != nil {
		return nil, err
	}
	if len(rest) > 0 {
		return nil, errBER
	}
	return out, nil
}

// berElement rewrites the first element of in.
func berElement(in []byte, depth int) (out, rest []byte, err error) {
	if len(in) < 2 || depth > deepest {
		return nil, nil, errBER
	}
	tagLen := 1
	if in[0]&0x1f == 0x1f {
		for tagLen < len(in) && tagLen < 6 && in[tagLen]&0x80 != 0 {
			tagLen++
		}
		tagLen++
	}
	if tagLen >= len(in) {
		return nil, nil, errBER
	}
	tag, constructed := in[:tagLen], in[0]&0x20 != 0
	body, rest, open, err := berLength(in[tagLen:])
	if err != nil || open && !constructed {
		return nil, nil, errBER
	}
	if !constructed {
		return appendElement(tag, body), rest, nil
	}
	content, tail, err := berContent(body, open, depth)
	if err != nil {
		return nil, nil, err
	}
	if open {
		rest = tail
	}
	// A primitive string in pieces: OCTET STRING, or context tags over one.
	if in[0] == 0x24 {
		whole, err := Joined(content)
		return appendElement([]byte{0x04}, whole), rest, err
	}
	return appendElement(tag, content), rest, nil
}

func berLength(in []byte) (body, rest []byte, open bool, err error) {
	n := int(in[0])
	switch {
	case n == 0x80:
		return in[1:], nil, true, nil
	case n < 0x80:
		in = in[1:]
	default:
		count := n & 0x7f
		if count > 4 || len(in) < 1+count {
			return nil, nil, false, errBER
		}
		n = 0
		for _, b := range in[1 : 1+count] {
			n = n<<8 | int(b)
		}
		in = in[1+count:]
	}
	if n < 0 || n > len(in) {
		return nil, nil, false, errBER
	}
	return in[:n], in[n:], false, nil
}

// berContent rewrites the elements inside a constructed one; with an open
// length it ends at two zero bytes.
func berContent(body []byte, open bool, depth int) (content, rest []byte, err error) {
	for {
		if open && len(body) >= 2 && body[0] == 0 && body[1] == 0 {
			return content, body[2:], nil
		}
		if len(body) == 0 {
			if open {
				return nil, nil, errBER
			}
			return content, nil, nil
		}
		var one []byte
		if one, body, err = berElement(body, depth+1); err != nil {
			return nil, nil, err
		}
		content = append(content, one...)
	}
}

// Joined takes the pieces of a string together. Each is an OCTET STRING (X.690 section 8.7.3)
// in DER, as ToDER leaves it.
func Joined(b []byte) ([]byte, error) {
	var out []byte
	for len(b) > 0 {
		if len(b) < 2 || b[0] != 0x04 {
			return nil, errBER
		}
		body, rest, open, err := berLength(b[1:])
		if err != nil || open {
			return nil, errBER
		}
		out, b = append(out, body...), rest
	}
	return out, nil
}

func appendElement(tag, body []byte) []byte {
	out := append([]byte(nil), tag...)
	switch n := len(body); {
	case n < 0x80:
		out = append(out, byte(n))
	case n < 1<<8:
		out = append(out, 0x81, byte(n))
	case n < 1<<16:
		out = append(out, 0x82, byte(n>>8), byte(n))
	case n < 1<<24:
		out = append(out, 0x83, byte(n>>16), byte(n>>8), byte(n))
	default:
		out = append(out, 0x84, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
	}
	return append(out, body...)
}
