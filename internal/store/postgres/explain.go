package postgres

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"ironseal/internal/store"
)

// kinds are the commonest troubles, by the server's code (the manual's appendix A), or by its class.
var kinds = map[string]error{
	"55P03": store.ErrBusy,       // lock_not_available
	"57014": store.ErrBusy,       // query_canceled: it took longer than the connection allows
	"25006": store.ErrReadOnly,   // read_only_sql_transaction: a standby
	"42501": store.ErrForbidden,  // insufficient_privilege
	"53100": store.ErrFull,       // disk_full
	"53300": store.ErrNoneFree,   // too_many_connections
	"XX001": store.ErrCorrupt,    // data_corrupted
	"XX002": store.ErrCorrupt,    // index_corrupted
	"58030": store.ErrDisk,       // io_error
	"28":    store.ErrNotLetIn,   // invalid_authorization_specification
	"3D":    store.ErrNoDatabase, // invalid_catalog_name
}

// Explain puts the database's commonest troubles into words.
func (s *server) Explain(err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	if p, ok := errors.AsType[*pgconn.PgError](err); ok {
		for _, code := range []string{p.Code, p.Code[:min(2, len(p.Code))]} {
			if kind := kinds[code]; kind != nil {
				return fmt.Errorf("records %s: %w: %w", s.place, kind, err)
			}
		}
	}
	if s.Lost(err) {
		return fmt.Errorf("records %s: %w: %w", s.place, store.ErrUnreachable, err)
	}
	if _, ok := errors.AsType[*pgconn.PgError](err); ok {
		return fmt.Errorf("records %s: %w", s.place, err)
	}
	return err
}

// Lost reports whether an error says that the connection ended, or that none can be had for now.
func (s *server) Lost(err error) bool {
	if err == nil {
		return false
	}
	if p, ok := errors.AsType[*pgconn.PgError](err); ok {
		// connection exceptions; admin_shutdown, crash_shutdown, cannot_connect_now; an idle transaction that was
		// ended; and a server that became a standby
		return strings.HasPrefix(p.Code, "08") || strings.HasPrefix(p.Code, "57P") || p.Code == "25P03" ||
			p.Code == "25006" && s.several
	}
	if _, ok := errors.AsType[*pgconn.ConnectError](err); ok {
		return true
	}
	_, network := errors.AsType[net.Error](err)
	if network || pgconn.SafeToRetry(err) {
		return true
	}
	for _, ended := range []error{driver.ErrBadConn, io.EOF, io.ErrUnexpectedEOF, net.ErrClosed} {
		if errors.Is(err, ended) {
			return true
		}
	}
	return false
}

// Patience implements sqldb.Dialect: a standby is promoted within it.
func (s *server) Patience() time.Duration {
	if s.several {
		return time.Minute
	}
	return 10 * time.Second
}
