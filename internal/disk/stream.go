package disk

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
)

// streamed is how much of a file is held in memory while it is written or compared, in octets.
const streamed = 256 << 10

// NewFrom writes a file that must not exist yet, as New does, with what content writes.
func (d Disk) NewFrom(path string, mode fs.FileMode, content func(io.Writer) error) error {
	m, err := d.begin(path, nil, mode, false)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(m.f, streamed)
	if err := content(w); err != nil {
		return m.drop(err)
	}
	if err := w.Flush(); err != nil {
		return m.drop(err)
	}
	return m.complete()
}

// Link gives a file a second name beside it. Not every file system can do that.
func (d Disk) Link(file, name string) error {
	if err := errors.Join(Reserved(name), d.fault(StepCreate, name)); err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	if err := os.Link(file, name); err != nil {
		return notWritten(name, err)
	}
	return nil
}

// HoldsWhat reports whether a plain file holds exactly what content writes, of which the size is known.
func HoldsWhat(path string, size int64, content func(io.Writer) error) (bool, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, nil
	case err != nil:
		return false, fmt.Errorf("%s: %w", path, Explain(err))
	case !info.Mode().IsRegular() || info.Size() != size:
		return false, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return false, fmt.Errorf("%s: %w", path, Explain(err))
	}
	defer f.Close()
	c := &comparing{with: f, have: make([]byte, streamed)}
	w := bufio.NewWriterSize(c, streamed)
	if err = content(w); err == nil {
		err = w.Flush()
	}
	if errors.Is(err, errDiffers) {
		return false, nil
	}
	return err == nil && c.read == size, err
}

// comparing takes what should be in a file, and fails where it is something else.
type comparing struct {
	with io.Reader
	have []byte
	read int64
}

var errDiffers = errors.New("the file holds something else")

// Write implements io.Writer.
func (c *comparing) Write(p []byte) (int, error) {
	for part := range slices.Chunk(p, streamed) {
		have := c.have[:len(part)]
		if _, err := io.ReadFull(c.with, have); err != nil || !bytes.Equal(have, part) {
			return 0, errDiffers
		}
	}
	c.read += int64(len(p))
	return len(p), nil
}
