package term

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"
)

// counted counts the writes that it gets, and fails from one on.
type counted struct {
	bytes.Buffer
	writes, failFrom int
}

var errGone = errors.New("gone")

func (c *counted) Write(p []byte) (int, error) {
	if c.writes++; c.failFrom > 0 && c.writes >= c.failFrom {
		return 0, errGone
	}
	return c.Buffer.Write(p)
}

// Rows that come fast are written together, none is lost, and one that waits is written with the next.
func TestOutputInBlocks(t *testing.T) {
	out := &counted{}
	s := &Screen{out: out, plain: true}
	end := s.InBlocks()
	line := []byte(strings.Repeat("x", 99) + "\n")
	const lines = 2000
	for range lines {
		if err := s.Raw(line); err != nil {
			t.Fatal(err)
		}
	}
	if out.writes == 0 || out.writes > lines/100 {
		t.Errorf("%d lines were written in %d writes", lines, out.writes)
	}
	end()
	if !bytes.Equal(out.Bytes(), bytes.Repeat(line, lines)) {
		t.Errorf("%d octets came of %d", out.Len(), lines*len(line))
	}
	before := out.writes
	if _ = s.Raw(line); out.writes != before+1 {
		t.Error("after the end a line still waits")
	}
}

func TestABlockThatWaitsIsWritten(t *testing.T) {
	out := &counted{}
	b := &blocks{to: out, written: time.Now().Add(-2 * blockWait)}
	if _, err := b.Write([]byte("late\n")); err != nil || out.String() != "late\n" {
		t.Errorf("%q, %v", out.String(), err)
	}
}

// Where the reader is gone, whoever prints hears it.
func TestABlockNobodyTakes(t *testing.T) {
	out := &counted{failFrom: 1}
	b := &blocks{to: out, written: time.Now()}
	var err error
	for range 3 * blockSize / 100 {
		if _, err = b.Write(make([]byte, 100)); err != nil {
			break
		}
	}
	if !errors.Is(err, errGone) {
		t.Errorf("it is not told: %v", err)
	}
}
