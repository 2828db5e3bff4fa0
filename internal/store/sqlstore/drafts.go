package sqlstore

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"ironseal/internal/store"
	"ironseal/pki/journal"
)

// AddDraft remembers where the key of a draft was written.
func (t *Tx) AddDraft(key [32]byte, file string, encrypted bool) error {
	n := 0
	if encrypted {
		n = 1
	}
	_, err := t.Exec("INSERT INTO draft VALUES (?,?,?,?)", key[:], file, n, journal.Stamp(t.At))
	return err
}

// DropDraft forgets a draft's key.
func (t *Tx) DropDraft(key [32]byte) error {
	_, err := t.Exec("DELETE FROM draft WHERE key_sha256 = ?", key[:])
	return err
}

// DraftKey tells where the key of a draft was written, or "".
func (s *Store) DraftKey(ctx context.Context, key [32]byte) (file string, encrypted bool, err error) {
	err = s.QueryRow(ctx, "SELECT file, sealed FROM draft WHERE key_sha256 = ?", key[:]).Scan(&file, &encrypted)
	if errors.Is(err, sql.ErrNoRows) {
		return "", false, nil
	}
	return file, encrypted, err
}

// UnfinishedWithdrawals lists them.
func (s *Store) UnfinishedWithdrawals(ctx context.Context) ([]store.UnfinishedWithdrawal, error) {
	rows, err := s.Querier().QueryContext(ctx, `SELECT max(r.number), d.file FROM draft d
		JOIN request r ON r.key_sha256 = d.key_sha256 GROUP BY d.key_sha256
		HAVING count(CASE WHEN r.state <> 'withdrawn' THEN 1 END) = 0 ORDER BY 1`)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	var out []store.UnfinishedWithdrawal
	for rows.Next() {
		var u store.UnfinishedWithdrawal
		if err := rows.Scan(&u.Number, &u.File); err != nil {
			return nil, err
		}
		out = append(out, u)
	}
	return out, s.Explain(rows.Err())
}

// DraftFiles are the places where drafts' keys were written.
func (s *Store) DraftFiles(ctx context.Context) ([]string, error) {
	rows, err := s.Querier().QueryContext(ctx, "SELECT file FROM draft ORDER BY file")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var file string
		if err := rows.Scan(&file); err != nil {
			return nil, err
		}
		out = append(out, file)
	}
	return out, s.Explain(rows.Err())
}

// DraftKeys are the fingerprints of all keys that were drafted here.
func (s *Store) DraftKeys(ctx context.Context) (map[[32]byte]bool, error) {
	rows, err := s.Querier().QueryContext(ctx, "SELECT key_sha256 FROM draft")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	out := map[[32]byte]bool{}
	for rows.Next() {
		var key []byte
		if err := rows.Scan(&key); err != nil {
			return nil, err
		}
		out[[32]byte(append(key, make([]byte, 32)...))] = true
	}
	return out, s.Explain(rows.Err())
}

// KnownKeys are the fingerprints, in hex, of all keys that belong to an authority or
// to a request that one sent, answered or not. It reads no certificate, so that one
// that is damaged hides no key.
func (s *Store) KnownKeys(ctx context.Context) (map[string]bool, error) {
	rows, err := s.Querier().QueryContext(ctx, "SELECT key_sha256 FROM certificate WHERE id IN (SELECT certificate "+
		"FROM "+
		"generation) UNION SELECT key_sha256 FROM sent")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	out := map[string]bool{}
	for rows.Next() {
		var key []byte
		if err := rows.Scan(&key); err != nil {
			return nil, err
		}
		out[fmt.Sprintf("%x", key)] = true
	}
	return out, s.Explain(rows.Err())
}

// EncryptDraft records that the key of a draft is encrypted now.
func (t *Tx) EncryptDraft(key [32]byte) error {
	_, err := t.Exec("UPDATE draft SET sealed = 1 WHERE key_sha256 = ?", key[:])
	return err
}
