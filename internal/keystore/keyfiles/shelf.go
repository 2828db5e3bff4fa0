package keyfiles

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"ironseal/internal/disk"
	"ironseal/pki/fault"
	"ironseal/pki/key"
)

// Sealed files may stand in the estate's records, for several machines to sign with one key. They are sealed there as
// they are in the directory: the records never hold what opens them. Where a file is in both places, that of the
// records counts, so that what opened an earlier one opens nothing at any machine.

// Shelf is where sealed files are kept besides the directory.
type Shelf interface {
	// Sealed is a file by its name; an error of the kind fault.NotFound if none exists.
	Sealed(ctx context.Context, name string) ([]byte, error)
	// SealedNames lists the files there.
	SealedNames(ctx context.Context) ([]string, error)
	// PutSealed replaces a file, which must be as it was: nil for one that is not there before, or after.
	PutSealed(ctx context.Context, name string, was, is []byte) error
}

// name is the name of a key's file.
func (c *Files) name(p key.Public) string { return fmt.Sprintf("%x.key", p.Fingerprint()) }

// load reads a file, and says whether it is on the shelf.
func (c *Files) load(name string) (data []byte, shelved bool, err error) {
	if c.Shelf != nil {
		data, err := c.Shelf.Sealed(context.Background(), name)
		if !errors.Is(err, fault.NotFound) { // the file here may be an earlier one: it is no answer
			return data, err == nil, err
		}
	}
	data, err = disk.Read(filepath.Join(c.Dir, name), mostKey)
	return data, false, err
}

// add writes a file that is new.
func (c *Files) add(name string, data []byte) error {
	if c.Shelf != nil && c.Shelve {
		return c.Shelf.PutSealed(context.Background(), name, nil, data)
	}
	return c.Disk.New(filepath.Join(c.Dir, name), data, 0o600)
}

// drop takes a file away, wherever it is.
func (c *Files) drop(name string) error {
	data, shelved, err := c.load(name)
	if err == nil && shelved {
		return c.Shelf.PutSealed(context.Background(), name, data, nil)
	}
	return c.Disk.Remove(filepath.Join(c.Dir, name))
}

// notes are the names of the notes of a key's files.
func (c *Files) notes(fingerprint string, shelved bool) (out []string, err error) {
	if !shelved {
		list, err := filepath.Glob(filepath.Join(c.Dir, fingerprint+".*.shares"))
		for _, f := range list {
			out = append(out, filepath.Base(f))
		}
		return out, err
	}
	all, err := c.Shelf.SealedNames(context.Background())
	for _, n := range all {
		if strings.HasPrefix(n, fingerprint+".") && strings.HasSuffix(n, ".shares") {
			out = append(out, n)
		}
	}
	return out, err
}

// ToShelf copies a key's file, and the note of who has its shares, to the shelf. What is in the directory stays until
// SetAside.
func (c *Files) ToShelf(p key.Public, handle string) error {
	ctx := context.Background()
	data, shelved, err := c.load(c.name(p))
	switch {
	case c.Shelf == nil:
		return fault.New(fault.Unavailable, "there is no other place for keys")
	case err != nil:
		return fault.New(fault.Unavailable, "key of %s: it is in no file here", handle).On(fault.Key.Named("%s",
			handle))
	case shelved:
		return nil
	}
	names, err := c.notes(fmt.Sprintf("%x", p.Fingerprint()), false)
	if err != nil {
		return err
	}
	for _, n := range names { // before the file that they belong to
		note, err := disk.Read(filepath.Join(c.Dir, n), mostKey)
		if err != nil {
			return err
		}
		if err := c.shelve(ctx, n, note); err != nil {
			return err
		}
	}
	return c.shelve(ctx, c.name(p), data)
}

// shelve puts a file on the shelf, unless just this one is there.
func (c *Files) shelve(ctx context.Context, name string, data []byte) error {
	switch have, err := c.Shelf.Sealed(ctx, name); {
	case err == nil && string(have) == string(data):
		return nil
	case err != nil && !errors.Is(err, fault.NotFound):
		return err
	}
	return c.Shelf.PutSealed(ctx, name, nil, data)
}

// FromShelf copies a key's file, and the note of who has its shares, to the directory. What is on the shelf stays until
// OffShelf.
func (c *Files) FromShelf(p key.Public, handle string) error {
	data, shelved, err := c.load(c.name(p))
	if err != nil {
		return fault.New(fault.Unavailable, "key of %s: %w", handle, err).On(fault.Key.Named("%s", handle))
	}
	if !shelved {
		return nil
	}
	names, err := c.notes(fmt.Sprintf("%x", p.Fingerprint()), true)
	if err != nil {
		return err
	}
	for _, n := range names {
		note, err := c.Shelf.Sealed(context.Background(), n)
		if err == nil {
			err = c.Disk.Replace(filepath.Join(c.Dir, n), note, 0o600)
		}
		if err != nil {
			return err
		}
	}
	return c.Disk.Replace(filepath.Join(c.Dir, c.name(p)), data, 0o600)
}

// OffShelf takes a key's file and its notes off the shelf.
func (c *Files) OffShelf(p key.Public) error {
	names, err := c.notes(fmt.Sprintf("%x", p.Fingerprint()), true)
	if err != nil {
		return err
	}
	for _, n := range append([]string{c.name(p)}, names...) {
		data, err := c.Shelf.Sealed(context.Background(), n)
		if errors.Is(err, fault.NotFound) {
			continue
		}
		if err == nil {
			err = c.Shelf.PutSealed(context.Background(), n, data, nil)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
