package lineage

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"sync"

	"ironseal/internal/records/sqlite"
	"ironseal/pki/hierarchy"
)

// Kept is the hierarchy as it was when the journal had a head. It is shared by all that
// read it, and nobody changes it.
type Kept struct {
	mu   sync.Mutex
	head []byte // hash of the newest entry
	h    hierarchy.Hierarchy
}

// Hierarchy gives all authorities, parents before children. It is loaded again only when
// the journal has another head; what was given out is not to be changed.
func (s Reading) Hierarchy(ctx context.Context) (hierarchy.Hierarchy, error) {
	var out hierarchy.Hierarchy
	err := s.Moment(ctx, func(d *sqlite.DB) error {
		var head []byte
		err := d.Q().QueryRowContext(ctx, "SELECT hash FROM journal ORDER BY seq DESC LIMIT 1").Scan(&head)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		s.Kept.mu.Lock()
		defer s.Kept.mu.Unlock()
		if len(head) > 0 && bytes.Equal(s.Kept.head, head) {
			out = s.Kept.h
			return nil
		}
		if out, err = Load(ctx, d.Q()); err == nil {
			s.Kept.head, s.Kept.h = head, out
		}
		return err
	})
	return out, s.Explain(err)
}
