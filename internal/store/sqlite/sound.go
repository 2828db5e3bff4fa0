package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironseal/internal/store/sqldb"
)

// Snapshot writes the records as they are at one moment into a new file, while
// others continue working.
func (*file) Snapshot(ctx context.Context, d *sqldb.DB, file string) error {
	if _, err := d.SQL().ExecContext(ctx, "VACUUM INTO ?", file); err != nil {
		return d.Explain(err)
	}
	return nil
}

// CheckIntegrity asks the database to check itself.
func (*file) CheckIntegrity(ctx context.Context, d *sqldb.DB) error {
	var word string
	if err := d.QueryRow(ctx, "PRAGMA quick_check(1)").Scan(&word); err != nil {
		return d.Explain(err)
	}
	if word != "ok" {
		return fmt.Errorf("the database is damaged: %s", word)
	}
	return related(ctx, d.Querier())
}

// related reports whether every row's relations are there.
func related(ctx context.Context, q sqldb.Querier) error {
	var table string
	err := q.QueryRowContext(ctx, "SELECT \"table\" FROM pragma_foreign_key_check LIMIT 1").Scan(&table)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil
	case err != nil:
		return err
	}
	return fmt.Errorf("a row of %s refers to something that is not there", table)
}

// LimitPages bounds the size of the database, to try what happens on a full disk.
func LimitPages(ctx context.Context, d *sqldb.DB) error {
	d.SQL().SetMaxOpenConns(1)
	var pages int
	if err := d.QueryRow(ctx, "PRAGMA page_count").Scan(&pages); err != nil {
		return err
	}
	_, err := d.SQL().ExecContext(ctx, fmt.Sprintf("PRAGMA max_page_count = %d", pages))
	return err
}

// Schema says how the tables, indexes, views and triggers differ from those that
// this program makes: a trigger would change records behind its back.
func (f *file) Schema(ctx context.Context, d *sqldb.DB) ([]string, error) {
	fresh, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	defer fresh.Close()
	fresh.SetMaxOpenConns(1) // each connection would have a memory of its own
	if _, err := fresh.ExecContext(ctx, schema); err != nil {
		return nil, err
	}
	want, err := objects(ctx, sqldb.New(fresh, f).Querier())
	if err != nil {
		return nil, err
	}
	have, err := objects(ctx, d.Querier())
	if err != nil {
		return nil, d.Explain(err)
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

func objects(ctx context.Context, db sqldb.Querier) (map[string]string, error) {
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
