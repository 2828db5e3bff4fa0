package sqlstore

import (
	"context"
	"fmt"
	"slices"

	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
)

// tables are what records consist of.
var tables = []string{"meta", "authority", "template", "request", "certificate", "generation", "link", "sent", "holder",
	"revocation", "place", "carried", "name", "outside", "draft", "waiver", "journal", "derived", "moduli", "flaw",
	"sealed"}

// EachRow calls fn for every row of a table as it is stored, for a check that
// believes nothing.
func (s *Store) EachRow(ctx context.Context, table string, fn func(store.Row) error) error {
	if !slices.Contains(tables, table) {
		return fmt.Errorf("records have no table %q", table)
	}
	rows, err := s.Querier().StreamContext(ctx, s.DB.EachRow(table))
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
		row := store.Row{}
		for i, c := range columns {
			row[c] = values[i]
		}
		if err := fn(row); err != nil {
			return err
		}
	}
	return s.Explain(rows.Err())
}

// Form is the number of the form that the records have.
func (s *Store) Form() int { return sqldb.Version }
