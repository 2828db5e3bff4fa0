// Package backup makes copies of an estate: backups that restore to the byte,
// and rehearsals with other keys, in which anything may be tried.
package backup

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
)

// A backup is a compressed tape archive: the manifest first, then every file of
// the estate. The records in it are one consistent state, whatever continues
// meanwhile; keys stay encrypted as they are.
const (
	BackupManifest = "MANIFEST.json"
	mostBackup     = 64 << 30 // bytes, unpacked
	mostSmallFile  = 16 << 20 // bytes, of one file that is not the records
	mostSmallFiles = 256 << 20
)

// Backup is a backup's manifest.
type Backup struct {
	Form         int          `json:"form" doc:"the form of the backup"`
	Estate       string       `json:"estate" doc:"the estate's identifier"`
	Organisation string       `json:"organisation" doc:"whose estate it is"`
	Made         time.Time    `json:"made" doc:"when"`
	Head         string       `json:"journal_head" doc:"the journal's head in it"`
	Rehearsal    bool         `json:"rehearsal,omitempty" doc:"whether it is of a rehearsal"`
	Files        []BackupFile `json:"files" doc:"the files in it, with size and SHA-256"`
	NotIn        []string     `json:"not_in_it,omitempty" doc:"keys of drafts that lie elsewhere"`
}

// BackupFile is one file in a backup.
type BackupFile struct {
	Name   string `json:"name"` // with slashes
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// BackUp writes a backup of the estate. The file must not be there yet. It is made
// aside, read back and verified, and only then gets its name.
func BackUp(ctx context.Context, e *estate.Estate, file string) (Backup, error) {
	var out Backup
	fail := func(err error) (Backup, error) { return out, fmt.Errorf("backup %s: %w", file, err) }
	if _, err := os.Lstat(file); err == nil {
		return fail(fmt.Errorf("%w: choose another name", disk.ErrExists))
	}
	if _, err := os.Stat(filepath.Dir(file)); err != nil {
		// none is made: a typing error would hide the backup
		return fail(fmt.Errorf("its directory: %w", disk.Explain(err)))
	}
	done, err := e.UnderWay(filepath.Dir(filepath.Clean(file)))
	if err != nil {
		return out, err
	}
	defer done()
	err = disk.Aside(file, func(making string) error {
		snapshot, made := filepath.Join(making, "records.db"), filepath.Join(making, "backup")
		out = Backup{Form: 1, Organisation: e.Settings.Organisation.Name, Made: e.Now(), Rehearsal: e.Rehearsal}
		content, err := out.collect(ctx, e, snapshot)
		if err != nil {
			return err
		}
		if out.NotIn, err = e.Records.DraftFiles(ctx); err != nil {
			return err
		}
		large, err := out.lists(ctx, e, snapshot)
		if err != nil {
			return err
		}
		defer large.close()
		if err := out.write(ctx, made, snapshot, content, large); err != nil {
			return err
		}
		if err := verifyBackup(ctx, made); err != nil {
			return fmt.Errorf("it does not read back: %w", err)
		}
		return disk.Place(made, file)
	})
	if err != nil {
		return fail(err)
	}
	_, err = e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		return []event.Record{event.On("estate", event.BackedUp{Head: out.Head, Files: len(out.Files)})}, nil
	})
	if err != nil {
		return out, fmt.Errorf("backup %s: it is written, and not on record: %w", file, err)
	}
	return out, nil
}

// attempts is how often a backup begins again because another program removed a key meanwhile.
const attempts = 8

// collect takes a snapshot of the records, and reads the other files. A key is on disk before its record is, and is
// removed after it: a key that is removed meanwhile may be one that the snapshot needs, so both are done again.
func (b *Backup) collect(ctx context.Context, e *estate.Estate, snapshot string) (content map[string][]byte,
	err error) {
	for range attempts {
		if err := os.Remove(snapshot); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		before, err := files(e)
		if err != nil {
			return nil, err
		}
		if err := e.Records.Snapshot(ctx, snapshot); err != nil {
			return nil, err
		}
		if err := e.Env.Step(estate.StepSnapshot); err != nil {
			return nil, err
		}
		if err := b.describe(ctx, snapshot); err != nil {
			return nil, err
		}
		content, err = b.read(e, snapshot)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if err == nil && !slices.ContainsFunc(before, func(n string) bool { _, there := content[n]; return !there }) {
			return content, nil
		}
	}
	return nil, fault.New(fault.Busy, "other programs remove keys or files all the time: back up when they are done")
}

// read reads every file but the records, once: what is hashed is what is written, whoever edits a template
// meanwhile.
func (b *Backup) read(e *estate.Estate, snapshot string) (map[string][]byte, error) {
	names, err := files(e)
	if err != nil {
		return nil, err
	}
	b.Files = nil
	content := map[string][]byte{}
	var total int64
	for _, n := range names {
		data, err := disk.Read(filepath.Join(e.Dir, filepath.FromSlash(n)), mostSmallFile)
		if err != nil {
			return nil, err
		}
		if total += int64(len(data)); total > mostSmallFiles {
			return nil, fmt.Errorf("settings, templates, receivers and keys together have more than %d MiB",
				mostSmallFiles>>20)
		}
		sum := sha256.Sum256(data)
		content[n] = data
		b.Files = append(b.Files, BackupFile{n, int64(len(data)), hex.EncodeToString(sum[:])})
	}
	size, sum, err := hashFile(snapshot) // no one else knows this file
	if err != nil {
		return nil, err
	}
	b.Files = append(b.Files, BackupFile{e.Settings.Storage.File(), size, sum})
	slices.SortFunc(b.Files, func(a, b BackupFile) int { return strings.Compare(a.Name, b.Name) })
	return content, nil
}

// openLists are files that are too large to be kept in memory, open while they are written: another program
// may take them away meanwhile.
type openLists map[string]*os.File

func (h openLists) close() {
	for _, f := range h {
		f.Close()
	}
}

// lists adds the revocation lists that are to be served, now or later, by the records of the backup:
// those of an authority elsewhere could not be signed again.
func (b *Backup) lists(ctx context.Context, e *estate.Estate, snapshot string) (openLists, error) {
	s, err := estate.OpenRecords(ctx, store.File(snapshot))
	if err != nil {
		return nil, err
	}
	defer s.Close()
	then := *e
	then.Records = s
	files, err := inventory.Files(ctx, &then)
	if err != nil {
		return nil, err
	}
	out := openLists{}
	for _, file := range files {
		f, err := os.Open(file)
		if errors.Is(err, os.ErrNotExist) {
			continue // a newer one has taken its place, and it will be signed again
		}
		if err != nil {
			out.close()
			return nil, disk.Explain(err)
		}
		name := path.Base(filepath.ToSlash(inventory.Folder(e))) + "/" + filepath.Base(file)
		out[name] = f
		h := sha256.New()
		size, err := io.Copy(h, f)
		if _, again := f.Seek(0, io.SeekStart); err != nil || again != nil {
			out.close()
			return nil, disk.Explain(errors.Join(err, again))
		}
		b.Files = append(b.Files, BackupFile{name, size, hex.EncodeToString(h.Sum(nil))})
	}
	slices.SortFunc(b.Files, func(x, y BackupFile) int { return strings.Compare(x.Name, y.Name) })
	return out, nil
}

// describe reads the estate's name and the journal's head from the snapshot, and
// verifies its journal.
func (b *Backup) describe(ctx context.Context, snapshot string) error {
	s, err := estate.OpenRecords(ctx, store.File(snapshot))
	if err != nil {
		return err
	}
	defer s.Close()
	head, err := s.VerifyJournal(ctx, nil)
	if err != nil {
		return fmt.Errorf("the journal is not whole: %w", err)
	}
	b.Head = head.String()
	b.Estate, err = s.EstateID(ctx)
	return err
}

// files lists the estate's files besides the records, with slashes.
func files(e *estate.Estate) ([]string, error) {
	out := []string{estate.SettingsFile}
	patterns := []string{"keys/*.key", "keys/*.shares", "keys/*.agent", estate.AsideDir + "/*.key"}
	for _, dir := range estate.DataDirs() {
		patterns = append(patterns, dir+"/*.toml")
	}
	for _, pattern := range patterns {
		list, err := filepath.Glob(filepath.Join(estate.EscapeGlob(e.Dir), filepath.FromSlash(pattern)))
		if err != nil {
			return nil, err
		}
		for _, f := range list {
			rel, err := filepath.Rel(e.Dir, f)
			if err != nil {
				return nil, err
			}
			out = append(out, filepath.ToSlash(rel))
		}
	}
	return out, nil
}

func hashFile(file string) (int64, string, error) {
	f, err := os.Open(file)
	if err != nil {
		return 0, "", disk.Explain(err)
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	return n, hex.EncodeToString(h.Sum(nil)), err
}

func (b Backup) write(ctx context.Context, file, snapshot string, content map[string][]byte,
	large openLists) (err error) {
	f, err := disk.CreateNew(file, 0o600)
	if err != nil {
		return disk.Explain(err)
	}
	defer func() { err = errors.Join(disk.Explain(err), f.Close()) }()
	z, err := gzip.NewWriterLevel(f, gzip.BestSpeed) // certificates hardly compress
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	manifest, err := json.MarshalIndent(b, "", "  ")
	if err != nil {
		return err
	}
	put := func(name string, size int64, r io.Reader) error {
		if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: b.Made,
			Format: tar.FormatPAX}); err != nil {
			return err
		}
		_, err := io.CopyN(t, r, size)
		return errors.Join(err, ctx.Err())
	}
	if err := put(BackupManifest, int64(len(manifest)), bytes.NewReader(manifest)); err != nil {
		return err
	}
	for _, x := range b.Files {
		var source io.Reader = bytes.NewReader(content[x.Name])
		if f := large[x.Name]; f != nil {
			source = f
		} else if content[x.Name] == nil {
			src, err := os.Open(snapshot)
			if err != nil {
				return disk.Explain(err)
			}
			defer src.Close()
			source = src
		}
		if err := put(x.Name, x.Size, source); err != nil {
			return fmt.Errorf("%s: %w", x.Name, err)
		}
	}
	if err := errors.Join(t.Close(), z.Close()); err != nil {
		return err
	}
	return f.Sync()
}

// verifyBackup reads a backup through, as restoring it would, and writes nothing.
func verifyBackup(ctx context.Context, file string) error {
	f, err := os.Open(file)
	if err != nil {
		return disk.Explain(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		return err
	}
	t := tar.NewReader(z)
	b, err := readManifest(t)
	if err != nil {
		return err
	}
	return eachFile(ctx, t, b, func(_ BackupFile, content io.Reader) error {
		_, err := io.Copy(io.Discard, content)
		return err
	})
}
