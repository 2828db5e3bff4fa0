// Package label writes what people and file systems tell objects apart by: check codes
// to be read aloud, paste tails to be compared by eye, and names of files.
//
// A check code is 80 bits of a hash in an alphabet without letters that can be misheard.
// A file name is made of whatever text a stranger chose, and is safe on every platform:
// no such text reaches a path in any other way.
package label

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strings"
	"sync"
	"unicode"
)

// crockford is the alphabet of Crockford's base 32: no I, L, O or U, so that
// nothing can be misheard or misread.
const crockford = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"

// Code writes the first 80 bits of a hash as 16 symbols in four groups.
func Code(sum [32]byte) string {
	var b strings.Builder
	for i := range 16 {
		bit := 5 * i
		window := uint16(sum[bit/8])<<8 | uint16(sum[bit/8+1])
		if i > 0 && i%4 == 0 {
			b.WriteByte('-')
		}
		b.WriteByte(crockford[window>>(11-bit%8)&31])
	}
	return b.String()
}

// CheckCode is the code by which two people compare an object aloud: the first
// 80 bits of the SHA-256 of its DER.
func CheckCode(der []byte) string { return Code(sha256.Sum256(der)) }

// ReadCode brings a code that someone typed to its canonical form: case, blanks
// and hyphens do not count, I and L are 1, O is 0.
func ReadCode(s string) string {
	var out strings.Builder
	n := 0
	for _, r := range strings.ToUpper(s) {
		switch {
		case r == 'I' || r == 'L':
			r = '1'
		case r == 'O':
			r = '0'
		case !strings.ContainsRune(crockford, r):
			continue
		}
		if n > 0 && n%4 == 0 {
			out.WriteByte('-')
		}
		out.WriteRune(r)
		n++
	}
	return out.String()
}

// PasteTail is what a person without this tool can compare at the other end of
// a clipboard: the first and last eight characters of the base 64 body, and how
// many characters it has.
func PasteTail(der []byte) string {
	s := base64.StdEncoding.EncodeToString(der)
	if len(s) <= 16 {
		return fmt.Sprintf("%s (%d characters)", s, len(s))
	}
	return fmt.Sprintf("%s…%s (%d characters)", s[:8], s[len(s)-8:], len(s))
}

// Colons writes a hash as most programs show the hash of a certificate, so that the two
// can be compared by eye.
func Colons(b []byte) string {
	pairs := make([]string, len(b))
	for i, x := range b {
		pairs[i] = fmt.Sprintf("%02X", x)
	}
	return strings.Join(pairs, ":")
}

// reserved are file names that one of the platforms keeps for itself.
var reserved = sync.OnceValue(func() map[string]bool {
	return map[string]bool{"con": true, "prn": true, "aux": true, "nul": true, "com1": true, "com2": true,
		"com3": true, "com4": true, "com5": true, "com6": true, "com7": true, "com8": true, "com9": true, "com0": true,
		"lpt1": true, "lpt2": true, "lpt3": true, "lpt4": true, "lpt5": true, "lpt6": true, "lpt7": true, "lpt8": true,
		"lpt9": true, "lpt0": true}
})

// FileName makes a name from a certificate or request safe as the stem of a
// file name on every platform. A wildcard's "*" becomes "any". What is left
// empty becomes "unnamed".
func FileName(name string) string { return safeName(name, 100) }

// IsFileName reports whether a name from outside is safe as it stands.
func IsFileName(name string) bool { return safeName(name, 200) == name }

func safeName(name string, most int) string {
	var b strings.Builder
	for _, r := range strings.ReplaceAll(name, "*", "any") {
		switch {
		case b.Len() >= most:
		case r < 128 && (unicode.IsLetter(r) || unicode.IsDigit(r)), r == '-', r == '.', r == '_':
			b.WriteRune(r)
		case unicode.IsSpace(r), r == ':', r == '@', r == '/', r == '\\':
			b.WriteByte('-')
		}
	}
	out := strings.Trim(b.String(), ".- ")
	for strings.Contains(out, "..") {
		out = strings.ReplaceAll(out, "..", ".")
	}
	switch {
	case out == "":
		return "unnamed"
	case IsDevice(out):
		return "host-" + out
	}
	return out
}

// IsDevice reports whether Windows takes a file with this name for a device, whatever its ending.
func IsDevice(name string) bool {
	stem, _, _ := strings.Cut(strings.ToLower(name), ".")
	return reserved()[stem]
}
