package postgres

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"ironseal/pki/operator"
)

// What roles of operators may write is refused by the database too, for whoever connects as a member of its roles: the
// program's own table of acts binds the program, and privileges bind every other. No one may change or delete an entry
// of
// the journal, and no one but the owner may change a table.

// writes are the privileges of each role, by table, beyond those of the roles before it. All roles read everything but
// sealed keys, which those read who sign with them.
var writes = map[operator.Role]map[string]string{
	operator.Clerk: {"journal": "INSERT", "derived": "INSERT, UPDATE, DELETE", "turn": "UPDATE",
		"request": "INSERT, UPDATE",
		"holder":  "INSERT, UPDATE", "draft": "INSERT, UPDATE, DELETE", "moduli": "INSERT, UPDATE",
		"flaw": "INSERT, UPDATE"},
	operator.Signer: {"certificate": "INSERT, UPDATE", "name": "INSERT", "template": "INSERT", "place": "INSERT",
		"waiver": "INSERT", "outside": "INSERT", "carried": "INSERT", "revocation": "INSERT, UPDATE, DELETE",
		"authority": "UPDATE", "generation": "UPDATE", "sealed": "SELECT"},
	operator.Administrator: {"authority": "INSERT, UPDATE", "generation": "INSERT, UPDATE", "link": "INSERT",
		"sent": "INSERT, UPDATE", "meta": "INSERT, UPDATE, DELETE",
		"sealed": "INSERT, UPDATE, DELETE"},
}

// Grants are the statements that make the roles, for whoever owns the tables to run: prefix begins their names. They
// can
// be run again.
func Grants(place, prefix string) (string, error) {
	c, err := pgx.ParseConfig(place)
	if err != nil {
		return "", err
	}
	schema := c.RuntimeParams["search_path"]
	if schema == "" {
		schema = "public"
	}
	quoted := func(names ...string) string { return pgx.Identifier(names).Sanitize() }
	var b strings.Builder
	fmt.Fprintf(&b, "BEGIN;\nREVOKE ALL ON ALL TABLES IN SCHEMA %s FROM PUBLIC;\nREVOKE CREATE ON SCHEMA %[1]s "+
		"FROM PUBLIC;\n",
		quoted(schema))
	before := ""
	for _, r := range operator.Roles() {
		name := prefix + "_" + string(r.Role)
		fmt.Fprintf(&b, "\n-- %s: %s\n", r.Role, r.For)
		fmt.Fprintf(&b, "DO $$ BEGIN IF NOT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = '%s') THEN CREATE ROLE "+
			"%s NOLOGIN; "+
			"END IF; END $$;\n", strings.ReplaceAll(name, "'", "''"), quoted(name))
		if before == "" {
			fmt.Fprintf(&b, "GRANT USAGE ON SCHEMA %s TO %s;\nGRANT SELECT ON ALL TABLES IN SCHEMA %[1]s TO %[2]s;\n"+
				"REVOKE ALL ON %[3]s FROM %[2]s;\n", quoted(schema), quoted(name), quoted(schema, "sealed"))
		} else {
			fmt.Fprintf(&b, "GRANT %s TO %s;\n", quoted(before), quoted(name))
		}
		before = name
		var tables []string
		for t := range writes[r.Role] {
			tables = append(tables, t)
		}
		slices.Sort(tables)
		for _, t := range tables {
			fmt.Fprintf(&b, "GRANT %s ON %s TO %s;\n", writes[r.Role][t], quoted(schema, t), quoted(name))
		}
		if r.Role == operator.Administrator {
			fmt.Fprintf(&b, "GRANT UPDATE ON ALL SEQUENCES IN SCHEMA %s TO %s;\n", quoted(schema), quoted(name))
		}
	}
	b.WriteString("\nCOMMIT;\n")
	return b.String(), nil
}
