// Package paper writes secrets for people to keep on paper and to type again: in groups of four symbols, line by line,
// each line with a check of its own, so that a typing error is found at once and in its line.
//
// The symbols are those of check codes (Crockford's base 32): case does not count, O is read as 0, I and L as 1, and
// blanks and hyphens between groups do not matter.
package paper

import (
	"bytes"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"fmt"
	"strings"

	"ironseal/pki/fault"
)

// lineBytes is what a line holds: six groups of four symbols. Its check is a group of two.
const lineBytes = 15

// MostBytes bounds what is written, and read.
const MostBytes = 600

const symbols = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"

var encoding = base32.NewEncoding(symbols).WithPadding(base32.NoPadding)

// Lines writes a secret.
func Lines(secret []byte) []string {
	var out []string
	for n := 0; len(secret) > 0; n++ {
		part := secret[:min(lineBytes, len(secret))]
		secret = secret[len(part):]
		text := encoding.EncodeToString(part)
		var groups []string
		for len(text) > 0 {
			end := min(4, len(text))
			groups, text = append(groups, text[:end]), text[end:]
		}
		out = append(out, strings.Join(append(groups, check(n, part)), "-"))
	}
	return out
}

// check is two symbols over a line and its place.
func check(n int, part []byte) string {
	sum := sha256.Sum256(append([]byte{'l', byte(n)}, part...))
	return string([]byte{symbols[sum[0]&31], symbols[sum[1]&31]})
}

// Read reads lines that were typed. The error names the first line that cannot be right.
func Read(lines []string) ([]byte, error) {
	var out []byte
	for _, line := range lines {
		if strings.TrimSpace(line) == "" {
			continue
		}
		part, err := ReadLine(len(out)/lineBytes, line)
		if err != nil {
			return nil, err
		}
		if len(out)%lineBytes != 0 || len(out)+len(part) > MostBytes {
			return nil, fault.New(fault.BadInput, "line %d does not belong to it: the one before is the last",
				len(out)/lineBytes+2)
		}
		out = append(out, part...)
	}
	if len(out) == 0 {
		return nil, fault.New(fault.BadInput, "nothing was typed")
	}
	return out, nil
}

// ReadLine reads one line; n counts from 0.
func ReadLine(n int, line string) ([]byte, error) {
	wrong := func(format string, args ...any) ([]byte, error) {
		return nil, fault.New(fault.BadInput, "line %d: %w", n+1, fmt.Errorf(format, args...))
	}
	if len(line) > 200 {
		return wrong("it is too long")
	}
	var text []byte
	for _, r := range strings.ToUpper(line) {
		switch r {
		case ' ', '-', '\t', '\r':
			continue
		case 'O':
			r = '0'
		case 'I', 'L':
			r = '1'
		}
		if !strings.ContainsRune(symbols, r) {
			return wrong("%q is no symbol of it", r)
		}
		text = append(text, byte(r))
	}
	if len(text) < 4 || len(text) > 26 {
		return wrong("it has %d symbols; a whole line has 26", len(text))
	}
	body, typed := text[:len(text)-2], text[len(text)-2:]
	part := make([]byte, encoding.DecodedLen(len(body)))
	if _, err := encoding.Decode(part, body); err != nil || !bytes.Equal([]byte(encoding.EncodeToString(part)), body) {
		return wrong("a symbol is missing, or mistyped")
	}
	if subtle.ConstantTimeCompare([]byte(check(n, part)), typed) != 1 {
		return wrong("a symbol is mistyped, or it is another line")
	}
	return part, nil
}
