package sqldb

import (
	"context"
	"database/sql"
	"fmt"
	"reflect"
)

// rowsAtOnce is how many rows are fetched at a time where very many are asked for.
const rowsAtOnce = 1000

// taken are rows that were taken off their connection, so that another question can be asked meanwhile. more gets
// further ones; it is nil where these are all.
type taken struct {
	columns []string
	list    [][]any
	at      int
	more    func() ([][]any, error)
	end     func() error
	err     error
}

// take reads rows to the end, and closes them.
func take(rows *sql.Rows, value func(any) any) (columns []string, list [][]any, err error) {
	defer rows.Close()
	if columns, err = rows.Columns(); err != nil {
		return nil, nil, err
	}
	for rows.Next() {
		row, into := make([]any, len(columns)), make([]any, len(columns))
		for i := range row {
			into[i] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, nil, err
		}
		for i := range row {
			row[i] = value(row[i])
		}
		list = append(list, row)
	}
	return columns, list, rows.Err()
}

// Next implements Rows.
func (t *taken) Next() bool {
	if t.at++; t.at <= len(t.list) {
		return true
	}
	if t.more == nil || t.err != nil {
		return false
	}
	if t.list, t.err = t.more(); t.err != nil || len(t.list) == 0 {
		t.list, t.more = nil, nil
		return false
	}
	t.at = 1
	return true
}

// Err implements Rows.
func (t *taken) Err() error { return t.err }

// Columns implements Rows.
func (t *taken) Columns() ([]string, error) { return t.columns, nil }

// Close implements Rows.
func (t *taken) Close() error {
	t.list, t.more = nil, nil
	if end := t.end; end != nil {
		t.end = nil
		return end()
	}
	return nil
}

// Scan implements Scanner.
func (t *taken) Scan(into ...any) error {
	if t.at < 1 || t.at > len(t.list) {
		return sql.ErrNoRows
	}
	return assignAll(into, t.list[t.at-1])
}

func assignAll(into, values []any) error {
	if len(into) != len(values) {
		return fmt.Errorf("a row has %d columns, and %d were asked for", len(values), len(into))
	}
	for i, v := range values {
		if err := assign(into[i], v); err != nil {
			return fmt.Errorf("column %d: %w", i+1, err)
		}
	}
	return nil
}

// assign gives a value of the database to a variable. A number of a narrower type must fit.
func assign(into, v any) error {
	switch to := into.(type) {
	case *any:
		*to = v
		return nil
	case *sql.RawBytes:
		*to = bytesOf(v)
		return nil
	case *[]byte:
		*to = bytesOf(v)
		return nil
	case sql.Scanner:
		return to.Scan(v)
	}
	to := reflect.ValueOf(into)
	if to.Kind() != reflect.Pointer || to.IsNil() {
		return fmt.Errorf("%T cannot take a value", into)
	}
	switch to, n := to.Elem(), reflect.ValueOf(v); {
	case to.Kind() == reflect.String && (n.Kind() == reflect.String || isBytes(v)):
		to.SetString(string(bytesOf(v)))
	case to.CanInt() && n.CanInt() && !to.OverflowInt(n.Int()):
		to.SetInt(n.Int())
	case to.Kind() == reflect.Bool && n.Kind() == reflect.Bool:
		to.SetBool(n.Bool())
	case to.Kind() == reflect.Bool && n.CanInt() && (n.Int() == 0 || n.Int() == 1):
		to.SetBool(n.Int() == 1)
	default:
		return fmt.Errorf("a value of type %T does not fit %T", v, into)
	}
	return nil
}

func isBytes(v any) bool { _, ok := v.([]byte); return ok }

func bytesOf(v any) []byte {
	switch v := v.(type) {
	case []byte:
		return v
	case string:
		return []byte(v)
	}
	return nil
}

// takenRow is one row that was taken off its connection.
type takenRow struct {
	rows *taken
	err  error
}

// Scan implements Scanner.
func (r takenRow) Scan(into ...any) error {
	switch {
	case r.err != nil:
		return r.err
	case !r.rows.Next():
		return sql.ErrNoRows
	}
	return r.rows.Scan(into...)
}

// decoded are rows of a connection of their own, whose values are as they were when they were written.
type decoded struct {
	*sql.Rows
	value func(any) any
	into  []any
	row   []any
}

// Scan implements Scanner.
func (d *decoded) Scan(into ...any) error {
	if d.row == nil {
		d.row, d.into = make([]any, len(into)), make([]any, len(into))
		for i := range d.row {
			d.into[i] = &d.row[i]
		}
	}
	if len(into) != len(d.row) {
		return fmt.Errorf("a row has %d columns, and %d were asked for", len(d.row), len(into))
	}
	if err := d.Rows.Scan(d.into...); err != nil {
		return err
	}
	for i := range d.row {
		d.row[i] = d.value(d.row[i])
	}
	return assignAll(into, d.row)
}

// cursor asks for rows that may be very many within a transaction, some at a time.
func (a asking) cursor(ctx context.Context, name, query string, args []any) (Rows, error) {
	declare := func() error {
		defer a.inLine()()
		_, err := a.tx.ExecContext(ctx, "DECLARE "+name+" NO SCROLL CURSOR FOR "+query, args...)
		return err
	}
	if err := declare(); err != nil {
		return nil, err
	}
	fetch := fmt.Sprintf("FETCH %d FROM %s", rowsAtOnce, name)
	out := &taken{}
	next := func() (list [][]any, err error) {
		defer a.inLine()()
		rows, err := a.tx.QueryContext(ctx, fetch)
		if err != nil {
			return nil, err
		}
		out.columns, list, err = take(rows, a.of.Value)
		return list, err
	}
	var err error
	if out.list, err = next(); err != nil {
		return nil, err
	}
	if len(out.list) == rowsAtOnce {
		out.more = next
	}
	out.end = func() error {
		defer a.inLine()()
		_, err := a.tx.ExecContext(ctx, "CLOSE "+name)
		return err
	}
	return out, nil
}
