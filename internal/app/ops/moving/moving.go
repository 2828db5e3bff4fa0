// Package moving brings an estate's records from one place to another: from a file of its directory to a database on a
// server, which several machines share, and back. It also makes the directory of a further machine.
package moving

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
)

// Moved is what came of it.
type Moved struct {
	From, To string
	Head     journal.Head // the newest entry, the same in both places
	Aside    string       // what the file that they were in is called now; "" for a database
}

// Move brings the records to another place, and lets the settings say so. Where they were, a note is left: nothing can
// be recorded there any more. A move that was cut off is finished by asking for it again.
func Move(ctx context.Context, e *estate.Estate, to string) (*Moved, error) {
	from := e.Settings.Storage
	out := &Moved{From: from.Records, To: to}
	if to == from.Records {
		return nil, fault.New(fault.Refused, "the records are there already")
	}
	place := estate.PlaceOf(e.Dir, estate.Storage{Records: to})
	before, err := e.Records.MovedTo(ctx)
	switch {
	case err != nil:
		return nil, err
	case before == to:
		return out, finish(ctx, e, place, out)
	case before != "":
		return nil, &store.MovedError{To: before}
	}
	files, err := e.SharedFiles()
	if err != nil {
		return nil, err
	}
	if out.Head, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		var list []event.Record
		if place.Head != "" { // several machines will have them
			for _, path := range slices.Sorted(maps.Keys(files)) {
				list = append(list, estate.RecordFile(path, files[path]))
			}
		}
		return append(list, event.On("records", event.RecordsMoved{From: from.Records, To: to})), tx.MarkMoved(to)
	}); err != nil {
		return nil, err
	}
	copied, err := e.Records.CopyTo(ctx, place)
	if err == nil {
		err = errors.Join(same(ctx, copied, out.Head), copied.Close())
	}
	if err == nil {
		err = e.Env.Step(estate.StepRecorded)
	}
	if err != nil {
		_, again := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
			return []event.Record{event.On("records", event.RecordsStayed{To: to})}, tx.MarkMoved("")
		})
		return nil, errors.Join(fmt.Errorf("the records stay where they are: %w", err), again)
	}
	return out, settled(e, out)
}

// finish ends a move that was cut off.
func finish(ctx context.Context, e *estate.Estate, place store.Place, out *Moved) error {
	head, _, err := e.Records.Newest(ctx)
	if err != nil {
		return err
	}
	out.Head = head
	there, err := estate.OpenRecords(ctx, place)
	if err != nil {
		if there, err = e.Records.CopyTo(ctx, place); err != nil {
			return err
		}
	}
	if err := errors.Join(same(ctx, there, head), there.Close()); err != nil {
		return err
	}
	return settled(e, out)
}

// same checks that the copy's journal is whole, and has the entry that tells of the move.
func same(ctx context.Context, copied store.Store, head journal.Head) error {
	_, err := copied.VerifyJournal(ctx, &head)
	return err
}

// settled lets the settings say where the records are, and puts the file that they were in aside.
func settled(e *estate.Estate, out *Moved) error {
	if err := estate.PointTo(e.Dir, e.Env.Disk, out.To); err != nil {
		return err
	}
	if e.Settings.Storage.OnServer() {
		return nil
	}
	if err := e.Records.Close(); err != nil {
		return err
	}
	file := filepath.Join(e.Dir, e.Settings.Storage.Records)
	for n := 1; ; n++ {
		aside := fmt.Sprintf("%s.moved-%d", file, n)
		_, err := os.Lstat(aside)
		if err == nil {
			continue
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return disk.Explain(err)
		}
		out.Aside = filepath.Base(aside)
		for _, end := range []string{"-wal", "-shm", ".head"} { // the log is in the file once that is closed
			if err := os.Remove(file + end); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return disk.Explain(err)
			}
		}
		return disk.Rename(file, aside)
	}
}
