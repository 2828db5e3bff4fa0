package sqlstore

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"ironseal/internal/disk"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
	"ironseal/internal/store/sqlstore/factors"
	"ironseal/pki/cert"
	"ironseal/pki/coprime"
	"ironseal/pki/key"
	"ironseal/pki/request"
)

// migrates reports whether records of a form are brought to the form of this program.
func migrates(form string) bool {
	switch form {
	case "1", "2", "3", "4", "5", "6":
		return true
	}
	return false
}

// migrate brings records of an earlier form to the form that this program writes: a
// copy is made first, beside the file, and everything is done in one transaction.
func (s *Store) migrate(ctx context.Context, form string) error {
	copied := s.Place() + ".form-" + form
	if _, err := os.Lstat(copied); errors.Is(err, os.ErrNotExist) {
		if err := s.Snapshot(ctx, copied); err != nil {
			return fmt.Errorf("before the records are taken up from form %s: %w", form, err)
		}
		if err := disk.SetMode(copied, 0o600); err != nil {
			return fmt.Errorf("records %s: %w", copied, err)
		}
	}
	if err := s.Dialect.Rebuild(ctx, s.DB, func(c *sqldb.Change) error {
		t := &Tx{Change: c, keys: &factors.Moduli{}}
		if err := s.bring(t, form); err != nil {
			return fmt.Errorf("taking up the records from form %s: %w", form, err)
		}
		return nil
	}); err != nil {
		return err
	}
	head, _, err := s.Newest(ctx)
	if err == nil {
		s.note(head) // earlier forms had no note beside the records
	}
	return err
}

func (s *Store) bring(t *Tx, form string) error {
	var now string
	if err := t.QueryRow("SELECT value FROM meta WHERE key = 'version'").Scan(&now); err != nil ||
		now != form {
		return err // another program was quicker
	}
	steps := []func() error{func() error { return s.RebuildTables(t.Change) }}
	if form == "1" || form == "2" {
		steps = append(steps, t.rebuildColumns, t.learnAllKeys, func() error { return t.keys.Flush(t.Change) })
	}
	steps = append(steps, t.rebuildBriefs, t.rebuildAddresses, t.rebuildDerived)
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	if _, err := t.Exec("UPDATE meta SET value = ? WHERE key = 'version'",
		fmt.Sprint(sqldb.Version)); err != nil {
		return err
	}
	at, _, err := (&times{}).latest(t.Ctx, t.Querier())
	if err != nil {
		return err
	}
	last, err := newest(t.Ctx, t.Querier())
	if err != nil {
		return err
	}
	upgraded := event.On("records", event.RecordsUpgraded{From: form, To: fmt.Sprint(sqldb.Version)})
	for _, r := range append([]event.Record{upgraded}, t.more...) {
		e, err := r.Entry("")
		if err != nil {
			return err
		}
		e.At, e.Actor = at, "ironseal"
		if last, err = t.link(e, last); err != nil {
			return err
		}
	}
	return nil
}

// rebuildColumns writes again what is kept beside an object so that it can be found:
// keys are known by their value since form 3, and names by their one spelling.
func (t *Tx) rebuildColumns() error {
	if _, err := t.Exec("DELETE FROM name"); err != nil {
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
		_, err = t.Exec("UPDATE certificate SET serial = ?, title = ?, subject = ?, key_sha256 = ? WHERE id = ?",
			c.SerialHex(), c.Title(), c.Subject.String(), sum[:], id)
		return err
	})
	if err != nil {
		return err
	}
	if err := t.Insert("name", "kind, value, certificate", names); err != nil {
		return err
	}
	return t.each("SELECT number, der FROM request", func(number int64, der []byte) error {
		r, err := request.Read(der)
		if err != nil {
			return nil
		}
		sum := r.Key.Fingerprint()
		_, err = t.Exec("UPDATE request SET title = ?, key_sha256 = ? WHERE number = ?", r.Title(),
			sum[:], number)
		return err
	})
}

// rebuildBriefs writes what lists tell of certificates beside them: they are so since form 7.
func (t *Tx) rebuildBriefs() error {
	return t.each("SELECT id, der FROM certificate", func(id int64, der []byte) error {
		c, err := cert.Read(der)
		if err != nil {
			return nil // a check tells it
		}
		b := store.BriefOf(c)
		_, err = t.Exec("UPDATE certificate SET not_before = ?, key_kind = ?, names = ?, traits = ? WHERE id = ?",
			b.NotBefore.Unix(), b.KeyKind, b.NameList, int64(b.Traits), id)
		return err
	})
}

// rebuildAddresses finds again at which addresses certificates look for lists and issuers.
func (t *Tx) rebuildAddresses() error {
	type issued struct{ generation, part int64 }
	by := map[int64]issued{}
	rows, err := t.Query("SELECT id, issuer, part FROM certificate WHERE issuer IS NOT NULL")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var x issued
		if err := rows.Scan(&id, &x.generation, &x.part); err != nil {
			return err
		}
		by[id] = x
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return t.each("SELECT id, der FROM certificate WHERE issuer IS NOT NULL", func(id int64, der []byte) error {
		c, err := cert.Read(der)
		if err != nil {
			return nil // a check tells it
		}
		return t.addAddresses(c, by[id].generation, int(by[id].part))
	})
}

// each goes through the objects that a question gives. They are read to the end
// first: nothing is changed under a question.
func (t *Tx) each(question string, fn func(id int64, der []byte) error) error {
	rows, err := t.Query(question)
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

// learnAllKeys records the keys of everything that is on record.
func (t *Tx) learnAllKeys() error {
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
		for _, r := range t.keys.Rows {
			if coprime.Shares(r.Product, n.k.Modulus()) {
				if err := t.findSharedPrimes(r, sum, n.k.Modulus(), n.who); err != nil {
					return err
				}
			}
		}
		t.keys.Rows.Add(sum, n.k.Modulus())
	}
	return nil
}
