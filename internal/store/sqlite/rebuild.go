package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"ironseal/internal/store/sqldb"
)

// Rebuild lets fn make tables again in one transaction. The rules of the database between
// tables rest meanwhile, as its makers ask, and are checked before it is committed.
func (*file) Rebuild(ctx context.Context, d *sqldb.DB, fn func(*sqldb.Change) error) error {
	c, err := d.SQL().Conn(ctx)
	if err != nil {
		return d.Explain(err)
	}
	defer c.Close()
	if _, err := c.ExecContext(ctx, "PRAGMA foreign_keys = OFF"); err != nil {
		return d.Explain(err)
	}
	defer c.ExecContext(context.WithoutCancel(ctx), "PRAGMA foreign_keys = ON")
	tx, err := c.BeginTx(ctx, nil)
	if err != nil {
		return d.Explain(err)
	}
	defer tx.Rollback()
	if err := fn(sqldb.ChangeIn(ctx, d, tx)); err != nil {
		return d.Explain(err)
	}
	if err := related(ctx, sqldb.ChangeIn(ctx, d, tx).Querier()); err != nil {
		return err
	}
	return d.Explain(tx.Commit())
}

// RebuildTables makes every table as this program makes it, with the rows of the table
// that was there; what an earlier form had no column for gets its default.
func (*file) RebuildTables(t *sqldb.Change) error {
	were, err := objects(t.Ctx, t.Querier())
	if err != nil {
		return err
	}
	for _, kind := range []string{"trigger", "view", "index"} {
		for o, text := range were {
			if name, found := strings.CutPrefix(o, kind+" "); found && text != "" {
				if _, err := t.Exec("DROP " + kind + " " + quoted(name)); err != nil {
					return err
				}
			}
		}
	}
	var tables []string
	for o := range were {
		if name, found := strings.CutPrefix(o, "table "); found && !strings.HasPrefix(name, "sqlite_") {
			tables = append(tables, name)
			if _, err := t.Exec(
				"ALTER TABLE " + quoted(name) + " RENAME TO " + quoted("earlier "+name)); err != nil {
				return err
			}
		}
	}
	if _, err := t.Exec(schema); err != nil {
		return err
	}
	for _, name := range tables {
		if err := carryOver(t, name); err != nil {
			return err
		}
	}
	return nil
}

// renamed are columns of earlier forms that have another name and other values now, by table.
var renamed = map[string]struct{ was, is, value string }{
	"authority": {"elsewhere", "holder", "CASE elsewhere WHEN 0 THEN 'here' ELSE 'external' END"},
}

// carryOver copies the rows of a table of an earlier form. Numbers of requests continue
// where they were.
func carryOver(t *sqldb.Change, table string) error {
	var columns sql.NullString
	err := t.QueryRow(`SELECT group_concat('"' || name || '"') FROM pragma_table_info(?)
		WHERE name IN (SELECT name FROM pragma_table_info(?))`, table, "earlier "+table).Scan(&columns)
	if err == nil && !columns.Valid {
		err = fmt.Errorf("there is a table %s, which no form of the records has: it is not this program's", table)
	}
	if err != nil {
		return err
	}
	earlier := "earlier " + table
	into, from := columns.String, columns.String
	if changed, ok := renamed[table]; ok {
		var there bool
		if err := t.QueryRow("SELECT EXISTS (SELECT 1 FROM pragma_table_info(?) WHERE name = ?)", earlier,
			changed.was).Scan(&there); err != nil {
			return err
		}
		if there {
			into, from = into+", "+changed.is, from+", "+changed.value
		}
	}
	fill := fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", quoted(table), into, from, quoted(earlier))
	for _, step := range []struct {
		sentence string
		args     []any
	}{
		{fill, nil},
		{"DELETE FROM sqlite_sequence WHERE name = ?1 AND EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = ?2)",
			[]any{table, earlier}},
		{"UPDATE sqlite_sequence SET name = ?1 WHERE name = ?2", []any{table, earlier}},
		{"DROP TABLE " + quoted(earlier), nil},
	} {
		if _, err := t.Exec(step.sentence, step.args...); err != nil {
			return fmt.Errorf("table %s: %w", table, err)
		}
	}
	return nil
}

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// SkipRequests implements sqldb.Dialect.
func (*file) SkipRequests(t *sqldb.Change) (int64, error) {
	var last int64
	if err := t.QueryRow("SELECT coalesce(max(seq),0) FROM sqlite_sequence WHERE name = 'request'").
		Scan(&last); err != nil {
		return 0, err
	}
	next := (last/1000 + 1) * 1000
	if _, err := t.Exec("DELETE FROM sqlite_sequence WHERE name = 'request'"); err != nil {
		return 0, err
	}
	_, err := t.Exec("INSERT INTO sqlite_sequence (name, seq) VALUES ('request', ?)", next)
	return next + 1, err
}

// LaterRelations implements sqldb.Dialect.
func (*file) LaterRelations(c *sqldb.Change) error {
	_, err := c.Exec("PRAGMA defer_foreign_keys = ON")
	return err
}

// Continue implements sqldb.Dialect: numbers continue after the highest by themselves.
func (*file) Continue(*sqldb.Change) error { return nil }
