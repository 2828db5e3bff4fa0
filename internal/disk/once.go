package disk

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
)

// Mark is what is used once.
type Mark [16]byte

// Once remembers what was used, for all programs that share a folder: a mark is taken by one of them, once. Marks
// belong
// to an age, a number that grows; of each age there is one file, to which marks are only added.
//
// Nothing waits for the disk here. Marks taken during the last moments before a power cut may be taken again.
type Once struct {
	Dir string

	mu   sync.Mutex
	ages map[int64]*age
}

// age is a file of marks, as far as it was read.
type age struct {
	seen map[Mark]struct{}
	read int64 // octets
}

const usedFile = ".used"

// Take takes a mark, and reports whether no one took it before.
func (o *Once) Take(number int64, m Mark) (fresh bool, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.ages == nil {
		o.ages = map[int64]*age{}
	}
	a := o.ages[number]
	if a == nil {
		a = &age{seen: map[Mark]struct{}{}}
		o.ages[number] = a
	}
	path := filepath.Join(o.Dir, strconv.FormatInt(number, 10)+usedFile)
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return false, fmt.Errorf("%s: %w", path, Explain(err))
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	release, err := Lock(path)
	if err != nil {
		return false, err
	}
	defer release()
	if err := a.catchUp(f); err != nil {
		return false, fmt.Errorf("%s: %w", path, err)
	}
	if _, used := a.seen[m]; used {
		return false, nil
	}
	if _, err := f.WriteAt(m[:], a.read); err != nil {
		return false, fmt.Errorf("%s: %w", path, Explain(err))
	}
	a.seen[m] = struct{}{}
	a.read += int64(len(m))
	return true, nil
}

// catchUp reads what others added. Half a mark at the end is of a program that was stopped: it is written over.
func (a *age) catchUp(f *os.File) error {
	buf := make([]byte, 16*256)
	for {
		n, err := f.ReadAt(buf, a.read)
		whole := n / len(Mark{}) * len(Mark{})
		for i := 0; i < whole; i += len(Mark{}) {
			a.seen[Mark(buf[i:])] = struct{}{}
		}
		a.read += int64(whole)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// Forget removes ages before a number.
func (o *Once) Forget(before int64) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	for number := range o.ages {
		if number < before {
			delete(o.ages, number)
		}
	}
	list, err := Entries(o.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, en := range list {
		text, mine := strings.CutSuffix(en.Name(), usedFile)
		number, bad := strconv.ParseInt(text, 10, 64)
		if !mine || bad != nil || number >= before {
			continue
		}
		if e := os.Remove(filepath.Join(o.Dir, en.Name())); e != nil && !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, e)
		}
	}
	return err
}
