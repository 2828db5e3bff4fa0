// Package sqlstore keeps an estate's records in SQL, in a file or on a server.
//
// Every change is one short transaction that ends by linking its entries into
// the journal, so that nothing is on record without its entry and no entry is
// there without its record. The database is SQLite with a write-ahead log and
// full synchronisation, or PostgreSQL: when Act returns, the change survives a power cut.
// Several programs may work on one estate; a writer waits for the other.
package sqlstore

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ironseal/internal/store"
	"ironseal/internal/store/postgres"
	"ironseal/internal/store/sqldb"
	"ironseal/internal/store/sqlite"
)

// Store is an estate's records, or what they were at one moment.
type Store struct {
	*sqldb.DB
	loaded *hierarchyCache // shared by all that read one database
	turn   *turns          // of changes of one program
	times  *times          // of entries that were committed
	heads  *notes          // that this program is to note
	moment *momentary      // what was read at one moment; nil where what is newest is read
}

// View lets fn read the records as they are at one moment, while others keep writing.
// The moment is that of the first reading.
func (s *Store) View(ctx context.Context, fn func(store.Store) error) error {
	if s.moment != nil {
		return fn(s)
	}
	return s.DB.View(ctx, func(d *sqldb.DB) error {
		return fn(&Store{d, s.loaded, s.turn, s.times, s.heads, &momentary{}})
	})
}

func storeOf(d *sqldb.DB) *Store {
	return &Store{d, &hierarchyCache{}, &turns{}, &times{}, &notes{}, nil}
}

// Create makes the records of a new estate.
func Create(ctx context.Context, place store.Place, estateID string) (*Store, error) {
	s, err := createEmpty(ctx, place)
	if err != nil {
		return nil, err
	}
	c, err := s.Begin(ctx, time.Now)
	if err == nil {
		defer c.Rollback()
		_, err = c.Exec("INSERT INTO meta VALUES ('version', ?), ('estate', ?)", fmt.Sprint(sqldb.Version), estateID)
	}
	if err == nil {
		err = c.Commit()
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("records %s: %w", s.Place(), err), s.Close())
	}
	return s, nil
}

// createEmpty makes the tables. It decides which database keeps them.
func createEmpty(ctx context.Context, place store.Place) (*Store, error) {
	if postgres.IsURL(place.At) {
		d, err := postgres.Create(ctx, place.At, place.Head)
		if err != nil {
			return nil, err
		}
		return storeOf(d), nil
	}
	d, err := sqlite.Create(ctx, place.At)
	if err != nil {
		return nil, err
	}
	return storeOf(d), nil
}

func open(ctx context.Context, place store.Place) (*sqldb.DB, string, error) {
	if postgres.IsURL(place.At) {
		return postgres.Open(ctx, place.At, place.Head)
	}
	return sqlite.Open(ctx, place.At)
}

// Open opens the records of an estate. Records of an earlier form are taken up; those
// of a newer one, and files that are no records, are refused.
func Open(ctx context.Context, place store.Place) (*Store, error) {
	d, form, err := open(ctx, place)
	if err != nil {
		return nil, err
	}
	s := storeOf(d)
	switch {
	case form == fmt.Sprint(sqldb.Version):
		return s, nil
	case migrates(form) && s.Writable():
		err = s.migrate(ctx, form)
	default:
		err = otherForm(s.Place(), form)
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
			"written here: open them once where it can", path, form, sqldb.Version)
	}
	return fmt.Errorf("records %s: they have form %s, made by a newer program: this one reads forms up to %d: use "+
		"the newer program", path, form, sqldb.Version)
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

// Snapshot writes the records as they are at one moment into a new file.
func (s *Store) Snapshot(ctx context.Context, file string) error {
	err := s.Dialect.Snapshot(ctx, s.DB, file)
	if !errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	to, err := Copy(ctx, s, store.File(file))
	if err != nil {
		return err
	}
	return to.Close()
}

// CopyTo writes all records to a new place of any kind, and opens them there.
func (s *Store) CopyTo(ctx context.Context, place store.Place) (store.Store, error) {
	to, err := Copy(ctx, s, place)
	if err != nil {
		return nil, err
	}
	return to, nil
}

// CheckIntegrity asks the database to check itself.
func (s *Store) CheckIntegrity(ctx context.Context) error { return s.Dialect.CheckIntegrity(ctx, s.DB) }

// Schema says how the tables differ from those that this program makes.
func (s *Store) Schema(ctx context.Context) ([]string, error) { return s.Dialect.Schema(ctx, s.DB) }

// LimitPages bounds the size of records in a file, to try what happens on a full disk.
func (s *Store) LimitPages(ctx context.Context) error { return sqlite.LimitPages(ctx, s.DB) }
