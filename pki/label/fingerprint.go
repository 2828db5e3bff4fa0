package label

import (
	"encoding/hex"
	"fmt"
	"strings"

	"ironseal/pki/runes"
)

// Digits are the hexadecimal digits of a serial number or a fingerprint as people type and paste it: colons,
// blanks, hyphens, case, the name of a hash in front and characters that no one sees do not count. odd is the
// first character that is none of these, or 0.
func Digits(typed string) (digits string, odd rune) {
	text := strings.ToLower(typed) // which may have another length
	for _, head := range []string{"sha-256", "sha256", "sha-1", "sha1"} {
		if at := strings.Index(text, head); at >= 0 {
			text = text[at+len(head):]
		}
	}
	var b strings.Builder
	for _, r := range text {
		switch {
		case runes.Hostile(r) || strings.ContainsRune(" :-=._,;\t", r) || r == 0xa0:
		case r >= '0' && r <= '9' || r >= 'a' && r <= 'f':
			b.WriteRune(r)
		default:
			return b.String(), r
		}
	}
	return b.String(), 0
}

// ReadSHA256 reads a SHA-256 fingerprint as people type and paste it: colons, blanks,
// hyphens, case, a name in front and characters that no one sees do not count. The error
// says what it is instead, where that can be reported.
func ReadSHA256(typed string) (sum [32]byte, err error) {
	digits, odd := Digits(typed)
	if odd != 0 {
		return sum, fmt.Errorf("fingerprint: %q is no hexadecimal digit: SHA-256 fingerprints have 64 of 0 to 9 and "+
			"a to f", string(odd))
	}
	b, err := hex.DecodeString(digits)
	n := len(digits)
	switch {
	case n == 64 && err == nil:
		return [32]byte(b), nil
	case n == 40:
		return sum, fmt.Errorf("fingerprint: this is a SHA-1 fingerprint (40 digits), which can be forged: ask for " +
			"the SHA-256 one")
	case n == 32:
		return sum, fmt.Errorf("fingerprint: this is an MD5 fingerprint (32 digits) or half of another: ask for the " +
			"SHA-256 one, of 64 digits")
	}
	return sum, fmt.Errorf("fingerprint: it has %d digits, and a SHA-256 fingerprint has 64: was it copied whole?", n)
}
