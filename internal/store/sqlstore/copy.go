package sqlstore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
)

// rowsTogether is how many rows are written by one statement where records are copied.
const rowsTogether = 200

// Copy writes all records, as they are at one moment, to a new place of any kind: the same rows, and so the same
// journal. What it made is taken away again where it fails, as far as the database can.
func Copy(ctx context.Context, from *Store, place store.Place) (*Store, error) {
	to, err := createEmpty(ctx, place)
	if err != nil {
		return nil, err
	}
	err = from.View(ctx, func(moment store.Store) error {
		c, err := to.Begin(ctx, time.Now)
		if err != nil {
			return err
		}
		defer c.Rollback()
		if err := to.LaterRelations(c); err != nil {
			return err
		}
		for _, table := range tables {
			if err := copyTable(ctx, moment, c, table); err != nil {
				return fmt.Errorf("table %s: %w", table, err)
			}
		}
		if err := to.Continue(c); err != nil {
			return err
		}
		return c.Commit()
	})
	if err != nil {
		return nil, errors.Join(to.Explain(err), to.Close())
	}
	if head, _, err := to.Newest(ctx); err == nil {
		to.note(head)
	}
	return to, nil
}

func copyTable(ctx context.Context, from store.Store, c *sqldb.Change, table string) error {
	var columns []string
	var values []any
	flush := func() error {
		if len(values) == 0 {
			return nil
		}
		err := c.Insert(table, join(columns), values)
		values = values[:0]
		return err
	}
	err := from.EachRow(ctx, table, func(row store.Row) error {
		if table == "meta" && row.Text("key") == movedKey {
			return nil
		}
		if columns == nil {
			for name := range row {
				if name != "rowid" {
					columns = append(columns, name)
				}
			}
			slices.Sort(columns)
		}
		for _, name := range columns {
			values = append(values, row[name])
		}
		if len(values) < rowsTogether*len(columns) {
			return nil
		}
		return flush()
	})
	if err != nil {
		return err
	}
	return flush()
}

// join writes the names of columns. Some of them are words of SQL elsewhere.
func join(columns []string) (out string) {
	for i, c := range columns {
		if i > 0 {
			out += ", "
		}
		out += `"` + c + `"`
	}
	return out
}
