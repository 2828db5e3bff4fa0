package ber

import (
	"bytes"
	"strings"
	"testing"
)

func TestOpenLengthsAndPieces(t *testing.T) {
	for in, want := range map[string]string{
		"30 80 02 01 05 00 00":                      "30 03 02 01 05",
		"30 80 30 80 02 01 05 00 00 00 00":          "30 05 30 03 02 01 05",
		"24 80 04 02 61 62 04 01 63 00 00":          "04 03 61 62 63",
		"30 81 03 02 01 05":                         "30 03 02 01 05",
		"a0 80 24 80 04 01 61 04 01 62 00 00 00 00": "a0 04 04 02 61 62",
	} {
		got, err := ToDER(unhex(t, in))
		if err != nil || !bytes.Equal(got, unhex(t, want)) {
			t.Errorf("%s gives %x, %v", in, got, err)
		}
	}
	for _, bad := range []string{"", "30", "30 80", "30 80 02 01 05", "02 80 00 00", "30 05 02 01", "30 84 ff ff ff ff",
		strings.Repeat("30 80 ", 100)} {
		if got, err := ToDER(unhex(t, bad)); err == nil {
			t.Errorf("%q gives %x", bad, got)
		}
	}
}

func unhex(t *testing.T, s string) []byte {
	t.Helper()
	var out []byte
	for _, f := range strings.Fields(s) {
		var b byte
		for _, c := range f {
			b = b<<4 | byte(strings.IndexRune("0123456789abcdef", c))
		}
		out = append(out, b)
	}
	return out
}
