package intake

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/pki/bundle"
	"ironseal/pki/journal"
)

// Very many requests come in one file or one folder. They are read a part at a time: while one part is recorded, those
// behind are parsed and their signatures are verified, by as many cores as there are. No more than a few parts are in
// memory.

// Source gives inputs one after another.
type Source func(fn func(Input) error) error

// SourceOf gives a file, every file of a directory, or standard input ("-"). A long file of PEM comes in pieces.
func SourceOf(arg string, stdin func() ([]byte, error)) Source {
	return func(fn func(Input) error) error {
		if arg == "-" {
			data, err := stdin()
			if err != nil {
				return err
			}
			return fn(Input{Name: "standard input", Data: data})
		}
		info, err := os.Stat(arg)
		if err != nil || !info.IsDir() {
			return file(arg, fn)
		}
		entries, err := os.ReadDir(arg)
		if err != nil {
			return fmt.Errorf("%s: %w", arg, disk.Explain(err))
		}
		none := true
		for _, en := range entries {
			if !en.Type().IsRegular() || strings.HasPrefix(en.Name(), ".") {
				continue
			}
			none = false
			if err := file(filepath.Join(arg, en.Name()), fn); err != nil {
				return err
			}
		}
		if none {
			return fmt.Errorf("%s: there are no files in this directory", arg)
		}
		return nil
	}
}

// pieceBytes is how long a piece of a long file is, about: it ends with a block of PEM.
const pieceBytes = 1 << 19

// file gives a file, a long one in pieces.
func file(path string, fn func(Input) error) error {
	info, err := os.Stat(path)
	if err != nil || info.Size() <= 2*pieceBytes || !info.Mode().IsRegular() {
		data, err := disk.Read(path, bundle.MostBytes)
		if err != nil {
			return err
		}
		return fn(Input{Name: path, Data: data})
	}
	f, err := os.Open(path)
	if err != nil {
		return disk.Explain(err)
	}
	defer f.Close()
	if err := pieces(path, f, fn); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

var endOfBlock = []byte("-----END ")

// pieces cuts text behind lines that end a block. What has none for so long that it cannot be read at once is no text
// of
// many requests.
func pieces(path string, from io.Reader, fn func(Input) error) error {
	r := bufio.NewReaderSize(from, 64<<10)
	var piece []byte
	begins, line := 0, 0
	for {
		text, err := r.ReadSlice('\n')
		piece = append(piece, text...)
		if len(piece) > bundle.MostBytes {
			return fmt.Errorf("more than %d MB without the end of a block: no requests in PEM", bundle.MostBytes>>20)
		}
		ended := errors.Is(err, io.EOF)
		if err != nil && !ended && !errors.Is(err, bufio.ErrBufferFull) {
			return disk.Explain(err)
		}
		if err == nil {
			line++
		}
		if ended || err == nil && len(piece) >= pieceBytes && bytes.Contains(text, endOfBlock) {
			if len(bytes.TrimSpace(piece)) > 0 {
				if err := fn(Input{Name: path, Data: piece, Line: begins}); err != nil {
					return err
				}
			}
			piece, begins = nil, line
		}
		if ended {
			return nil
		}
	}
}

// Part is what a part of the inputs brought.
type Part struct {
	Received []Received
	Faults   []error
	Head     journal.Head // after it was recorded
}

// Counts of a part: how many inputs and octets are read before it is examined.
const (
	partInputs = 500
	partBytes  = pieceBytes
)

// Stream receives every request that the sources give, see Receive. tell is called for each part once it is recorded.
// Parts are recorded in order, while those behind are looked at. Where one cannot be recorded, nothing more is read.
func Stream(ctx context.Context, e *estate.Estate, sources []Source, sender string, tell func(Part) error) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	ahead := make(chan chan Part, partsAhead)
	cores := make(chan struct{}, runtime.GOMAXPROCS(0))
	var failed error
	done := make(chan struct{})
	go func() {
		defer close(done)
		for looked := range ahead {
			p := <-looked
			if failed == nil {
				failed = context.Cause(ctx) // no further part is begun
			}
			if failed != nil {
				continue
			}
			p, failed = recordPart(ctx, e, p, sender)
			if err := tell(p); failed == nil {
				failed = err
			}
			if failed != nil {
				stop(failed)
			}
		}
	}()
	err := parts(sources, func(list []Input) error {
		looked := make(chan Part, 1)
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case ahead <- looked:
			go func() {
				cores <- struct{}{}
				defer func() { <-cores }()
				looked <- lookAt(list, inTurn)
			}()
			return nil
		}
	})
	close(ahead)
	<-done
	if errors.Is(err, failed) { // the reading stopped for it
		return failed
	}
	return errors.Join(failed, err)
}

// partsAhead is how many parts are looked at, or wait for their turn, while one is recorded. One core looks at each. No
// more parts are looked at once than there are cores: otherwise the recording waits for a core.
const partsAhead = 6

// inTurn calls fn with 0 to n-1, one after the other.
func inTurn(n int, fn func(int)) {
	for i := range n {
		fn(i)
	}
}

// parts gathers inputs.
func parts(sources []Source, fn func([]Input) error) error {
	var list []Input
	size := 0
	flush := func() error {
		part := list
		list, size = nil, 0
		if len(part) == 0 {
			return nil
		}
		return fn(part)
	}
	for _, s := range sources {
		if err := s(func(in Input) error {
			list = append(list, in)
			if size += len(in.Data); len(list) < partInputs && size < partBytes {
				return nil
			}
			return flush()
		}); err != nil {
			return errors.Join(flush(), err)
		}
	}
	return flush()
}

// lookAt reads inputs, and verifies what they hold. each calls fn with 0 to n-1: inTurn, or on all cores.
func lookAt(list []Input, each func(n int, fn func(int))) Part {
	type found struct {
		received []Received
		faults   []error
	}
	all := make([]found, len(list))
	each(len(list), func(i int) {
		all[i].received, all[i].faults = parsed(list[i])
	})
	var out Part
	for _, f := range all {
		out.Received, out.Faults = append(out.Received, f.received...), append(out.Faults, f.faults...)
	}
	wrong := make([]error, len(out.Received))
	each(len(wrong), func(i int) { wrong[i] = out.Received[i].Request.Proven() })
	good := out.Received[:0]
	for i, r := range out.Received {
		if wrong[i] != nil {
			out.Faults = append(out.Faults, fmt.Errorf("%s: %w: ask for it again", r.Source, wrong[i]))
			continue
		}
		good = append(good, r)
	}
	out.Received = good
	return out
}
