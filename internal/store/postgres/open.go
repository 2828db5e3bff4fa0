package postgres

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"hash/fnv"
	"net/url"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"

	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
	"ironseal/pki/fault"
)

// server is a database of records on a server. It is a sqldb.Dialect.
type server struct {
	pool     *pgxpool.Pool
	place    string // without a password
	head     string // the file of this machine that notes the newest entry
	channel  string // for notices about newest entries
	several  bool   // there is more than one server
	writable bool
}

var _ sqldb.Dialect = (*server)(nil)

// Place names the database, without a password.
func (s *server) Place() string { return s.place }

// HeadFile is the file of this machine that notes the journal's newest entry.
func (s *server) HeadFile() string { return s.head }

// Writable reports whether anything can be recorded.
func (s *server) Writable() bool { return s.writable }

// Shut closes the database.
func (s *server) Shut(db *sql.DB) error {
	err := db.Close()
	s.pool.Close()
	return err
}

// IsURL reports whether a place of records is a database on a server.
func IsURL(place string) bool {
	return strings.HasPrefix(place, "postgresql://") || strings.HasPrefix(place, "postgres://")
}

// CheckURL refuses what cannot be a database's address, and one with a password in it: whoever reads the settings, or
// the list of programs that run, would have it.
func CheckURL(place string) error {
	u, err := url.Parse(place)
	if err != nil { // the address of several hosts is one that package url does not know
		_, rest, _ := strings.Cut(place, "://")
		if who, _, named := strings.Cut(rest, "@"); named && strings.Contains(who, ":") {
			return passwordInside()
		}
	} else if _, there := u.User.Password(); there || u.Query().Has("password") {
		return passwordInside()
	}
	if _, err := pgx.ParseConfig(place); err != nil {
		return fault.New(fault.BadInput, "the address of the database cannot be read: write for example "+
			"\"postgresql://db.ternbay.example/harbour\"")
	}
	return nil
}

func passwordInside() error {
	return fault.New(fault.Refused, "the address of the database has a password in it, which others can read: put it "+
		"into a password file (PGPASSFILE, or ~/.pgpass) or a service file (PGSERVICEFILE)")
}

// Bounds of one connection.
const (
	statementWait = 10 * time.Minute // for one statement; those of a million rows take a minute
	idleWait      = 5 * time.Minute  // within a transaction
	connectWait   = 10 * time.Second
	connections   = 24
)

func connect(ctx context.Context, place, head string) (*sqldb.DB, *server, error) {
	if err := CheckURL(place); err != nil {
		return nil, nil, err
	}
	config, err := pgxpool.ParseConfig(place)
	if err != nil {
		return nil, nil, fault.New(fault.BadInput, "the address of the database cannot be read")
	}
	c := config.ConnConfig
	for key, wait := range map[string]time.Duration{"lock_timeout": store.BusyWait, "statement_timeout": statementWait,
		"idle_in_transaction_session_timeout": idleWait} {
		if c.RuntimeParams[key] == "" {
			c.RuntimeParams[key] = fmt.Sprint(wait.Milliseconds())
		}
	}
	c.RuntimeParams["application_name"] = "ironseal"
	c.RuntimeParams["client_encoding"] = "UTF8"
	if c.ConnectTimeout == 0 || c.ConnectTimeout > connectWait {
		c.ConnectTimeout = connectWait
	}
	if !strings.Contains(place, "pool_max_conns") {
		config.MaxConns = connections
	}
	config.AfterConnect = durable
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, nil, err
	}
	s := &server{pool: pool, head: head, several: several(c), place: describe(c)}
	s.channel = channelOf(c)
	return sqldb.New(stdlib.OpenDBFromPool(pool), s), s, nil
}

// several reports whether an address names more than one server. The same one with and without TLS is one.
func several(c *pgx.ConnConfig) bool {
	for _, f := range c.Fallbacks {
		if f.Host != c.Host || f.Port != c.Port {
			return true
		}
	}
	return false
}

// describe names a database for people.
func describe(c *pgx.ConnConfig) string {
	where := c.Host
	if strings.HasPrefix(where, "/") {
		where = "this machine"
	}
	if path := c.RuntimeParams["search_path"]; path != "" {
		return fmt.Sprintf("%s (schema %s) on %s", c.Database, path, where)
	}
	return fmt.Sprintf("%s on %s", c.Database, where)
}

// channelOf is the channel for notices about newest entries of one estate. Others of the same database have others.
func channelOf(c *pgx.ConnConfig) string {
	sum := fnv.New64a()
	sum.Write([]byte(c.RuntimeParams["search_path"]))
	return fmt.Sprintf("ironseal_%x", sum.Sum64())
}

// durable lets commits of a connection wait for the disk, where the server would not. A stronger setting stays.
func durable(ctx context.Context, c *pgx.Conn) error {
	_, err := c.Exec(ctx, "SELECT set_config('synchronous_commit', 'on', false) WHERE "+
		"current_setting('synchronous_commit') IN ('off', 'local')")
	return err
}

// Create makes empty tables in a database, or in the schema of its address, that has none.
func Create(ctx context.Context, place, head string) (*sqldb.DB, error) {
	d, s, err := connect(ctx, place, head)
	if err != nil {
		return nil, err
	}
	s.writable = true
	if err := s.tables(ctx, d); err != nil {
		return nil, errors.Join(s.Explain(err), d.Close())
	}
	return d, nil
}

func (s *server) tables(ctx context.Context, d *sqldb.DB) error {
	tx, err := d.SQL().BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if path := s.pool.Config().ConnConfig.RuntimeParams["search_path"]; path != "" && !strings.ContainsAny(path, `",`) {
		if _, err := tx.ExecContext(ctx, "CREATE SCHEMA IF NOT EXISTS "+pgx.Identifier{path}.Sanitize()); err != nil {
			return err
		}
	}
	var there bool
	if err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM pg_class WHERE relkind IN ('r','v','m','p') AND "+
		"relnamespace = current_schema()::regnamespace)").Scan(&there); err != nil {
		return err
	}
	if there {
		return fault.New(fault.Refused, "records %s: there are tables already: give an empty database, or name a "+
			"schema of it by adding ?search_path=NAME", s.place)
	}
	if _, err := tx.ExecContext(ctx, schema); err != nil {
		return err
	}
	return tx.Commit()
}

// pool makes the first connection. A single server that does not answer is reported at once. With several, one of them
// may be about to take over: pool waits for it.
func pool(ctx context.Context, s *server) error {
	until := time.Now().Add(s.Patience())
	for {
		err := s.pool.Ping(ctx)
		if err == nil || !s.several || !s.Lost(err) || time.Now().After(until) {
			return s.Explain(err)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// Open opens a database, and returns the form of its records.
func Open(ctx context.Context, place, head string) (d *sqldb.DB, form string, err error) {
	d, s, err := connect(ctx, place, head)
	if err != nil {
		return nil, "", err
	}
	var there bool
	if err = pool(ctx, s); err == nil {
		err = d.QueryRow(ctx, "SELECT to_regclass('turn') IS NOT NULL AND to_regclass('meta') IS NOT NULL AND "+
			"to_regclass('journal') IS NOT NULL").Scan(&there)
	}
	switch {
	case err != nil:
	case !there:
		err = fault.New(fault.NotFound, "records %s: no estate's records are there", s.place)
	default:
		err = d.QueryRow(ctx, "SELECT (SELECT value FROM meta WHERE key = 'version'), NOT pg_is_in_recovery() AND "+
			"has_table_privilege('journal', 'INSERT') AND has_table_privilege('turn', 'UPDATE')").
			Scan(&form, &s.writable)
	}
	if err != nil {
		return nil, "", errors.Join(err, d.Close())
	}
	return d, form, nil
}
