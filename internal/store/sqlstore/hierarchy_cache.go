package sqlstore

import (
	"context"
	"database/sql"
	"strings"
	"sync"

	"ironseal/internal/store/sqldb"
	"ironseal/pki/hierarchy"
)

// hierarchyCache is the hierarchy as it was when the records of authorities said something. Readers share it
// and do not change it.
type hierarchyCache struct {
	mu    sync.Mutex
	state string // what they said; "" before the first time
	h     hierarchy.Hierarchy
}

// hierarchyState is all that the hierarchy is loaded from, but for certificates, which never change: of authorities,
// generations, links, and of what was revoked of generations. Two that are the same load the same.
func hierarchyState(w sqldb.Words) string {
	return `SELECT
	(SELECT ` + w.Lines(`a.id || ' ' || a.handle || ' ' || coalesce(a.parent, 0) || ' ' || a.holder || ' ' ||
		a.retired`, "a.id") + ` FROM authority a),
	(SELECT ` + w.Lines(`g.id || ' ' || g.authority || ' ' || g.number || ' ' || coalesce(g.certificate, 0) || ' ' ||
		coalesce(g.issuer, 0) || ' ' || g.staged || ' ' || g.stopped || ' ' || coalesce((SELECT r.at FROM revocation r
			JOIN certificate c ON c.id = g.certificate
			WHERE r.authority = c.authority AND r.serial = c.serial AND r.released = ''), '')`, "g.id") + `
		FROM generation g),
	(SELECT ` + w.Lines("l.certificate || ' ' || l.by_generation || ' ' || l.to_generation", "l.certificate") + `
		FROM link l)`
}

// momentary is what the records say at one moment, which no one changes: it is asked once.
type momentary struct {
	mu   sync.Mutex
	read bool
	h    hierarchy.Hierarchy
}

// Hierarchy gives all authorities, parents before children. It is loaded again only where the records say something
// else than before; what was given out is not to be changed.
func (s *Store) Hierarchy(ctx context.Context) (hierarchy.Hierarchy, error) {
	if s.moment == nil {
		return s.hierarchy(ctx)
	}
	s.moment.mu.Lock()
	defer s.moment.mu.Unlock()
	if s.moment.read {
		return s.moment.h, nil
	}
	h, err := s.hierarchy(ctx)
	s.moment.h, s.moment.read = h, err == nil
	return h, err
}

func (s *Store) hierarchy(ctx context.Context) (hierarchy.Hierarchy, error) {
	var out hierarchy.Hierarchy
	load := func(d *sqldb.DB) (err error) {
		out, err = s.loaded.of(ctx, d.Querier())
		return err
	}
	if s.loaded.known() { // most often one question is enough
		if h, same, err := s.loaded.same(ctx, s.Querier()); same || err != nil {
			return h, s.Explain(err)
		}
	}
	return out, s.Explain(s.DB.View(ctx, load))
}

func (k *hierarchyCache) known() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.state != ""
}

// same is what was loaded before, where the records still say the same.
func (k *hierarchyCache) same(ctx context.Context, q sqldb.Querier) (hierarchy.Hierarchy, bool, error) {
	state, err := stateOf(ctx, q)
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.h, err == nil && state == k.state, err
}

// of loads the hierarchy at one moment, unless it is the same as before.
func (k *hierarchyCache) of(ctx context.Context, q sqldb.Querier) (hierarchy.Hierarchy, error) {
	if h, same, err := k.same(ctx, q); same || err != nil {
		return h, err
	}
	state, err := stateOf(ctx, q)
	if err != nil {
		return nil, err
	}
	h, err := Load(ctx, q)
	if err == nil {
		k.mu.Lock()
		k.state, k.h = state, h
		k.mu.Unlock()
	}
	return h, err
}

func stateOf(ctx context.Context, q sqldb.Querier) (string, error) {
	var parts [3]sql.NullString
	err := q.QueryRowContext(ctx, hierarchyState(q.Words())).Scan(&parts[0], &parts[1], &parts[2])
	return strings.Join([]string{"of", parts[0].String, parts[1].String, parts[2].String}, "\x1f"), err
}
