package sqlstore

import (
	"context"

	"ironseal/internal/store"
)

// byGeneration is a condition that a generation signed a certificate, by its name.
const byGeneration = ` issuer = (SELECT g.id FROM generation g JOIN authority a ON a.id = g.authority
	WHERE a.handle || '.g' || g.number = ?)`

// CountIssued counts what a generation signed, by its name.
func (s *Store) CountIssued(ctx context.Context, generation string) (n int, err error) {
	err = s.QueryRow(ctx, "SELECT count(*) FROM certificate WHERE"+byGeneration, generation).Scan(&n)
	return n, err
}

// LastPart is the last part of a generation's lists that anything it signed is on; 0 for none.
func (s *Store) LastPart(ctx context.Context, generation string) (part int, err error) {
	err = s.QueryRow(ctx, "SELECT coalesce(max(part), 0) FROM certificate WHERE"+byGeneration, generation).Scan(&part)
	return part, err
}

// TemplatesUsed lists them.
func (s *Store) TemplatesUsed(ctx context.Context) (out []store.TemplateUse, err error) {
	rows, err := s.Querier().QueryContext(ctx, `SELECT a.handle || '.g' || g.number, t.name, t.source
		FROM (SELECT DISTINCT
		issuer, template FROM certificate WHERE issuer IS NOT NULL AND template IS NOT NULL) d
		JOIN generation g ON g.id = d.issuer JOIN authority a ON a.id = g.authority
		JOIN template t ON t.sha256 = d.template
		ORDER BY 1, 2`)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var x store.TemplateUse
		if err := rows.Scan(&x.Generation, &x.Template, &x.Source); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, s.Explain(rows.Err())
}

// EachTemplate calls fn for every state of a template that something was signed by.
func (s *Store) EachTemplate(ctx context.Context, fn func(sum []byte, name string, source []byte)) error {
	rows, err := s.Querier().QueryContext(ctx, "SELECT sha256, name, source FROM template")
	if err != nil {
		return s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var sum, source []byte
		var name string
		if err := rows.Scan(&sum, &name, &source); err != nil {
			return err
		}
		fn(sum, name, source)
	}
	return s.Explain(rows.Err())
}

// HandedTo tells to whom a certificate was handed over.
func (s *Store) HandedTo(ctx context.Context, certificate int64) (out []string, err error) {
	rows, err := s.Querier().QueryContext(ctx, "SELECT who FROM holder WHERE certificate = ? ORDER BY who", certificate)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var who string
		if err := rows.Scan(&who); err != nil {
			return nil, err
		}
		out = append(out, who)
	}
	return out, s.Explain(rows.Err())
}
