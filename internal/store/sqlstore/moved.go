package sqlstore

import (
	"context"
	"database/sql"
	"errors"

	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
)

// Records that were moved say so: a program that still has their address reports it and can record nothing.

// movedKey is the row of the table meta that says it. It is not copied.
const movedKey = "moved"

// MarkMoved notes that the records are kept elsewhere from now on; "" takes the note back.
func (t *Tx) MarkMoved(to string) error {
	t.moves = true
	if _, err := t.Exec("DELETE FROM meta WHERE key = ?", movedKey); err != nil || to == "" {
		return err
	}
	_, err := t.Exec("INSERT INTO meta (key, value) VALUES (?, ?)", movedKey, to)
	return err
}

// MovedTo is where the records are kept since they were moved; "" while they are kept here.
func (s *Store) MovedTo(ctx context.Context) (string, error) {
	to, err := movedTo(ctx, s.Querier())
	return to, s.Explain(err)
}

func movedTo(ctx context.Context, q sqldb.Querier) (to string, err error) {
	err = q.QueryRowContext(ctx, "SELECT value FROM meta WHERE key = ?", movedKey).Scan(&to)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return to, err
}

// Newer reports whether records on a server have the entry that this machine noted last. What it finds there that is
// newer is noted. Records in a file are the machine's own, and are compared when the estate is checked.
func (s *Store) Newer(ctx context.Context) error {
	if !s.Shared() {
		return nil
	}
	noted, known := s.NotedHead() // before the records are read: others record, and note, meanwhile
	return s.Explain(s.View(ctx, func(moment store.Store) error {
		now := moment.(*Store)
		head, _, err := now.Newest(ctx)
		if err != nil {
			return err
		}
		if !known {
			s.note(head)
			return nil
		}
		en, err := scanEntry(now.QueryRow(ctx, entryQuestion+"seq = ?", noted.Seq))
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if err != nil || en.Head() != noted {
			return &store.BehindNoteError{Seen: noted, Have: head}
		}
		s.note(head)
		return nil
	}))
}
