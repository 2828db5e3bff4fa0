// Package foreign reads databases that other programs keep, such as the certificate store of a browser
// profile. It never writes them.
package foreign

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"strings"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

// ErrNoTable says that a foreign database has no table of the name.
var ErrNoTable = errors.New("the table is not in this database")

func hasTable(ctx context.Context, db *sql.DB, table string) (there bool, err error) {
	err = db.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = ?)",
		table).Scan(&there)
	return there, err
}

// Table reads a whole table of a database that is another program's, row by row, each as
// its values by column. The file is taken as it lies there, and never written: what its
// program has not put into it yet is not seen. A row has no values that are no bytes or text.
func Table(ctx context.Context, path, table string, most int, row func(map[string][]byte)) (err error) {
	u := url.URL{Scheme: "file", Opaque: url.PathEscape(path), RawQuery: "mode=ro&immutable=1&_pragma=query_only(1)"}
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	defer db.Close()
	if there, err := hasTable(ctx, db, table); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	} else if !there {
		return fmt.Errorf("%s: %w", path, ErrNoTable)
	}
	rows, err := db.QueryContext(ctx, "SELECT * FROM "+quoted(table)+" LIMIT ?", most+1)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	for n := 0; rows.Next(); n++ {
		if n == most {
			return fmt.Errorf("%s: more than %d rows", path, most)
		}
		values, into := make([]sql.RawBytes, len(names)), make([]any, len(names))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		one := map[string][]byte{}
		for i, v := range values {
			if v != nil {
				one[names[i]] = append([]byte(nil), v...)
			}
		}
		row(one)
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
