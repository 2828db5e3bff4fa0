package backup

import (
	"archive/tar"
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
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/journal"
)

// Restored is an estate that was restored.
type Restored struct {
	Backup      Backup
	NextRequest int64 // request numbers continue here, so that none is used twice
}

// Restore makes an estate again from a backup, in a directory that is missing or
// empty. What is in the way is compared, so that the refusal says which is newer.
func Restore(ctx context.Context, file, dir string, w estate.Env) (Restored, error) {
	var out Restored
	fail := func(err error) (Restored, error) { return out, fmt.Errorf("restoring %s: %w", file, err) }
	f, err := os.Open(file)
	if err != nil {
		return fail(disk.Explain(err))
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
	if err := estate.CheckEmpty(dir); err != nil {
		return fail(inTheWay(ctx, dir, out.Backup, err))
	}
	err = disk.NewFolder(estate.RemoveIfEmpty(dir), func(into string) error {
		if err := disk.SetMode(into, 0o700); err != nil {
			return err
		}
		if err := unpack(ctx, t, out.Backup, into); err != nil {
			return err
		}
		settings, err := estate.ReadSettings(into)
		if err != nil {
			return err
		}
		if settings.Storage.OnServer() { // what was restored is a file, until it is moved
			if err := estate.PointTo(into, w.Disk, settings.Storage.File()); err != nil {
				return err
			}
		}
		out.NextRequest, err = settle(ctx, w.Filled(), filepath.Join(into, settings.Storage.File()), out.Backup)
		return err
	})
	if err != nil {
		return fail(err)
	}
	return out, nil
}

func readManifest(t *tar.Reader) (Backup, error) {
	var b Backup
	h, err := t.Next()
	if err != nil || h.Name != BackupManifest || h.Size > mostSmallFile {
		return b, errors.New("this is no backup of an estate, or its beginning is lost")
	}
	d := json.NewDecoder(io.LimitReader(t, mostSmallFile))
	d.DisallowUnknownFields()
	if err := d.Decode(&b); err != nil {
		return b, fmt.Errorf("its manifest cannot be parsed: %w", err)
	}
	if b.Form != 1 {
		return b, fmt.Errorf("it has form %d, and was made by another version of ironseal: restore it with that",
			b.Form)
	}
	return b, nil
}

// inTheWay describes what is already in the folder that a backup is to go to.
func inTheWay(ctx context.Context, dir string, b Backup, err error) error {
	e, openErr := estate.Open(ctx, dir, estate.Env{})
	if openErr != nil {
		return fmt.Errorf("%w; to put the backup in its place, move %s away first", err, dir)
	}
	defer e.Close()
	id, idErr := e.Records.EstateID(ctx)
	head, _, headErr := e.Records.Newest(ctx)
	if idErr != nil || headErr != nil {
		return errors.Join(err, idErr, headErr)
	}
	there, parseErr := journal.ParseHead(b.Head)
	switch {
	case id != b.Estate:
		return fmt.Errorf("%s is another estate (%s); the backup is of %s: choose another directory", dir,
			e.Settings.Organisation.Name, b.Organisation)
	case parseErr == nil && head.Seq > there.Seq:
		return fmt.Errorf("the backup is older than what is there: it ends at %s, and %s is at %s: restore it "+
			"elsewhere, or move %s away first", b.Head, dir, head, dir)
	}
	return fmt.Errorf("the estate is there already, at %s; the backup ends at %s: move %s away first", head, b.Head,
		dir)
}

// backupDirs are where a file of a backup may belong; "" is the estate itself.
var backupDirs = []string{"", "keys/", "templates/", "receivers/", "sets/", "platforms/", estate.AsideDir + "/",
	"lists/"}

// eachFile reads the files of a backup in their order, each compared with the
// manifest: its place, its size and its hash.
func eachFile(ctx context.Context, t *tar.Reader, b Backup, take func(want BackupFile, content io.Reader) error) error {
	var total int64
	for _, want := range b.Files {
		h, err := t.Next()
		if err != nil {
			return fmt.Errorf("it is cut short: %s is missing: take another copy of the backup", want.Name)
		}
		dir, _ := path.Split(want.Name)
		if h.Name != want.Name || h.Size != want.Size || path.Clean(want.Name) != want.Name ||
			!slices.Contains(backupDirs, dir) || strings.ContainsAny(want.Name, `\:`) {
			return fmt.Errorf("it does not hold what its manifest says: %q", want.Name)
		}
		if total += want.Size; want.Size < 0 || total > mostBackup {
			return fmt.Errorf("it would unpack to more than %d GiB", mostBackup>>30)
		}
		sum := sha256.New()
		content := &counted{r: io.TeeReader(io.LimitReader(t, want.Size), sum)}
		err = errors.Join(take(want, content), ctx.Err())
		switch {
		case err != nil:
			return fmt.Errorf("%s: %w", want.Name, err)
		case content.n != want.Size:
			return fmt.Errorf("it is cut short, in %s: take another copy of the backup", want.Name)
		case hex.EncodeToString(sum.Sum(nil)) != want.SHA256:
			return fmt.Errorf("%s in it was changed: its hash is not the manifest's: take another copy of the backup",
				want.Name)
		}
	}
	return nil
}

// counted counts what is read.
type counted struct {
	r io.Reader
	n int64
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	return n, err
}

// unpack writes every file of a backup.
func unpack(ctx context.Context, t *tar.Reader, b Backup, into string) error {
	for _, sub := range append(estate.DataDirs(), "keys") {
		if err := disk.OwnDir(filepath.Join(into, sub)); err != nil {
			return err
		}
	}
	return eachFile(ctx, t, b, func(want BackupFile, content io.Reader) error {
		dir, _ := path.Split(want.Name)
		mode := os.FileMode(0o600)
		if slices.Contains(append(estate.DataDirs(), "lists"), strings.TrimSuffix(dir, "/")) ||
			want.Name == estate.SettingsFile {
			mode = 0o644
		}
		target := filepath.Join(into, filepath.FromSlash(want.Name))
		if err := disk.OwnDir(filepath.Dir(target)); err != nil {
			return err
		}
		f, err := disk.CreateNew(target, mode)
		if err != nil {
			return disk.Explain(err)
		}
		_, err = io.Copy(f, content)
		return disk.Explain(errors.Join(err, f.Sync(), f.Close()))
	})
}

// settle checks the restored records against the manifest, and lets numbers continue
// where none was given out before.
func settle(ctx context.Context, w estate.Env, file string, b Backup) (int64, error) {
	s, err := estate.OpenRecords(ctx, store.File(file))
	if err != nil {
		return 0, err
	}
	defer s.Close()
	known, err := journal.ParseHead(b.Head)
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
	_, err = estate.ActOn(ctx, s, w, func(tx store.Tx) ([]event.Record, error) {
		if next, err = tx.SkipRequests(); err != nil {
			return nil, err
		}
		return []event.Record{event.On("estate", event.Restored{Backup: b.Head, Made: b.Made.Format(time.RFC3339),
			NextRequest: next})}, nil
	})
	return next, err
}
