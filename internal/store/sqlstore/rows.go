package sqlstore

import (
	"context"
	"fmt"
	"slices"
)

// tables are what records consist of.
var tables = []string{"meta", "authority", "template", "request", "certificate", "generation", "link", "sent", "holder",
	"revocation", "place", "carried", "name", "outside", "draft", "waiver", "journal", "moduli", "flaw"}

// Row is one row of a table, by column: int64, string or []byte.
type Row map[string]any

// Text is a column's text; "" where it holds none.
func (r Row) Text(column string) string { s, _ := r[column].(string); return s }

// Int is a column's number; 0 where it holds none.
func (r Row) Int(column string) int64 { n, _ := r[column].(int64); return n }

// Bytes are a column's bytes; nil where it holds none.
func (r Row) Bytes(column string) []byte { b, _ := r[column].([]byte); return b }

// EachRow calls fn for every row of a table as it is stored, for a check that
// believes nothing.
func (s *Store) EachRow(ctx context.Context, table string, fn func(Row) error) error {
	if !slices.Contains(tables, table) {
		return fmt.Errorf("records have no table %q", table)
	}
	rows, err := s.Q().QueryContext(ctx, "SELECT rowid AS rowid, * FROM "+table+" ORDER BY rowid")
	if err != nil {
		return s.Explain(err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	for rows.Next() {
		values, into := make([]any, len(columns)), make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		row := Row{}
		for i, c := range columns {
			row[c] = values[i]
		}
		if err := fn(row); err != nil {
			return err
		}
	}
	return s.Explain(rows.Err())
}
