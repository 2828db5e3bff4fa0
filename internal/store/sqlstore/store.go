// Package records keeps an estate's records in SQL, in one file.
//
// Every change is one short transaction that ends by linking its entries into
// the journal, so that nothing is on record without its entry and no entry is
// there without its record. The database is SQLite with a write-ahead log and
// full synchronisation: when Act returns, the change survives a power cut.
// Several programs may work on one estate; a writer waits for the other.
package sqlstore

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ironseal/internal/store"
	"ironseal/internal/store/sqlite"
)

// Store is an estate's records, or what they were at one moment.
type Store struct {
	*sqlite.DB
	loaded *hierarchyCache // shared by all that read one database
	turn   *turns          // of changes of one program
	times  *times          // of entries that were committed
}

// View lets fn read the records as they are at one moment, while others keep writing.
// The moment is that of the first reading.
func (s *Store) View(ctx context.Context, fn func(store.Store) error) error {
	return s.DB.View(ctx, func(d *sqlite.DB) error { return fn(&Store{d, s.loaded, s.turn, s.times}) })
}

func storeOf(d *sqlite.DB) *Store { return &Store{d, &hierarchyCache{}, &turns{}, &times{}} }

// Create makes the records of a new estate.
func Create(ctx context.Context, path, estateID string) (*Store, error) {
	d, err := sqlite.Create(ctx, path)
	if err != nil {
		return nil, err
	}
	c, err := d.Begin(ctx, time.Now)
	if err == nil {
		defer c.Rollback()
		_, err = c.Exec("INSERT INTO meta VALUES ('version', ?), ('estate', ?)", fmt.Sprint(sqlite.Version), estateID)
	}
	if err == nil {
		err = c.Commit()
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("records %s: %w", path, err), d.Close())
	}
	return storeOf(d), nil
}

// Open opens the records of an estate. Records of an earlier form are taken up; those
// of a newer one, and files that are no records, are refused.
func Open(ctx context.Context, path string) (*Store, error) {
	d, form, err := sqlite.Open(ctx, path)
	if err != nil {
		return nil, err
	}
	s := storeOf(d)
	switch {
	case form == fmt.Sprint(sqlite.Version):
		return s, nil
	case migrates(form) && s.Writable():
		err = s.migrate(ctx, form)
	default:
		err = otherForm(path, form)
	}
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// otherForm says why records of another form are not opened.
func otherForm(path, form string) error {
	if migrates(form) {
		return fmt.Errorf("records %s: they have form %s, and would be taken up to form %d, but nothing can be "+
			"written here: open them once where it can", path, form, sqlite.Version)
	}
	return fmt.Errorf("records %s: they have form %s, made by a newer program: this one reads forms up to %d: use "+
		"the newer program", path, form, sqlite.Version)
}

// EstateID is the random name that the estate was given when it was made.
func (s *Store) EstateID(ctx context.Context) (string, error) {
	var id string
	err := s.QueryRow(ctx, "SELECT value FROM meta WHERE key = 'estate'").Scan(&id)
	return id, err
}

// MarkRehearsal makes the records those of a rehearsal, permanently.
func (t *Tx) MarkRehearsal() error {
	_, err := t.Exec("INSERT INTO meta VALUES ('rehearsal', 'yes')")
	return err
}

// IsRehearsal reports whether the records are those of a rehearsal.
func (s *Store) IsRehearsal(ctx context.Context) (bool, error) {
	var n int
	err := s.QueryRow(ctx, "SELECT count(*) FROM meta WHERE key = 'rehearsal'").Scan(&n)
	return n > 0, err
}
