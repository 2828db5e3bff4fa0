package disk

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
)

// pieces writes its octets in pieces of a size.
func pieces(data []byte, size int) func(io.Writer) error {
	return func(w io.Writer) error {
		for len(data) > 0 {
			n := min(size, len(data))
			if _, err := w.Write(data[:n]); err != nil {
				return err
			}
			data = data[n:]
		}
		return nil
	}
}

// A file is written and compared piece by piece: one octet more, less or other is told.
func TestPiecesOfAFile(t *testing.T) {
	data := bytes.Repeat([]byte("tern"), streamed/2)
	for name, size := range map[string]int{"small pieces": 61, "large pieces": streamed + 7, "one piece": len(data)} {
		t.Run(name, func(t *testing.T) {
			to := filepath.Join(t.TempDir(), "list")
			if err := (Disk{}).NewFrom(to, 0o644, pieces(data, size)); err != nil {
				t.Fatal(err)
			}
			if got, err := os.ReadFile(to); err != nil || !bytes.Equal(got, data) {
				t.Fatalf("%d octets came, and %v", len(got), err)
			}
			if err := (Disk{}).NewFrom(to, 0o644, pieces(data, size)); !errors.Is(err, ErrExists) {
				t.Errorf("once more: %v", err)
			}
			last := bytes.Clone(data)
			last[len(last)-1] ^= 1
			for what, c := range map[string]struct {
				data []byte
				same bool
			}{"the same": {data, true}, "one less": {data[1:], false},
				"one more":            {append(bytes.Clone(data), 1), false},
				"the last is another": {last, false}} {
				if same, err := HoldsWhat(to, int64(len(c.data)), pieces(c.data, size)); err != nil || same != c.same {
					t.Errorf("%s: %v, %v", what, same, err)
				}
			}
		})
	}
}

// What fails while a file is written leaves nothing behind.
func TestPiecesThatFail(t *testing.T) {
	dir := t.TempDir()
	broken := errors.New("broken")
	to := filepath.Join(dir, "list")
	err := Disk{}.NewFrom(to, 0o644, func(w io.Writer) error {
		_, err := w.Write(make([]byte, 2*streamed))
		return errors.Join(err, broken)
	})
	if !errors.Is(err, broken) {
		t.Error(err)
	}
	if same, err := HoldsWhat(to, 3, pieces([]byte("abc"), 1)); same || err != nil {
		t.Errorf("what is not there: %v, %v", same, err)
	}
	if left, err := os.ReadDir(dir); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}
