package moving

import (
	"context"
	"errors"
	"maps"
	"path/filepath"
	"slices"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
)

// RecordFiles records the files that are here, for all machines, as they were shown: list is what a person agreed to.
func RecordFiles(ctx context.Context, e *estate.Estate, list []estate.RecordedFile) error {
	_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := e.InTx(tx).RecordedFiles(ctx)
		if err != nil {
			return nil, err
		}
		recorded := map[string]string{}
		for _, f := range now {
			recorded[f.Path] = f.Recorded
		}
		var out []event.Record
		for _, f := range list {
			switch {
			case recorded[f.Path] != f.Recorded:
				return nil, fault.New(fault.Changed, "%s: another text was recorded meanwhile", f.Path)
			case f.State == estate.FileMissing:
				out = append(out, event.On(f.Path, event.FileDropped{}))
			case f.State != estate.FileSame:
				out = append(out, estate.RecordFile(f.Path, f.Here))
			}
		}
		return out, nil
	})
	return err
}

// UpdateFiles writes the files on record into the directory of this machine. One that is not on record is taken away.
func UpdateFiles(e *estate.Estate, list []estate.RecordedFile) error {
	for _, f := range list {
		if f.State == estate.FileSame {
			continue
		}
		if err := e.PutFile(f); err != nil {
			return err
		}
	}
	return nil
}

// All are the files of this directory, for records that have none yet.
func All(e *estate.Estate) ([]estate.RecordedFile, error) {
	here, err := e.SharedFiles()
	if err != nil {
		return nil, err
	}
	var out []estate.RecordedFile
	for _, path := range slices.Sorted(maps.Keys(here)) {
		out = append(out, estate.RecordedFile{Path: path, State: estate.FileUnknown, Here: here[path]})
	}
	return out, nil
}

// Join makes the directory of a further machine, for records on a server. It has the files on record, and no key: a
// sealed key is copied there by whoever is to sign with it.
func Join(ctx context.Context, dir, records string, w estate.Env) (*estate.Estate, error) {
	if err := estate.CheckEmpty(dir); err != nil {
		return nil, err
	}
	err := disk.NewFolder(estate.RemoveIfEmpty(dir), func(into string) error {
		return furnish(ctx, into, records, w.
			Filled())
	})
	if err != nil {
		return nil, err
	}
	return estate.Open(ctx, dir, w)
}

func furnish(ctx context.Context, into, records string, w estate.Env) error {
	if err := disk.SetMode(into, 0o700); err != nil {
		return disk.Explain(err)
	}
	for _, sub := range append(estate.DataDirs(), "keys") {
		if err := disk.OwnDir(filepath.Join(into, sub)); err != nil {
			return err
		}
	}
	settings := "[storage]\nrecords = \"" + estate.SharedRecords + "\"\n"
	if err := w.Disk.New(filepath.Join(into, estate.SettingsFile), []byte(settings), 0o644); err != nil {
		return err
	}
	if err := estate.PointTo(into, w.Disk, records); err != nil {
		return err
	}
	e, err := estate.Open(ctx, into, w)
	if err != nil {
		return err
	}
	list, err := e.RecordedFiles(ctx)
	if err == nil && len(list) == 0 {
		err = fault.New(fault.NotFound, "these records have no settings and templates yet: record them at the "+
			"machine that "+
			"has them")
	}
	if err == nil {
		err = UpdateFiles(e, list)
	}
	return errors.Join(err, e.Close())
}
