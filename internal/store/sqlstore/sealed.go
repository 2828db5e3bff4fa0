package sqlstore

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"ironseal/internal/store"
	"ironseal/pki/fault"
)

// Sealed keys may stand in the records, for several machines. Whoever reads the records has them as they are: sealed.

// mostSealed bounds the octets of a sealed key.
const mostSealed = 1 << 20

// Sealed is a sealed key by the name of its file.
func (s *Store) Sealed(ctx context.Context, name string) (data []byte, err error) {
	err = s.Querier().QueryRowContext(ctx, "SELECT data FROM sealed WHERE name = ?", name).Scan(&data)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fault.New(fault.NotFound, "the records have no sealed key %s", name)
	}
	return data, s.Explain(err)
}

// SealedNames lists the sealed keys.
func (s *Store) SealedNames(ctx context.Context) (out []string, err error) {
	rows, err := s.Querier().QueryContext(ctx, "SELECT name FROM sealed ORDER BY name")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	return out, s.Explain(rows.Err())
}

// PutSealed replaces a sealed key, in a change of its own.
func (s *Store) PutSealed(ctx context.Context, name string, was, is []byte) error {
	c, err := s.Begin(ctx, time.Now)
	if err != nil {
		return s.Explain(err)
	}
	defer c.Rollback()
	if to, err := movedTo(ctx, c.Querier()); err != nil || to != "" {
		return errors.Join(s.Explain(err), &store.MovedError{To: to})
	}
	if err := (&Tx{Change: c}).PutSealed(name, was, is); err != nil {
		return s.Explain(err)
	}
	return s.Explain(c.Commit())
}

// PutSealed replaces a sealed key, which must be as it was.
func (t *Tx) PutSealed(name string, was, is []byte) error {
	var changed sql.Result
	var err error
	switch {
	case len(is) > mostSealed:
		return fault.New(fault.BadInput, "sealed key %s: it is too large", name)
	case was == nil:
		changed, err = t.Exec("INSERT INTO sealed (name, data) VALUES (?,?) ON CONFLICT DO NOTHING", name, is)
	case is == nil:
		changed, err = t.Exec("DELETE FROM sealed WHERE name = ? AND data = ?", name, was)
	default:
		changed, err = t.Exec("UPDATE sealed SET data = ? WHERE name = ? AND data = ?", is, name, was)
	}
	if err != nil {
		return err
	}
	if n, err := changed.RowsAffected(); err != nil || n != 1 {
		return errors.Join(err, fmt.Errorf("sealed key %s: %w: another program changed it meanwhile: nothing was "+
			"changed",
			name, fault.Changed))
	}
	return nil
}
