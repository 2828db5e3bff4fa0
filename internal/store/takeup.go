package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"strings"

	"ironseal/pki/cert"
	"ironseal/pki/key"
	"ironseal/pki/request"
)

// takesUp reports whether records of a form are brought to the form of this program.
func takesUp(form string) bool { return form == "1" || form == "2" }

// takeUp brings records of an earlier form to the form that this program writes: a
// copy is made first, beside the file, and everything is done in one transaction.
// The rules of the database between tables rest meanwhile, as its makers ask
// whenever tables are made anew, and are checked before it is committed.
func (s *Store) takeUp(ctx context.Context, form string) error {
	copied := s.path + ".form-" + form
	if _, err := os.Lstat(copied); errors.Is(err, os.ErrNotExist) {
		if err := s.Snapshot(ctx, copied); err != nil {
			return fmt.Errorf("before the records are taken up from form %s: %w", form, err)
		}
		if err := os.Chmod(copied, 0o600); err != nil {
			return fmt.Errorf("records %s: %w", copied, err)
		}
	}
	c, err := s.db.Conn(ctx)
	if err != nil {
		return s.explain(err)
	}
	defer c.Close()
	if _, err := c.ExecContext(ctx, "PRAGMA foreign_keys = OFF"); err != nil {
		return s.explain(err)
	}
	defer c.ExecContext(context.WithoutCancel(ctx), "PRAGMA foreign_keys = ON")
	tx, err := c.BeginTx(ctx, nil)
	if err != nil {
		return s.explain(err)
	}
	defer tx.Rollback()
	t := &Tx{ctx: ctx, tx: tx, keys: &moduli{}}
	if err := t.takeUp(form); err != nil {
		return fmt.Errorf("taking up the records from form %s: %w", form, s.explain(err))
	}
	return s.explain(tx.Commit())
}

func (t *Tx) takeUp(form string) error {
	var now string
	if err := t.tx.QueryRowContext(t.ctx, "SELECT value FROM meta WHERE key = 'version'").Scan(&now); err != nil ||
		now != form {
		return err // another program was quicker
	}
	for _, step := range []func() error{t.makeAnew, t.deriveAnew, t.learnAll, func() error { return t.keys.flush(t) }} {
		if err := step(); err != nil {
			return err
		}
	}
	if err := related(t.ctx, t.tx); err != nil {
		return err
	}
	if _, err := t.tx.ExecContext(t.ctx, "UPDATE meta SET value = ? WHERE key = 'version'",
		fmt.Sprint(Version)); err != nil {
		return err
	}
	at, err := latest(t.ctx, t.tx)
	if err != nil {
		return err
	}
	for _, e := range append([]Entry{{Act: "take up", Object: "records",
		Detail: fmt.Sprintf("from form %s to form %d", form, Version)}}, t.more...) {
		e.At, e.Actor = at, "ironseal"
		if _, err := t.link(e); err != nil {
			return err
		}
	}
	return nil
}

// makeAnew makes every table as this program makes it, with the rows of the table
// that was there; what an earlier form had no column for gets its default.
func (t *Tx) makeAnew() error {
	were, err := objects(t.ctx, t.tx)
	if err != nil {
		return err
	}
	for _, kind := range []string{"trigger", "view", "index"} {
		for o, text := range were {
			if name, found := strings.CutPrefix(o, kind+" "); found && text != "" {
				if _, err := t.tx.ExecContext(t.ctx, "DROP "+kind+" "+quoted(name)); err != nil {
					return err
				}
			}
		}
	}
	var tables []string
	for o := range were {
		if name, found := strings.CutPrefix(o, "table "); found && !strings.HasPrefix(name, "sqlite_") {
			tables = append(tables, name)
			if _, err := t.tx.ExecContext(t.ctx,
				"ALTER TABLE "+quoted(name)+" RENAME TO "+quoted("earlier "+name)); err != nil {
				return err
			}
		}
	}
	if _, err := t.tx.ExecContext(t.ctx, schema); err != nil {
		return err
	}
	for _, name := range tables {
		if err := t.carryOver(name); err != nil {
			return err
		}
	}
	return nil
}

// carryOver copies the rows of a table of an earlier form. Numbers of requests go on
// where they were.
func (t *Tx) carryOver(table string) error {
	var columns sql.NullString
	err := t.tx.QueryRowContext(t.ctx, `SELECT group_concat('"' || name || '"') FROM pragma_table_info(?)
		WHERE name IN (SELECT name FROM pragma_table_info(?))`, table, "earlier "+table).Scan(&columns)
	if err == nil && !columns.Valid {
		err = fmt.Errorf("there is a table %s, which no form of the records has: it is not this program's", table)
	}
	if err != nil {
		return err
	}
	earlier := "earlier " + table
	fill := fmt.Sprintf("INSERT INTO %[1]s (%[3]s) SELECT %[3]s FROM %[2]s", quoted(table), quoted(earlier),
		columns.String)
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
		if _, err := t.tx.ExecContext(t.ctx, step.sentence, step.args...); err != nil {
			return fmt.Errorf("table %s: %w", table, err)
		}
	}
	return nil
}

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// deriveAnew writes again what is kept beside an object so that it can be found:
// keys are known by their value since form 3, and names by their one spelling.
func (t *Tx) deriveAnew() error {
	if _, err := t.tx.ExecContext(t.ctx, "DELETE FROM name"); err != nil {
		return err
	}
	var names []any
	err := t.each("SELECT id, der FROM certificate", func(id int64, der []byte) error {
		c, err := cert.Read(der)
		if err != nil {
			return nil // it stays as it is; a check tells it
		}
		for _, x := range c.Names {
			names = append(names, string(x.Kind()), strings.ToLower(x.Value()), id)
		}
		sum := c.Key.Fingerprint()
		_, err = t.tx.ExecContext(t.ctx, "UPDATE certificate SET serial = ?, title = ?, subject = ?, key_sha256 = ? "+
			"WHERE id = ?", c.SerialHex(), c.Title(), c.Subject.String(), sum[:], id)
		return err
	})
	if err != nil {
		return err
	}
	if err := t.addNames(names); err != nil {
		return err
	}
	return t.each("SELECT number, der FROM request", func(number int64, der []byte) error {
		r, err := request.Read(der)
		if err != nil {
			return nil
		}
		sum := r.Key.Fingerprint()
		_, err = t.tx.ExecContext(t.ctx, "UPDATE request SET title = ?, key_sha256 = ? WHERE number = ?", r.Title(),
			sum[:], number)
		return err
	})
}

// each goes through the objects that a question gives. They are read to the end
// first: nothing is changed under a question.
func (t *Tx) each(question string, fn func(id int64, der []byte) error) error {
	rows, err := t.tx.QueryContext(t.ctx, question)
	if err != nil {
		return err
	}
	defer rows.Close()
	type object struct {
		id  int64
		der []byte
	}
	var list []object
	for rows.Next() {
		var o object
		if err := rows.Scan(&o.id, &o.der); err != nil {
			return err
		}
		list = append(list, o)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, o := range list {
		if err := fn(o.id, o.der); err != nil {
			return err
		}
	}
	return nil
}

// learnAll takes in the keys of everything that is on record.
func (t *Tx) learnAll() error {
	type named struct {
		k   key.Public
		who string
	}
	var list []named
	err := t.each("SELECT id, der FROM certificate", func(_ int64, der []byte) error {
		if c, err := cert.Read(der); err == nil && c.Key.Modulus() != nil {
			list = append(list, named{c.Key, c.Title()})
		}
		return nil
	})
	if err != nil {
		return err
	}
	err = t.each("SELECT number, der FROM request", func(_ int64, der []byte) error {
		if r, err := request.Read(der); err == nil && r.Key.Modulus() != nil {
			list = append(list, named{r.Key, r.Title()})
		}
		return nil
	})
	if err != nil {
		return err
	}
	known := map[[32]byte]bool{}
	for _, n := range list {
		sum := n.k.Fingerprint()
		if known[sum] {
			continue
		}
		known[sum] = true
		for _, r := range t.keys.rows {
			if shares(r.product, n.k.Modulus()) {
				if err := t.tell(r, sum, n.k.Modulus(), n.who); err != nil {
					return err
				}
			}
		}
		t.keys.add(sum, n.k.Modulus())
	}
	return nil
}

// keyOnRecord finds a key by its fingerprint, and whose it is.
func keyOnRecord(ctx context.Context, q querier, sum []byte) (key.Public, string, error) {
	var der []byte
	if err := q.QueryRowContext(ctx, "SELECT der FROM certificate WHERE key_sha256 = ? LIMIT 1",
		sum).Scan(&der); err == nil {
		c, err := cert.Read(der)
		if err != nil {
			return key.Public{}, "", err
		}
		return c.Key, c.Title(), nil
	}
	if err := q.QueryRowContext(ctx, "SELECT der FROM request WHERE key_sha256 = ? LIMIT 1",
		sum).Scan(&der); err != nil {
		return key.Public{}, "", err
	}
	r, err := request.Read(der)
	if err != nil {
		return key.Public{}, "", err
	}
	return r.Key, r.Title(), nil
}
