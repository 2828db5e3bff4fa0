package sqlstore

import (
	"context"
	"database/sql"
	"errors"

	"ironseal/internal/event"
	"ironseal/internal/store/sqldb"
	"ironseal/pki/journal"
)

// derive keeps which things an entry tells of, in the transaction that writes the entry.
func (t *Tx) derive(en journal.Entry) error {
	marks, err := event.Marks(en)
	if err != nil {
		return err
	}
	for _, m := range marks {
		if m.Later() {
			if err := t.ExecLater("INSERT INTO derived (kind, name, seq, at) VALUES (?,?,?,?) ON CONFLICT (kind, "+
				"name) DO "+
				"UPDATE SET seq = excluded.seq, at = excluded.at", string(m.Kind), m.Name, en.Seq, m.At); err != nil {
				return err
			}
			continue
		}
		var before event.Row
		err := t.QueryRow("SELECT seq, at FROM derived WHERE kind = ? AND name = ?", string(m.Kind), m.Name).Scan(
			&before.Seq, &before.At)
		there := err == nil
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		row, keep := m.Apply(en.Seq, before, there)
		switch {
		case keep && there && row == before:
			continue
		case there:
			if err := t.ExecLater("DELETE FROM derived WHERE kind = ? AND name = ?", string(m.Kind),
				m.Name); err != nil {
				return err
			}
		}
		if !keep {
			continue
		}
		if err := t.ExecLater("INSERT INTO derived (kind, name, seq, at) VALUES (?,?,?,?)", string(m.Kind), m.Name,
			row.Seq,
			row.At); err != nil {
			return err
		}
	}
	return nil
}

// rebuildDerived makes everything that is derived from the journal again. Entries that cannot be read are left to
// the check of the estate.
func (t *Tx) rebuildDerived() error {
	if _, err := t.Exec("DELETE FROM derived"); err != nil {
		return err
	}
	var list []journal.Entry
	rows, err := t.Query(entryQuestion + "true ORDER BY seq")
	if err := errors.Join(err, eachEntry(rows, func(en journal.Entry) error {
		if marks, err := event.Marks(en); err == nil && len(marks) > 0 {
			list = append(list, en)
		}
		return nil
	})); err != nil {
		return err
	}
	for _, en := range list {
		if err := t.derive(en); err != nil {
			return err
		}
	}
	return nil
}

const derivedQuestion = "SELECT d.name, j.seq, j.at, j.actor, j.act, j.object, j.detail, j.prev, j.hash FROM " +
	"derived d " +
	"JOIN journal j ON j.seq = d.seq WHERE d.kind = ?"

func derived(ctx context.Context, q sqldb.Querier, kind event.Kind, fn func(string, journal.Entry) error) error {
	rows, err := q.QueryContext(ctx, derivedQuestion+" ORDER BY d.seq, d.name", string(kind))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		name, en, err := scanDerived(rows)
		if err == nil {
			err = fn(name, en)
		}
		if err != nil {
			return err
		}
	}
	return rows.Err()
}

func scanDerived(row sqldb.Scanner) (name string, en journal.Entry, err error) {
	var at string
	err = row.Scan(&name, &en.Seq, &at, &en.Actor, &en.Act, &en.Object, &en.Detail, &en.Prev, &en.Hash)
	en.At = journal.Unstamp(at)
	return name, en, err
}

func derivedOf(ctx context.Context, q sqldb.Querier, kind event.Kind, name string) (journal.Entry, bool, error) {
	_, en, err := scanDerived(q.QueryRowContext(ctx, derivedQuestion+" AND d.name = ?", string(kind), name))
	if errors.Is(err, sql.ErrNoRows) {
		return en, false, nil
	}
	return en, err == nil, err
}

// Derived calls fn for every thing of a kind, in the order of the entries that count.
func (s *Store) Derived(ctx context.Context, kind event.Kind, fn func(string, journal.Entry) error) error {
	return s.Explain(derived(ctx, s.Querier(), kind, fn))
}

// DerivedOf is the entry that counts about one thing; false if none exists.
func (s *Store) DerivedOf(ctx context.Context, kind event.Kind, name string) (journal.Entry, bool, error) {
	en, there, err := derivedOf(ctx, s.Querier(), kind, name)
	return en, there, s.Explain(err)
}

// Derived is Store.Derived, inside an act.
func (t *Tx) Derived(ctx context.Context, kind event.Kind, fn func(string, journal.Entry) error) error {
	return derived(ctx, t.Querier(), kind, fn)
}

// DerivedOf is Store.DerivedOf, inside an act.
func (t *Tx) DerivedOf(ctx context.Context, kind event.Kind, name string) (journal.Entry, bool, error) {
	return derivedOf(ctx, t.Querier(), kind, name)
}
