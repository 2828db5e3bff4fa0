package disk

import (
	"bytes"
	"errors"
	"io/fs"
)

// NewWhile writes a file that must not exist yet, as New does, while its content is still
// being made. What content returns is what the file will hold; early takes a part of it that
// is ready before the rest, and where in it that part is expected to begin, and writes it
// meanwhile. content calls early once at most, and changes nothing of the part afterwards.
func (d Disk) NewWhile(path string, mode fs.FileMode,
	content func(early func(part []byte, at int)) ([]byte, error)) error {
	m, err := d.begin(path, nil, mode, false)
	if err != nil {
		return err
	}
	var first []byte
	var from int
	written := make(chan error, 1)
	data, err := content(func(part []byte, at int) {
		first, from = part, at
		go func() {
			_, err := m.f.WriteAt(part, int64(at))
			written <- errors.Join(err, m.f.Sync())
		}()
	})
	var writing error
	if first != nil {
		writing = <-written
	}
	switch {
	case err != nil:
		m.discard()
		return err
	case writing != nil:
		return m.drop(writing)
	}
	if err := m.around(data, first, from); err != nil {
		return m.drop(err)
	}
	return m.complete()
}

// around writes the text around a part that was written, and all where that part is not
// what is there.
func (m *making) around(data, part []byte, from int) error {
	after := from + len(part)
	if after > len(data) || !bytes.Equal(data[from:after], part) {
		from, after = len(data), len(data)
	}
	if _, err := m.f.WriteAt(data[:from], 0); err != nil {
		return err
	}
	if _, err := m.f.WriteAt(data[after:], int64(after)); err != nil {
		return err
	}
	return m.f.Truncate(int64(len(data)))
}
