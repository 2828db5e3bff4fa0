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
		t.Run(in, func(t *testing.T) {
			got, err := ToDER(unhex(t, in))
			if err != nil || !bytes.Equal(got, unhex(t, want)) {
				t.Errorf("%s gives %x, %v", in, got, err)
			}
		})
	}
	for _, bad := range []string{"", "30", "30 80", "30 80 02 01 05", "02 80 00 00", "30 05 02 01", "30 84 ff ff ff ff",
		"24 04 1f 81 01 00", "24 03 02 01 05", // pieces that are no OCTET STRINGs (X.690 section 8.7.3.2)
		strings.Repeat("30 80 ", 100)} {
		if got, err := ToDER(unhex(t, bad)); err == nil {
			t.Errorf("%q gives %x", bad, got)
		}
	}
}

func TestPiecesAreJoined(t *testing.T) {
	if got, err := Joined(unhex(t, "04 02 61 62 04 00 04 01 63")); err != nil || string(got) != "abc" {
		t.Errorf("%q, %v", got, err)
	}
	for _, bad := range []string{"04", "ff", "04 02 61", "04 80 00 00", "02 01 05", "ff 00 00"} {
		if got, err := Joined(unhex(t, bad)); err == nil {
			t.Errorf("%q gives %x", bad, got)
		}
	}
}

func TestElementsAreCounted(t *testing.T) {
	for in, want := range map[string]int{"": 0, "05 00": 1, "05 00 02 01 05 30 00": 3, "05 00 02 01": 1,
		"05 80 00 00": 0, "05 00 05 00 05 00 05 00 05 00": 4} {
		t.Run(in, func(t *testing.T) {
			if n := Count(unhex(t, in), 4); n != want {
				t.Errorf("%d elements", n)
			}
		})
	}
}

// What comes out is DER to this package: it is left as it is.
func FuzzToDER(f *testing.F) {
	f.Add([]byte{0x30, 0x80, 0x24, 0x80, 4, 1, 'a', 4, 1, 'b', 0, 0, 0, 0})
	f.Add([]byte{0x24, 0x04, 0x1f, 0x81, 0x01, 0x00})
	f.Add([]byte{0xbf, 0x81, 0x01, 0x83, 0, 0, 2, 5, 0})
	f.Fuzz(func(t *testing.T, data []byte) {
		out, err := ToDER(data)
		if err != nil {
			return
		}
		if again, err := ToDER(out); err != nil || !bytes.Equal(again, out) {
			t.Errorf("%x gives %x, and that %x, %v", data, out, again, err)
		}
	})
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
