package label

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"
)

// A fingerprint is read in every spelling that people type and paste, and what is none is
// told for what it is.
func TestFingerprintsAreReadAsPeopleWriteThem(t *testing.T) {
	sum := sha256.Sum256([]byte("tern"))
	plain := fmt.Sprintf("%x", sum)
	spaced := ""
	for i := 0; i < len(plain); i += 4 {
		spaced += plain[i:i+4] + " "
	}
	for _, typed := range []string{plain, strings.ToUpper(plain), Colons(sum[:]), spaced, "SHA-256: " + Colons(sum[:]),
		"sha256 Fingerprint="[:7] + plain, "\u200b" + plain[:10] + "\u202e\u00a0" + plain[10:] + "\n",
		"\ufeff" + strings.ReplaceAll(Colons(sum[:]), ":", "-")} {
		if got, err := ReadSHA256(typed); err != nil || got != sum {
			t.Errorf("%q: %x %v", typed, got, err)
		}
	}
	for typed, want := range map[string]string{plain[:63]: "63 digits", plain[:40]: "SHA-1", plain[:32]: "MD5",
		"": "0 digits", plain + "00": "66 digits", "7K2M-9QXT-04HB-W3ZE": "no hexadecimal digit",
		plain[:62] + "о0": "no hexadecimal digit"} {
		t.Run(typed, func(t *testing.T) {
			if _, err := ReadSHA256(typed); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v, want %q", typed, err, want)
			}
		})
	}
}

func FuzzReadSHA256(f *testing.F) {
	f.Add("SHA-256: AB:CD")
	f.Fuzz(func(t *testing.T, typed string) {
		if sum, err := ReadSHA256(typed); err == nil {
			if again, err := ReadSHA256(Colons(sum[:])); err != nil || again != sum {
				t.Errorf("%q is %x, and reads back as %x, %v", typed, sum, again, err)
			}
		}
	})
}
