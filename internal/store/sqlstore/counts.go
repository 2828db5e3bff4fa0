package sqlstore

import (
	"context"
	"time"

	"ironseal/internal/store"
)

// CountSuperseded counts them, by generation.
func (s *Store) CountSuperseded(ctx context.Context, now time.Time) ([]store.GenerationCount, error) {
	return s.counted(ctx, `SELECT g.handle || '.g' || g.number, count(*) FROM (
			SELECT x.id, a.handle, x.number FROM generation x JOIN authority a ON a.id = x.authority
			WHERE EXISTS (SELECT 1 FROM generation y WHERE y.authority = x.authority AND y.number > x.number
				AND y.staged = '')) g
		`+s.InOrder()+` certificate c ON c.issuer = g.id
		WHERE c.replaced_by IS NULL AND c.staged = '' AND c.not_after >= ?
			AND c.id NOT IN (SELECT certificate FROM generation) AND c.id NOT IN (SELECT certificate FROM link)
			AND NOT (coalesce(c.request, 0) = 0 AND c.template IS NOT NULL)
			AND NOT EXISTS (SELECT 1 FROM revocation r WHERE r.authority = c.authority AND r.serial = c.serial
				AND r.released = '')
		GROUP BY g.id, g.handle, g.number ORDER BY g.handle, g.number`, now.Unix())
}

// CountCurrent counts the certificates that have not ended, were not replaced and were not revoked themselves, by
// the generation that signed them.
func (s *Store) CountCurrent(ctx context.Context, now time.Time) ([]store.GenerationCount, error) {
	return s.counted(ctx, `SELECT a.handle || '.g' || g.number, count(*) FROM generation g
		JOIN authority a ON a.id = g.authority JOIN certificate c ON c.issuer = g.id
		WHERE c.replaced_by IS NULL AND c.staged = '' AND c.not_after >= ? AND c.id NOT IN
			(SELECT certificate FROM link)
			AND c.id <> g.certificate AND NOT (coalesce(c.request, 0) = 0 AND c.template IS NOT NULL
				AND c.id NOT IN (SELECT certificate FROM generation))
			AND NOT EXISTS (SELECT 1 FROM revocation r WHERE r.authority = c.authority AND r.serial = c.serial
				AND r.released = '')
		GROUP BY g.id, a.handle, g.number ORDER BY a.handle, g.number`, now.Unix())
}

func (s *Store) counted(ctx context.Context, query string, args ...any) ([]store.GenerationCount, error) {
	rows, err := s.Querier().QueryContext(ctx, query, args...)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	out := []store.GenerationCount{}
	for rows.Next() {
		var b store.GenerationCount
		if err := rows.Scan(&b.Generation, &b.Certificates); err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return out, s.Explain(rows.Err())
}

// ServingGenerations names the generations that certificates which serve today were signed by.
func (s *Store) ServingGenerations(ctx context.Context, now time.Time) (out []string, err error) {
	rows, err := s.Querier().QueryContext(ctx, `SELECT a.handle || '.g' || g.number FROM generation g
		JOIN authority a ON a.id = g.authority
		WHERE EXISTS (SELECT 1 FROM certificate c WHERE c.issuer = g.id AND c.not_after >= ?
			AND c.id NOT IN (SELECT certificate FROM generation) AND c.id NOT IN (SELECT certificate FROM link))
		ORDER BY g.id`, now.Unix())
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
