package term

import (
	"io"
	"time"
)

// Blocks of output are written when they are large, or when the first of them has waited long enough to be missed.
const (
	blockSize = 64 << 10
	blockWait = 100 * time.Millisecond
)

// InBlocks lets the screen collect what is printed, until end is called: for lists, whose rows are not urgent.
func (s *Screen) InBlocks() (end func()) {
	b := &blocks{to: s.out, written: time.Now()}
	s.out = b
	return func() {
		b.flush()
		s.out = b.to
	}
}

type blocks struct {
	to      io.Writer
	held    []byte
	written time.Time
	fault   error
}

// Write implements io.Writer.
func (b *blocks) Write(p []byte) (int, error) {
	if b.fault != nil {
		return 0, b.fault
	}
	b.held = append(b.held, p...)
	if len(b.held) >= blockSize || time.Since(b.written) > blockWait {
		b.flush()
	}
	if b.fault != nil {
		return 0, b.fault
	}
	return len(p), nil
}

func (b *blocks) flush() {
	if len(b.held) > 0 && b.fault == nil {
		_, b.fault = b.to.Write(b.held)
	}
	b.held, b.written = b.held[:0], time.Now()
}
