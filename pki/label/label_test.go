package label

import (
	"crypto/sha256"
	"encoding/base32"
	"strings"
	"testing"
)

func TestCheckCodeIsBase32OfTheFirst80Bits(t *testing.T) {
	for _, s := range []string{"", "a", "tern bay"} {
		sum := sha256.Sum256([]byte(s))
		want := base32.NewEncoding(crockford).EncodeToString(sum[:10])
		if got := strings.ReplaceAll(CheckCode([]byte(s)), "-", ""); got != want {
			t.Errorf("%q: %s, want %s", s, got, want)
		}
	}
	if got := ReadCode(" 7k2m 9qxt-o4hb–w3ze\u200b"); got != "7K2M-9QXT-04HB-W3ZE" {
		t.Errorf("a code typed carelessly reads as %s", got)
	}
	if got := PasteTail(make([]byte, 30)); got != "AAAAAAAA…AAAAAAAA (40 characters)" {
		t.Errorf("paste tail %s", got)
	}
}

func TestFileNamesAreSafe(t *testing.T) {
	for in, want := range map[string]string{
		"booking.ternbay.example": "booking.ternbay.example", "*.ternbay.example": "any.ternbay.example",
		"../../etc/x":       "etc-x",
		"a\x00b\nc\x1b[31m": "ab-c31m", "": "unnamed", "...": "unnamed", "CON": "host-CON", "nul.txt": "host-nul.txt",
		"\u202egnp.exe": "gnp.exe",
		"Tern Bay Root": "Tern-Bay-Root", "2001:db8::1": "2001-db8--1",
		strings.Repeat("x", 300): strings.Repeat("x", 100), "~/.ssh": "ssh",
	} {
		t.Run(in, func(t *testing.T) {
			if got := FileName(in); got != want {
				t.Errorf("FileName(%q) = %q, want %q", in, got, want)
			}
		})
	}
}

func FuzzFileName(f *testing.F) {
	f.Add("../../etc/x")
	f.Fuzz(func(t *testing.T, s string) {
		n := FileName(s)
		if n == "" || n == "." || strings.ContainsAny(n, "/\\:\x00\n*?<>|\"") || strings.HasPrefix(n, ".") ||
			strings.Contains(n, "..") || len(n) > 110 {
			t.Fatalf("FileName(%q) = %q", s, n)
		}
	})
}

func TestHashesAreWrittenAsOthersDo(t *testing.T) {
	if got := Colons([]byte{0, 0xab, 0x7f}); got != "00:AB:7F" {
		t.Error(got)
	}
}
