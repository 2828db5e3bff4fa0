package paper

import (
	"bytes"
	"strings"
	"testing"
)

func TestWhatIsWrittenIsRead(t *testing.T) {
	for n := 1; n <= MostBytes; n += 7 {
		secret := bytes.Repeat([]byte{0xA5, byte(n)}, n)[:n]
		lines := Lines(secret)
		for i := range lines { // as people type
			lines[i] = strings.ToLower(strings.ReplaceAll(strings.ReplaceAll(lines[i], "-", " "), "0", "o"))
		}
		if got, err := Read(lines); err != nil || !bytes.Equal(got, secret) {
			t.Fatalf("%d bytes: %x %v", n, got, err)
		}
	}
}

// An error in one symbol, two symbols exchanged, or lines exchanged are told, with the line, but for one in a thousand.
func TestTypingErrorsAreFound(t *testing.T) {
	lines := Lines([]byte("forty-four bytes of a secret, and two more.."))
	wrong, missed := 0, 0
	for at := range lines {
		for i := range lines[at] {
			for _, c := range symbols {
				if lines[at][i] == '-' || lines[at][i] == byte(c) {
					continue
				}
				typed := append([]string{}, lines...)
				typed[at] = lines[at][:i] + string(c) + lines[at][i+1:]
				wrong++
				if _, err := Read(typed); err == nil {
					missed++
				} else if !strings.Contains(err.Error(), "line "+string(rune('1'+at))) {
					t.Errorf("%v", err)
				}
			}
		}
	}
	if missed*200 > wrong {
		t.Errorf("%d of %d errors were missed", missed, wrong)
	}
	if _, err := Read([]string{lines[1], lines[0], lines[2]}); err == nil {
		t.Error("two lines were exchanged")
	}
}

func FuzzRead(f *testing.F) {
	f.Add("0000-0000-0000-0000-0000-0000-00")
	f.Add(strings.Join(Lines([]byte("a secret of some bytes")), "\n"))
	f.Fuzz(func(t *testing.T, text string) {
		got, err := Read(strings.Split(text, "\n"))
		if err == nil && len(got) == 0 {
			t.Error("nothing was read without an error")
		}
	})
}
