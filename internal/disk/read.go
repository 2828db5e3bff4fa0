package disk

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// Read reads a file of at most limit bytes. What is read is counted, not what the
// file claims to have: devices have no size, pipes neither, and files grow. A
// directory, a missing file and one that is too large are reported as such.
func Read(path string, limit int64) ([]byte, error) {
	f, err := openFor(path)
	if err != nil {
		return nil, notOpened(path, err)
	}
	defer f.Close()
	return bounded(f, path, limit, false)
}

// ReadRegular is Read for places where only a plain file belongs: what lies there as
// a device, a pipe or a link to elsewhere is refused, and never waited for.
func ReadRegular(path string, limit int64) ([]byte, error) {
	if info, err := os.Lstat(path); err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		return nil, fmt.Errorf("%s: this is no plain file (%s): it is not read", path, info.Mode().Type())
	}
	f, err := openPlain(path)
	if err != nil {
		return nil, notOpened(path, err)
	}
	defer f.Close()
	return bounded(f, path, limit, true)
}

// missing is the path of a file that is not there; it is fs.ErrNotExist.
type missing string

func (m missing) Error() string { return string(m) + ": there is no such file" }

func (missing) Unwrap() error { return fs.ErrNotExist }

func notOpened(path string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return missing(path)
	}
	return fmt.Errorf("%s: %w", path, Explain(err))
}

// bounded reads what was opened; with plain, only when it still is a plain file.
func bounded(f *os.File, path string, limit int64, plain bool) ([]byte, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, Explain(err))
	}
	if plain && !info.Mode().IsRegular() && !info.IsDir() {
		return nil, fmt.Errorf("%s: this is no plain file: it is not read", path)
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s: this is a directory, and a file is needed", path)
	}
	if info.Size() > limit {
		return nil, fmt.Errorf("%s: %d bytes; the most that is read is %d", path, info.Size(), limit)
	}
	into := bytes.NewBuffer(make([]byte, 0, min(info.Size(),
		limit)+bytes.MinRead)) // room for all, where it says its size
	_, err = into.ReadFrom(io.LimitReader(f, limit+1))
	data := into.Bytes()
	switch {
	case err != nil:
		return nil, fmt.Errorf("%s: %w", path, Explain(err))
	case int64(len(data)) > limit:
		return nil, fmt.Errorf("%s: it has more than the %d bytes that are read at most", path, limit)
	}
	return data, nil
}

// Holds reports whether a plain file holds exactly these bytes; there says whether
// there is anything at all.
func Holds(path string, data []byte) (same, there bool, err error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, false, nil
	case err != nil:
		return false, false, fmt.Errorf("%s: %w", path, Explain(err))
	case !info.Mode().IsRegular():
		return false, false, nil // a device or a pipe is written to, and holds nothing
	case info.Size() != int64(len(data)):
		return false, true, nil
	}
	old, err := Read(path, int64(len(data)))
	return err == nil && bytes.Equal(old, data), true, err
}
