// Package sheet reads tables as spreadsheets write them: CSV whose first row names the
// columns, with commas, semicolons or tabs, with or without a byte order mark, in whatever
// order and with whatever columns left out. A faulty row carries its error and does not spoil
// the rest.
package sheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"ironseal/pki/strict"
)

// MostRows bounds a table.
const MostRows = 100_000

// Row is one row of a table.
type Row struct {
	Line  int
	Err   error // why it cannot be read
	cells map[string]string
}

// Cell is what is in a column, without blanks around it; "" where nothing does.
func (r Row) Cell(column string) string { return r.cells[column] }

// Read reads a table of a kind, such as "manifest", whose columns may be those given; the
// first of them must be there. An error means that the whole is no such table.
func Read(kind string, data []byte, columns []string) ([]Row, error) {
	data = bytes.TrimPrefix(data, []byte{0xef, 0xbb, 0xbf})
	r := csv.NewReader(bytes.NewReader(data))
	r.FieldsPerRecord, r.TrimLeadingSpace, r.Comma = -1, true, separator(data)
	head, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("%s: it has no first row that names the columns (%s)", kind, strings.Join(columns, ", "))
	}
	for i, h := range head {
		head[i] = strings.ToLower(strings.TrimSpace(h))
		if near := strict.Nearest(head[i], columns); near != head[i] {
			return nil, fmt.Errorf("%s: line 1: there is no column %q; did you mean %q? The columns are %s", kind,
				head[i], near, strings.Join(columns, ", "))
		}
	}
	if !slices.Contains(head, columns[0]) {
		return nil, fmt.Errorf("%s: line 1: the column %s is missing", kind, columns[0])
	}
	var out []Row
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if len(out) == MostRows {
			return nil, fmt.Errorf("%s: more than %d rows", kind, MostRows)
		}
		var broken *csv.ParseError
		if errors.As(err, &broken) {
			out = append(out, Row{Line: broken.StartLine, Err: broken.Err})
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", kind, err)
		}
		row := Row{cells: map[string]string{}}
		row.Line, _ = r.FieldPos(0)
		for i, c := range cells {
			if i < len(head) {
				row.cells[head[i]] = strings.TrimSpace(c)
			}
		}
		out = append(out, row)
	}
}

// separator separates the names of the columns.
func separator(data []byte) rune {
	first, _, _ := bytes.Cut(data, []byte("\n"))
	for _, s := range []string{",", ";", "\t"} {
		if bytes.Contains(first, []byte(s)) {
			return rune(s[0])
		}
	}
	return ','
}

// Write writes a table that Read reads. What a spreadsheet would take for a formula gets an
// apostrophe before it, as spreadsheets do themselves to keep a text a text.
func Write(columns []string, rows [][]string) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	_ = w.Write(columns) // writing to memory does not fail
	for _, row := range rows {
		safe := make([]string, len(row))
		for i, c := range row {
			if safe[i] = c; c != "" && strings.ContainsAny(c[:1], "=+-@\t\r") {
				safe[i] = "'" + c
			}
		}
		_ = w.Write(safe)
	}
	w.Flush()
	return b.Bytes()
}
