package postgres

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironseal/internal/store/sqldb"
	"ironseal/pki/fault"
)

// catalog is what the server says of tables that schema made, a line each; a test compares the two.
//
//go:embed catalog.txt
var catalog string

// catalogQuestion asks what there is in the schema that records are in: columns, indexes, constraints, and what should
// not be there at all, since it would change or hide records behind a program's back.
const catalogQuestion = `
SELECT 'column ' || c.relname || '.' || a.attname || ' ' || format_type(a.atttypid, a.atttypmod) ||
	CASE WHEN a.attnotnull THEN ' not null' ELSE '' END ||
	CASE WHEN a.attidentity <> '' THEN ' identity' ELSE '' END || coalesce(' collate ' || (SELECT l.collname
		FROM pg_collation l WHERE l.oid = a.attcollation), '') ||
	coalesce(' default ' || (SELECT pg_get_expr(d.adbin, d.adrelid) FROM pg_attrdef d
		WHERE d.adrelid = c.oid AND d.adnum = a.attnum), '') AS line
	FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid
	WHERE c.relnamespace = current_schema()::regnamespace AND c.relkind = 'r' AND a.attnum > 0 AND NOT a.attisdropped
UNION ALL SELECT CASE c.relkind WHEN 'r' THEN 'table ' WHEN 'i' THEN 'index ' WHEN 'S' THEN 'sequence '
		ELSE 'object ' END || c.relname || CASE WHEN c.relrowsecurity THEN ' with policies' ELSE '' END ||
		CASE WHEN c.relpersistence <> 'p' THEN ' not kept' ELSE '' END ||
		CASE WHEN c.relkind = 'i' THEN ' ' || regexp_replace(pg_get_indexdef(c.oid), '^.* USING ', '') ||
			CASE WHEN (SELECT i.indisunique FROM pg_index i WHERE i.indexrelid = c.oid) THEN ' unique' ELSE '' END ||
			CASE WHEN (SELECT i.indisvalid FROM pg_index i WHERE i.indexrelid = c.oid) THEN '' ELSE ' not valid' END
		ELSE '' END
	FROM pg_class c WHERE c.relnamespace = current_schema()::regnamespace AND c.relkind NOT IN ('t', 'c')
UNION ALL SELECT 'constraint ' || o.conname || ' of ' || c.relname || ' ' || pg_get_constraintdef(o.oid) ||
	CASE WHEN o.convalidated THEN '' ELSE ' not valid' END
	FROM pg_constraint o JOIN pg_class c ON c.oid = o.conrelid
	WHERE c.relnamespace = current_schema()::regnamespace AND o.contype IN ('p', 'u', 'f', 'c', 'x')
UNION ALL SELECT 'trigger ' || t.tgname || ' of ' || c.relname || CASE t.tgenabled WHEN 'O' THEN '' ELSE ' off' END
	FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid
	WHERE c.relnamespace = current_schema()::regnamespace AND (NOT t.tgisinternal OR t.tgenabled <> 'O')
UNION ALL SELECT 'rule ' || r.rulename || ' of ' || c.relname FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class
	WHERE c.relnamespace = current_schema()::regnamespace
UNION ALL SELECT 'function ' || p.proname FROM pg_proc p WHERE p.pronamespace = current_schema()::regnamespace
ORDER BY 1`

func catalogLines(ctx context.Context, q sqldb.Querier) (out []string, err error) {
	rows, err := q.QueryContext(ctx, catalogQuestion)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var line string
		if err := rows.Scan(&line); err != nil {
			return nil, err
		}
		out = append(out, line)
	}
	return out, rows.Err()
}

// Schema says how the tables, indexes and constraints differ from those that this program makes: a trigger would
// change records behind its back.
func (s *server) Schema(ctx context.Context, d *sqldb.DB) ([]string, error) {
	have, err := catalogLines(ctx, d.Querier())
	if err != nil {
		return nil, s.Explain(err)
	}
	want := strings.Split(strings.TrimSpace(catalog), "\n")
	var out []string
	for _, line := range have {
		if !slices.Contains(want, line) {
			out = append(out, "there is a "+line+", which this program did not make")
		}
	}
	for _, line := range want {
		if !slices.Contains(have, line) {
			out = append(out, "the "+line+" is missing, or is another")
		}
	}
	return out, nil
}

// CheckIntegrity reads every table to its end: the server finds damaged pages by reading them. Relations are kept by
// its constraints, which Schema looks for.
func (s *server) CheckIntegrity(ctx context.Context, d *sqldb.DB) error {
	var kept string
	if err := d.QueryRow(ctx, "SELECT current_setting('fsync') || ' ' || current_setting('full_page_writes')").
		Scan(&kept); err != nil {
		return err
	}
	if kept != "on on" {
		return fmt.Errorf("the server does not wait for its disk (fsync, full_page_writes): records can be lost " +
			"when it " +
			"stops: switch both on")
	}
	return nil
}

// Rebuild implements sqldb.Dialect: there are no records of earlier forms on a server.
func (*server) Rebuild(context.Context, *sqldb.DB, func(*sqldb.Change) error) error {
	return fault.New(fault.BadInput, "the records have an earlier form, which no program that was released made "+
		"on a server")
}

// RebuildTables implements sqldb.Dialect.
func (*server) RebuildTables(*sqldb.Change) error { return errors.ErrUnsupported }
