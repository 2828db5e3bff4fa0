package sqlstore

import (
	"context"

	"ironseal/internal/store"
)

// Addresses lists all of them, by generation.
func (s *Store) Addresses(ctx context.Context) (out []store.Address, err error) {
	rows, err := s.Querier().QueryContext(ctx, "SELECT a.handle || '.g' || g.number, p.part, p.kind, p.address "+
		"FROM place "+
		"p JOIN generation g ON g.id = p.generation JOIN authority a ON a.id = g.authority ORDER BY 1, 2, 3, 4")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var p store.Address
		if err := rows.Scan(&p.Generation, &p.Part, &p.Kind, &p.Address); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, s.Explain(rows.Err())
}
