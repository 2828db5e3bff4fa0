package sqlstore

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"sync"

	"ironseal/internal/store/sqlite"
	"ironseal/pki/hierarchy"
)

// hierarchyCache is the hierarchy as it was when the journal had a head. Readers share it
// and do not change it.
type hierarchyCache struct {
	mu   sync.Mutex
	head []byte // hash of the newest entry
	h    hierarchy.Hierarchy
}

// Hierarchy gives all authorities, parents before children. It is loaded again only when
// the journal has another head; what was given out is not to be changed.
func (s *Store) Hierarchy(ctx context.Context) (hierarchy.Hierarchy, error) {
	var out hierarchy.Hierarchy
	err := s.DB.View(ctx, func(d *sqlite.DB) error {
		var head []byte
		err := d.Querier().QueryRowContext(ctx, "SELECT hash FROM journal ORDER BY seq DESC LIMIT 1").Scan(&head)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		s.loaded.mu.Lock()
		defer s.loaded.mu.Unlock()
		if len(head) > 0 && bytes.Equal(s.loaded.head, head) {
			out = s.loaded.h
			return nil
		}
		if out, err = Load(ctx, d.Querier()); err == nil {
			s.loaded.head, s.loaded.h = head, out
		}
		return err
	})
	return out, s.Explain(err)
}
