package estate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/template"
)

// Machines that share records have the same templates, receivers, platforms, sets and settings. The records keep the
// text of each, once the first was recorded; a machine whose files say otherwise signs nothing until it is settled
// which of the two is meant.

// FileState is how a file of the directory differs from the one on record.
type FileState string

// The states.
const (
	FileSame    FileState = "same"
	FileDiffers FileState = "differs"
	FileMissing FileState = "missing here"
	FileUnknown FileState = "not on record"
)

// RecordedFile is a file of the directory beside the one on record.
type RecordedFile struct {
	Path     string // in the directory, with slashes
	State    FileState
	Here     string // its text here, as it is recorded; "" if none exists
	Recorded string // its text on record; "" if none exists
	Since    time.Time
	By       string // who recorded it
}

// RecordedFiles compares all of them; none where no file was ever recorded.
func (e *Estate) RecordedFiles(ctx context.Context) ([]RecordedFile, error) {
	by := map[string]RecordedFile{}
	err := e.Records.Derived(ctx, event.Files, func(name string, en journal.Entry) error {
		f, err := event.As[event.FileRecorded](en)
		by[name] = RecordedFile{Path: name, State: FileMissing, Recorded: f.Text, Since: en.At, By: en.Actor}
		return err
	})
	if err != nil || len(by) == 0 {
		return nil, err
	}
	here, err := e.SharedFiles()
	if err != nil {
		return nil, err
	}
	for path, text := range here {
		f, known := by[path]
		f.Path, f.Here = path, text
		switch {
		case !known:
			f.State = FileUnknown
		case f.Recorded == text:
			f.State = FileSame
		default:
			f.State = FileDiffers
		}
		by[path] = f
	}
	var out []RecordedFile
	for _, f := range by {
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b RecordedFile) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// SharedFiles are the texts of the files that machines share, by path. Where the records are is each machine's own.
func (e *Estate) SharedFiles() (map[string]string, error) {
	out := map[string]string{}
	settings, err := disk.Read(filepath.Join(e.Dir, SettingsFile), template.Most)
	if err != nil {
		return nil, err
	}
	if out[SettingsFile], err = pointed(string(settings), Storage{Records: SharedRecords}); err != nil {
		return nil, err
	}
	for _, kind := range DataKinds {
		for _, name := range e.DataNames(kind) {
			path := kind + "s/" + name + ".toml"
			data, err := disk.Read(filepath.Join(e.Dir, filepath.FromSlash(path)), template.Most)
			if errors.Is(err, fs.ErrNotExist) {
				continue // taken away meanwhile
			}
			if err != nil {
				return nil, err
			}
			out[path] = string(data)
		}
	}
	return out, nil
}

// SharedRecords is what recorded settings say of where the records are.
const SharedRecords = "postgresql:///"

// CheckFiles refuses to continue with files that are not those on record.
func (e *Estate) CheckFiles(ctx context.Context) error {
	list, err := e.RecordedFiles(ctx)
	if err != nil {
		return err
	}
	for _, f := range list {
		if f.State == FileSame {
			continue
		}
		how := string(f.State)
		if f.State != FileUnknown {
			how = "it is on record since " + f.Since.Format("2006-01-02 15:04 UTC") + ", by " + f.By + ", and " + how
			if f.State == FileDiffers {
				how += " here"
			}
		}
		return fault.New(fault.Changed, "%s: %s: machines that share records have the same files", f.Path, how).
			On(fault.File.Named("%s", f.Path)).Then(
			advice.To("take the one on record", advice.UpdateFiles, "folder", e.Dir),
			advice.To("or record the one that is here, for all machines", advice.RecordFiles, "folder", e.Dir))
	}
	return nil
}

// PutFile writes the text on record into the directory; it takes the file away where none is on record.
func (e *Estate) PutFile(f RecordedFile) error {
	path := filepath.Join(e.Dir, filepath.FromSlash(f.Path))
	if f.Recorded == "" {
		return e.Env.Disk.Remove(path)
	}
	text := f.Recorded
	if f.Path == SettingsFile {
		var err error
		if text, err = pointed(text, e.Settings.Storage); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return disk.Explain(err)
	}
	return e.Env.Disk.Replace(path, []byte(text), 0o644)
}

// writes names the file that an act wrote, where it is one that machines share.
func writes(r event.Record) (path string) {
	switch e := r.Event.(type) {
	case event.DataFileCopied:
		return e.Kind + "s/" + r.Object + ".toml"
	case event.IssuerAllowed:
		return "templates/" + r.Object + ".toml"
	case event.SetCreated, event.SetExtended, event.SetReduced:
		return "sets/" + r.Object + ".toml"
	}
	return ""
}

// written records the files that acts wrote, where machines share them: else every other act would be refused until
// someone records them.
func (e *Estate) written(ctx context.Context, tx store.Tx, records []event.Record) (out []event.Record, err error) {
	for _, r := range records {
		path := writes(r)
		if path == "" {
			continue
		}
		shared := false
		if err := tx.Derived(ctx, event.Files, func(string,
			journal.Entry) error {
			shared = true
			return nil
		}); err != nil ||
			!shared {
			return nil, err
		}
		data, err := disk.Read(filepath.Join(e.Dir, filepath.FromSlash(path)), template.Most)
		if err != nil {
			return nil, err
		}
		out = append(out, RecordFile(path, string(data)))
	}
	return out, nil
}

// RecordFile is the event that records a text.
func RecordFile(path, text string) event.Record {
	sum := sha256.Sum256([]byte(text))
	return event.On(path, event.FileRecorded{SHA256: hex.EncodeToString(sum[:]), Text: text})
}
