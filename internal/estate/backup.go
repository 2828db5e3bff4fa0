package estate

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
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/store"
)

// A backup is a compressed tape archive: the manifest first, then every file of
// the estate. The records in it are one consistent state, whatever goes on
// meanwhile; keys stay sealed as they are.
const (
	backupManifest = "MANIFEST.json"
	mostBackup     = 64 << 30 // bytes, unpacked
	mostSmallFile  = 16 << 20 // bytes, of all but the records
)

// Backup is a backup's manifest.
type Backup struct {
	Form         int          `json:"form"`
	Estate       string       `json:"estate"` // its random name
	Organisation string       `json:"organisation"`
	Made         time.Time    `json:"made"`
	Head         string       `json:"journal_head"`
	Rehearsal    bool         `json:"rehearsal,omitempty"`
	Files        []BackupFile `json:"files"`
}

// BackupFile is one file in a backup.
type BackupFile struct {
	Name   string `json:"name"` // with slashes
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// Backup writes a backup of the estate. The file must not be there yet.
func (e *Estate) Backup(ctx context.Context, file string) (Backup, error) {
	var out Backup
	fail := func(err error) (Backup, error) { return out, fmt.Errorf("backup %s: %w", file, err) }
	if _, err := os.Lstat(file); err == nil {
		return fail(fmt.Errorf("%w: choose another name", disk.ErrExists))
	}
	work, err := os.MkdirTemp("", "ironseal-backup-*")
	if err != nil {
		return fail(disk.Plain(err))
	}
	defer os.RemoveAll(work)
	snapshot := filepath.Join(work, "records.db")
	if err := e.records.Snapshot(ctx, snapshot); err != nil {
		return fail(err)
	}
	out = Backup{Form: 1, Organisation: e.Settings.Organisation.Name, Made: e.Now(), Rehearsal: e.Rehearsal}
	if err := out.describe(ctx, snapshot); err != nil {
		return fail(err)
	}
	// The keys come after the snapshot: a key is on disk before its record is.
	names, err := e.files()
	if err != nil {
		return fail(err)
	}
	sources := map[string]string{e.Settings.Storage.Records: snapshot}
	for _, n := range names {
		sources[n] = filepath.Join(e.Dir, filepath.FromSlash(n))
	}
	for name, source := range sources {
		size, sum, err := hashFile(source)
		if err != nil {
			return fail(err)
		}
		out.Files = append(out.Files, BackupFile{name, size, sum})
	}
	slices.SortFunc(out.Files, func(a, b BackupFile) int { return strings.Compare(a.Name, b.Name) })
	if err := out.write(file, sources); err != nil {
		return fail(err)
	}
	_, err = e.act(ctx, func(*store.Tx) ([]store.Entry, error) {
		return []store.Entry{entry("backup", "estate", "head", out.Head, "files", len(out.Files))}, nil
	})
	return out, err
}

// describe reads the estate's name and the journal's head from the snapshot, and
// verifies its journal.
func (b *Backup) describe(ctx context.Context, snapshot string) error {
	s, err := store.Open(ctx, snapshot)
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
func (e *Estate) files() ([]string, error) {
	out := []string{SettingsFile}
	for _, pattern := range []string{"templates/*.toml", "receivers/*.toml", "keys/*.key"} {
		list, err := filepath.Glob(filepath.Join(escapeGlob(e.Dir), filepath.FromSlash(pattern)))
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
		return 0, "", disk.Plain(err)
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	return n, hex.EncodeToString(h.Sum(nil)), err
}

func (b Backup) write(file string, sources map[string]string) (err error) {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return disk.Plain(err)
	}
	defer func() {
		if err = errors.Join(err, f.Close()); err != nil {
			err = errors.Join(err, os.Remove(file)) // half a backup is none
		}
	}()
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
		if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: b.Made, Format: tar.FormatPAX}); err != nil {
			return err
		}
		_, err := io.CopyN(t, r, size)
		return err
	}
	if err := put(backupManifest, int64(len(manifest)), bytes.NewReader(manifest)); err != nil {
		return err
	}
	for _, x := range b.Files {
		src, err := os.Open(sources[x.Name])
		if err != nil {
			return disk.Plain(err)
		}
		err = put(x.Name, x.Size, src)
		if err := errors.Join(err, src.Close()); err != nil {
			return fmt.Errorf("%s: %w", x.Name, err)
		}
	}
	if err := errors.Join(t.Close(), z.Close()); err != nil {
		return err
	}
	return f.Sync()
}

// Restored is an estate that was restored.
type Restored struct {
	Backup      Backup
	NextRequest int64 // request numbers go on here, so that none is used twice
}

// Restore makes an estate again from a backup, in a directory that is missing or
// empty. What is in the way is compared, so that the refusal says which is newer.
func Restore(ctx context.Context, file, dir string, w World) (Restored, error) {
	var out Restored
	fail := func(err error) (Restored, error) { return out, fmt.Errorf("restoring %s: %w", file, err) }
	f, err := os.Open(file)
	if err != nil {
		return fail(disk.Plain(err))
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		return fail(errors.New("this is no backup of an estate"))
	}
	t := tar.NewReader(z)
	if out.Backup, err = readManifest(t); err != nil {
		return fail(err)
	}
	if err := empty(dir); err != nil {
		return fail(inTheWay(ctx, dir, out.Backup, err))
	}
	err = disk.NewFolder(emptied(dir), func(into string) error {
		if err := os.Chmod(into, 0o700); err != nil {
			return err
		}
		if err := unpack(t, out.Backup, into); err != nil {
			return err
		}
		settings, err := readSettings(into)
		if err != nil {
			return err
		}
		out.NextRequest, err = w.filled().settle(ctx, filepath.Join(into, settings.Storage.Records), out.Backup)
		return err
	})
	if err != nil {
		return fail(err)
	}
	return out, nil
}

// emptied takes an empty directory away, so that the restored one can have its name.
func emptied(dir string) string {
	_ = os.Remove(dir) // fails, as it should, where there is anything
	return dir
}

func readManifest(t *tar.Reader) (Backup, error) {
	var b Backup
	h, err := t.Next()
	if err != nil || h.Name != backupManifest || h.Size > mostSmallFile {
		return b, errors.New("this is no backup of an estate, or its beginning is lost")
	}
	d := json.NewDecoder(io.LimitReader(t, mostSmallFile))
	d.DisallowUnknownFields()
	if err := d.Decode(&b); err != nil {
		return b, fmt.Errorf("its manifest does not read: %w", err)
	}
	if b.Form != 1 {
		return b, fmt.Errorf("it has form %d, and was made by another version of ironseal: restore it with that", b.Form)
	}
	return b, nil
}

// inTheWay explains what stands where a backup is to go.
func inTheWay(ctx context.Context, dir string, b Backup, err error) error {
	e, openErr := Open(ctx, dir, World{})
	if openErr != nil {
		return fmt.Errorf("%w; to put the backup in its place, move %s away first", err, dir)
	}
	defer e.Close()
	id, idErr := e.records.EstateID(ctx)
	head, _, headErr := e.records.Newest(ctx)
	if idErr != nil || headErr != nil {
		return errors.Join(err, idErr, headErr)
	}
	there, parseErr := store.ParseHead(b.Head)
	switch {
	case id != b.Estate:
		return fmt.Errorf("%s is another estate (%s); the backup is of %s: choose another directory", dir, e.Settings.Organisation.Name, b.Organisation)
	case parseErr == nil && head.Seq > there.Seq:
		return fmt.Errorf("the backup is older than what is there: it ends at %s, and %s is at %s: restore it elsewhere, or move %s away first", b.Head, dir, head, dir)
	}
	return fmt.Errorf("the estate is there already, at %s; the backup ends at %s: move %s away first", head, b.Head, dir)
}

// unpack writes and checks every file of a backup.
func unpack(t *tar.Reader, b Backup, into string) error {
	for _, sub := range []string{"keys", "templates", "receivers"} {
		if err := os.Mkdir(filepath.Join(into, sub), 0o700); err != nil {
			return disk.Plain(err)
		}
	}
	var total int64
	for _, want := range b.Files {
		h, err := t.Next()
		if err != nil {
			return fmt.Errorf("it is cut short: %s is missing: take another copy of the backup", want.Name)
		}
		dir, _ := path.Split(want.Name)
		if h.Name != want.Name || h.Size != want.Size || path.Clean(want.Name) != want.Name || !slices.Contains([]string{"", "keys/", "templates/", "receivers/"}, dir) || strings.ContainsAny(want.Name, `\:`) {
			return fmt.Errorf("it does not hold what its manifest says: %q", want.Name)
		}
		if total += want.Size; want.Size < 0 || total > mostBackup {
			return fmt.Errorf("it would unpack to more than %d GiB", mostBackup>>30)
		}
		mode := os.FileMode(0o600)
		if dir == "templates/" || dir == "receivers/" || want.Name == SettingsFile {
			mode = 0o644
		}
		f, err := os.OpenFile(filepath.Join(into, filepath.FromSlash(want.Name)), os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
		if err != nil {
			return disk.Plain(err)
		}
		sum := sha256.New()
		_, err = io.CopyN(io.MultiWriter(f, sum), t, want.Size)
		if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
			return fmt.Errorf("it is cut short, in %s: take another copy of the backup: %w", want.Name, err)
		}
		if hex.EncodeToString(sum.Sum(nil)) != want.SHA256 {
			return fmt.Errorf("%s in it was changed: its hash is not the manifest's: take another copy of the backup", want.Name)
		}
	}
	return nil
}

// settle checks the restored records against the manifest, and lets numbers go on
// where none was given out before.
func (w World) settle(ctx context.Context, records string, b Backup) (int64, error) {
	s, err := store.Open(ctx, records)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	known, err := store.ParseHead(b.Head)
	if err != nil {
		return 0, err
	}
	if _, err := s.VerifyJournal(ctx, &known); err != nil {
		return 0, fmt.Errorf("the journal in it is not whole: %w", err)
	}
	if id, err := s.EstateID(ctx); err != nil || id != b.Estate {
		return 0, errors.Join(err, errors.New("the records in it are of another estate than its manifest says"))
	}
	var next int64
	_, err = s.Act(ctx, w.Now(), w.Actor, nil, func(tx *store.Tx) ([]store.Entry, error) {
		if next, err = tx.SkipRequests(); err != nil {
			return nil, err
		}
		return []store.Entry{entry("restore", "estate", "backup", b.Head, "made", b.Made.Format(time.RFC3339), "next request", next)}, nil
	})
	return next, err
}
