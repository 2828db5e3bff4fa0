package store

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
)

// tables are what records consist of.
var tables = []string{"meta", "authority", "template", "request", "certificate", "generation", "link", "sent", "holder",
	"revocation", "carried", "name", "outside", "draft", "waiver", "journal", "moduli", "flaw"}

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
	rows, err := s.q().QueryContext(ctx, "SELECT rowid AS rowid, * FROM "+table+" ORDER BY rowid")
	if err != nil {
		return s.explain(err)
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
	return s.explain(rows.Err())
}

// Schema says how the tables, indexes, views and triggers differ from those that
// this program makes: a trigger would change records behind its back.
func (s *Store) Schema(ctx context.Context) ([]string, error) {
	fresh, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	defer fresh.Close()
	fresh.SetMaxOpenConns(1) // each connection would have a memory of its own
	if _, err := fresh.ExecContext(ctx, schema); err != nil {
		return nil, err
	}
	want, err := objects(ctx, fresh)
	if err != nil {
		return nil, err
	}
	have, err := objects(ctx, s.q())
	if err != nil {
		return nil, s.explain(err)
	}
	var out []string
	for name, text := range have {
		switch w, ok := want[name]; {
		case !ok:
			out = append(out, "there is a "+name+", which this program did not make")
		case w != text:
			out = append(out, "the "+name+" is not as this program makes it")
		}
	}
	for name := range want {
		if _, ok := have[name]; !ok {
			out = append(out, "the "+name+" is missing")
		}
	}
	slices.Sort(out)
	return out, nil
}

func objects(ctx context.Context, db querier) (map[string]string, error) {
	rows, err := db.QueryContext(ctx, "SELECT type, name, coalesce(sql,'') FROM sqlite_schema")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var kind, name, text string
		if err := rows.Scan(&kind, &name, &text); err != nil {
			return nil, err
		}
		out[kind+" "+name] = strings.Join(strings.Fields(text), " ")
	}
	return out, rows.Err()
}
