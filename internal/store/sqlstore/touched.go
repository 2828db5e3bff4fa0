package sqlstore

import (
	"database/sql"
	"strings"
	"sync"

	"ironseal/internal/store/sqldb"
	"ironseal/pki/cert"
)

// What the hierarchy is loaded from: a change that writes none of it need not be loaded to see that it still loads.
var authorityTables = []string{"authority", "generation", "link", "revocation"}

// touches reports whether a statement may write what the hierarchy is loaded from. One that only reads it is taken for
// one that writes, which costs time and nothing else.
func touches(query string) bool {
	for _, table := range authorityTables {
		if strings.Contains(query, table) {
			return true
		}
	}
	return false
}

// Exec writes.
func (t *Tx) Exec(query string, args ...any) (sql.Result, error) {
	t.touched = t.touched || touches(query)
	return t.Change.Exec(query, args...)
}

// QueryRow asks for one row, or writes one and asks for what it became.
func (t *Tx) QueryRow(query string, args ...any) sqldb.Scanner {
	t.touched = t.touched || strings.HasPrefix(query, "INSERT") && touches(query)
	return t.Change.QueryRow(query, args...)
}

// authorityCertificates are those of authorities, parsed: they are read at every act, and are never changed.
var authorityCertificates = struct {
	mu sync.RWMutex
	by map[string]*cert.Certificate
}{by: map[string]*cert.Certificate{}}

// mostParsed bounds them. Beyond it, all are forgotten. mostOften is how many of their keys can
// have a table, see key.Public.Often: 20 MB in all.
const (
	mostParsed = 2000
	mostOften  = 50
)

func parsedAuthority(der []byte) (*cert.Certificate, error) {
	all := &authorityCertificates
	all.mu.RLock()
	c := all.by[string(der)]
	all.mu.RUnlock()
	if c != nil {
		return c, nil
	}
	c, err := cert.Read(der)
	if err != nil {
		return nil, err
	}
	all.mu.Lock()
	defer all.mu.Unlock()
	if len(all.by) >= mostParsed {
		clear(all.by)
	}
	if len(all.by) < mostOften {
		c.Key = c.Key.Often()
	}
	all.by[string(der)] = c
	return c, nil
}
