package sqlstore

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
)

// AddAuthority records a new authority with its first generation, whose
// identifier it returns.
func (t *Tx) AddAuthority(n store.NewAuthority) (generation int64, err error) {
	var parentID any
	if n.Parent != "" {
		if parentID, err = t.authorityID(n.Parent); err != nil {
			return 0, err
		}
	}
	var taken bool
	if err := t.QueryRow("SELECT EXISTS (SELECT 1 FROM authority WHERE handle = ?)", n.Handle).
		Scan(&taken); err != nil {
		return 0, err
	}
	if taken {
		return 0, fault.New(fault.Changed, "authority %s: another program made one with this name meanwhile", n.Handle).
			On(fault.Authority.Named("%s", n.Handle))
	}
	var id int64
	if err := t.QueryRow("INSERT INTO authority (handle, parent, holder) VALUES (?,?,?) RETURNING id", n.Handle,
		parentID,
		string(cmp.Or(n.Holder, hierarchy.HeldHere))).Scan(&id); err != nil {
		return 0, err
	}
	return t.insertGeneration(id, 1, n.Certificate, n.Issuer, time.Time{})
}

func (t *Tx) authorityID(handle string) (id int64, err error) {
	err = t.QueryRow("SELECT id FROM authority WHERE handle = ?", handle).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, fmt.Errorf("authority %s: %w", handle, fault.NotFound)
	}
	return id, err
}

func (t *Tx) insertGeneration(authority int64, number int, certificate, issuer int64, switchDay time.Time) (id int64,
	err error) {
	err = t.QueryRow("INSERT INTO generation (authority, number, certificate, issuer, staged) VALUES (?,?,?,?,?) "+
		"RETURNING id", authority, number, certificate, sqldb.OrNull(issuer), journal.StampOrNone(switchDay)).Scan(&id)
	return id, err
}

// AddGeneration records the next generation of an authority. newest is the
// number of the one that it was planned after. parent is the authority above
// from now on, "" for a root; switchDay is zero to sign at once.
func (t *Tx) AddGeneration(handle, parent string, newest int, certificate, issuer int64,
	switchDay time.Time) (int64,
	error) {
	id, err := t.authorityID(handle)
	if err != nil {
		return 0, err
	}
	var have int
	if err := t.QueryRow("SELECT coalesce(max(number),0) FROM generation WHERE authority = ?",
		id).Scan(&have); err != nil {
		return 0, err
	}
	if have != newest {
		return 0, fault.New(fault.Changed, "authority %s was renewed meanwhile: g%d is the newest", handle, have)
	}
	var parentID any
	if parent != "" {
		if parentID, err = t.authorityID(parent); err != nil {
			return 0, err
		}
	}
	if _, err := t.Exec("UPDATE authority SET parent = ? WHERE id = ?", parentID, id); err != nil {
		return 0, err
	}
	return t.insertGeneration(id, newest+1, certificate, issuer, switchDay)
}

// AddLink records a link certificate.
func (t *Tx) AddLink(certificate, by, to int64) error {
	_, err := t.Exec("INSERT INTO link VALUES (?,?,?)", certificate, by, to)
	return err
}

// Activate lets a prepared generation, and what it signed already, serve from now on.
func (t *Tx) Activate(g *hierarchy.Generation) error {
	id, err := t.AnyGenerationID(g)
	if err != nil {
		return err
	}
	for _, change := range []string{
		"UPDATE certificate SET replaced_by = (SELECT n.id FROM certificate n WHERE n.replaces = certificate.id AND " +
			"n.issuer = ?1) WHERE id IN (SELECT replaces FROM certificate WHERE issuer = ?1 AND staged <> '')",
		"UPDATE certificate SET staged = '' WHERE issuer = ?1",
	} {
		if _, err := t.Exec(change, id); err != nil {
			return err
		}
	}
	_, err = t.Exec("UPDATE generation SET staged = '' WHERE id = ?", id)
	return err
}

// Postpone puts a generation back behind its switch day, and with it what it signed in
// the place of others, which serve again.
func (t *Tx) Postpone(g *hierarchy.Generation, day time.Time) error {
	id, err := t.AnyGenerationID(g)
	if err != nil {
		return err
	}
	for _, change := range []string{
		"UPDATE certificate SET replaced_by = NULL WHERE replaced_by IN (SELECT id FROM certificate WHERE issuer = " +
			"?1 AND replaces IS NOT NULL)",
		"UPDATE certificate SET staged = ?2 WHERE issuer = ?1 AND replaces IS NOT NULL",
	} {
		if _, err := t.Exec(change, id, journal.Stamp(day)); err != nil {
			return err
		}
	}
	_, err = t.Exec("UPDATE generation SET staged = ? WHERE id = ?", journal.Stamp(day), id)
	return err
}

// Retire records that an authority no longer signs.
func (t *Tx) Retire(handle string, at time.Time) error {
	id, err := t.authorityID(handle)
	if err != nil {
		return err
	}
	_, err = t.Exec("UPDATE authority SET retired = ? WHERE id = ?", journal.Stamp(at), id)
	return err
}

// Reinstate lets a retired authority sign again.
func (t *Tx) Reinstate(handle string) error {
	id, err := t.authorityID(handle)
	if err != nil {
		return err
	}
	_, err = t.Exec("UPDATE authority SET retired = '' WHERE id = ?", id)
	return err
}

// Stop records why a generation grants nothing for now; "" lets it grant again.
func (t *Tx) Stop(g *hierarchy.Generation, why string) error {
	id, err := t.AnyGenerationID(g)
	if err != nil {
		return err
	}
	_, err = t.Exec("UPDATE generation SET stopped = ? WHERE id = ?", why, id)
	return err
}

// AnyGenerationID finds the record of a generation, whatever its state.
func (t *Tx) AnyGenerationID(g *hierarchy.Generation) (id int64, err error) {
	err = t.QueryRow("SELECT g.id FROM generation g JOIN authority a ON a.id = g.authority WHERE a.handle = ? AND "+
		"g.number = ?", g.Authority.Handle, g.Number).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, fmt.Errorf("authority %s: %w", g.Label(), fault.NotFound)
	}
	return id, err
}

// GenerationID finds the record of a generation, and checks that it may still
// sign: it is the newest of its authority but for those that wait for their
// switch day, or waits itself, and the authority is not retired.
func (t *Tx) GenerationID(g *hierarchy.Generation) (int64, error) {
	id, err := t.AnyGenerationID(g)
	if err != nil {
		return 0, err
	}
	var newest int
	var staged, retired, stopped string
	var revoked bool
	err = t.QueryRow(`SELECT (SELECT coalesce(max(number),0) FROM generation
		WHERE authority = a.id AND staged = ''), g.staged, a.retired, g.stopped, EXISTS (SELECT 1 FROM revocation r
			WHERE r.authority = c.authority AND r.serial = c.serial AND r.released = '') FROM generation g
		JOIN authority a ON a.id = g.authority JOIN certificate c ON c.id = g.certificate WHERE g.id = ?`, id).Scan(
		&newest, &staged, &retired, &stopped, &revoked)
	switch {
	case err != nil:
		return 0, err
	case retired != "":
		return 0, fault.New(fault.Changed, "%s was retired meanwhile", g.Label())
	case stopped != "":
		return 0, fault.New(fault.Changed, "%s is stopped: %s", g.Label(), stopped)
	case revoked:
		return 0, fault.New(fault.Changed, "%s was revoked meanwhile", g.Label())
	case newest != g.Number && staged == "":
		return 0, fault.New(fault.Changed, "%s was renewed meanwhile: g%d is current", g.Label(), newest)
	}
	return id, nil
}

// Hierarchy loads all authorities as they are in the middle of a change.
func (t *Tx) Hierarchy() (hierarchy.Hierarchy, error) { return Load(t.Ctx, t.Querier()) }

// Load loads all authorities, or none: what depends on something that is not
// there, or on itself, is an error and is never left out.
func Load(ctx context.Context, q sqldb.Querier) (hierarchy.Hierarchy, error) {
	l := loading{byID: map[int64]*hierarchy.Authority{}, generations: map[int64]*hierarchy.Generation{},
		parent: map[*hierarchy.Authority]int64{}, issuer: map[*hierarchy.Generation]int64{}}
	rows, err := q.QueryContext(ctx, `SELECT a.id, a.handle, coalesce(a.parent,0), a.holder, a.retired, g.stopped,
		g.id, g.number, coalesce(g.issuer,0), g.staged, c.der, coalesce((SELECT r.at FROM revocation r
			WHERE r.authority = c.authority AND r.serial = c.serial AND r.released = ''), '')
		FROM authority a JOIN generation g ON g.authority = a.id
			JOIN certificate c ON c.id = g.certificate ORDER BY a.id, g.number`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		if err := l.row(rows); err != nil {
			return nil, err
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	var authorities, generations int
	if err := q.QueryRowContext(ctx, "SELECT (SELECT count(*) FROM authority), (SELECT count(*) FROM generation)").Scan(
		&authorities, &generations); err != nil {
		return nil, err
	}
	if authorities != len(l.order) || generations != len(l.generations) {
		return nil, fmt.Errorf("%d of %d authorities, or %d of %d generations, have no certificate on record",
			authorities-len(l.order), authorities, generations-len(l.generations), generations)
	}
	out, err := l.joined()
	if err != nil {
		return nil, err
	}
	return out, l.links(ctx, q)
}

// loading is a hierarchy while it is being read.
type loading struct {
	order       []*hierarchy.Authority
	byID        map[int64]*hierarchy.Authority
	generations map[int64]*hierarchy.Generation
	parent      map[*hierarchy.Authority]int64
	issuer      map[*hierarchy.Generation]int64
}

func (l *loading) row(rows sqldb.Scanner) error {
	var aID, parent, gID, issuer int64
	var number int
	var handle, retired, stopped, staged, revoked string
	var holder hierarchy.KeyHolder
	var der []byte
	if err := rows.Scan(&aID, &handle, &parent, &holder, &retired, &stopped, &gID, &number, &issuer, &staged,
		&der, &revoked); err != nil {
		return err
	}
	a := l.byID[aID]
	if a == nil {
		a = &hierarchy.Authority{Handle: handle, Holder: holder, Retired: journal.Unstamp(retired)}
		l.byID[aID], l.parent[a] = a, parent
		l.order = append(l.order, a)
	}
	c, err := parsedAuthority(der)
	if err != nil {
		return fmt.Errorf("authority %s: its certificate on record cannot be parsed: %w", handle, err)
	}
	g := &hierarchy.Generation{Number: number, Certificate: c, Authority: a, SwitchDay: journal.Unstamp(staged),
		Revoked: journal.Unstamp(revoked), Stopped: stopped}
	l.generations[gID], l.issuer[g] = g, issuer
	a.Generations = append(a.Generations, g)
	return nil
}

// joined connects children with parents, and puts parents first.
func (l *loading) joined() (hierarchy.Hierarchy, error) {
	for g, id := range l.issuer {
		if g.Issuer = l.generations[id]; id != 0 && g.Issuer == nil {
			return nil, fmt.Errorf("authority %s: the generation above it is not on record", g.Name())
		}
	}
	for g := range l.issuer {
		steps := 0
		for up := g.Issuer; up != nil; up = up.Issuer {
			if steps++; steps > len(l.generations) {
				return nil, fmt.Errorf("authority %s: the generations above it form a circle", g.Name())
			}
		}
	}
	for a, id := range l.parent {
		a.Parent = l.byID[id]
		if g := a.Current(); g != nil { // one that waits for its switch day does not move the authority yet
			if a.Parent = nil; g.Issuer != nil {
				a.Parent = g.Issuer.Authority
			}
		}
	}
	var out hierarchy.Hierarchy
	placed := map[*hierarchy.Authority]bool{}
	for range l.order {
		for _, a := range l.order {
			if !placed[a] && (a.Parent == nil || placed[a.Parent]) {
				placed[a] = true
				out = append(out, a)
			}
		}
		if len(out) == len(l.order) {
			return out, nil
		}
	}
	var loop []string
	for _, a := range l.order {
		if !placed[a] {
			loop = append(loop, a.Handle)
		}
	}
	if len(loop) > 0 {
		return nil, fmt.Errorf("the authorities %s form a circle, or are below one",
			strings.Join(loop, ", "))
	}
	return out, nil
}

func (l *loading) links(ctx context.Context, q sqldb.Querier) error {
	rows, err := q.QueryContext(ctx, "SELECT c.der, l.by_generation, l.to_generation FROM link l JOIN certificate c "+
		"ON c.id = l.certificate ORDER BY l.certificate")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var der []byte
		var by, to int64
		if err := rows.Scan(&der, &by, &to); err != nil {
			return err
		}
		c, err := cert.Read(der)
		if err != nil {
			return fmt.Errorf("a link certificate on record cannot be parsed: %w", err)
		}
		if l.generations[by] == nil || l.generations[to] == nil {
			return fmt.Errorf("the link certificate with the serial %s belongs to generations that are not on record",
				c.SerialHex())
		}
		g := l.generations[by]
		g.Authority.Links = append(g.Authority.Links, hierarchy.Link{Certificate: c, By: g, To: l.generations[to]})
	}
	return rows.Err()
}

// LastOf is when the last certificate that an authority issued ends, links and
// its own certificates left out; zero when it issued none.
func (s *Store) LastOf(ctx context.Context, handle string) (time.Time, error) {
	var end sql.NullInt64
	err := s.QueryRow(ctx, `SELECT max(c.not_after) FROM certificate c JOIN authority a ON a.id = c.authority
		WHERE a.handle = ? AND c.id NOT IN (SELECT certificate FROM link)`, handle).Scan(&end)
	if err != nil || !end.Valid {
		return time.Time{}, err
	}
	return time.Unix(end.Int64, 0).UTC(), nil
}

// AddApplication records a request that is sent.
func (t *Tx) AddApplication(a store.Application, key [32]byte) error {
	var open int
	if err := t.QueryRow("SELECT count(*) FROM sent WHERE handle = ? AND answered = ''",
		a.Handle).Scan(&open); err != nil {
		return err
	}
	if open > 0 {
		return fault.New(fault.Changed, "authority %s: another program sent a request for it meanwhile: import its "+
			"answer, or "+
			"withdraw it first", a.Handle).On(fault.Authority.Named("%s", a.Handle))
	}
	_, err := t.Exec("INSERT INTO sent (handle, parent, der, key_sha256, made, staged) VALUES (?,?,?,?,?,?)", a.Handle,
		a.Parent, a.DER, key[:], journal.Stamp(t.At), journal.StampOrNone(a.SwitchDay))
	return err
}

// CloseApplication records that an application was answered; it must still be open.
func (t *Tx) CloseApplication(id int64) error {
	res, err := t.Exec("UPDATE sent SET answered = ? WHERE id = ? AND answered = ''", journal.Stamp(t.At), id)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n != 1 {
		return errors.Join(err, fault.New(fault.Changed, "the application was answered meanwhile"))
	}
	return nil
}

// Applications lists the requests that are sent and not answered, oldest first.
func (s *Store) Applications(ctx context.Context) ([]store.Application, error) {
	return s.applications(ctx, "WHERE answered = ''")
}

// AllApplications lists those that were answered or withdrawn as well.
func (s *Store) AllApplications(ctx context.Context) ([]store.Application, error) {
	return s.applications(ctx, "")
}

func (s *Store) applications(ctx context.Context, where string) ([]store.Application, error) {
	rows, err := s.Querier().QueryContext(ctx,
		"SELECT id, handle, parent, der, made, answered, staged FROM sent "+where+
			" ORDER BY id")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	var out []store.Application
	for rows.Next() {
		var a store.Application
		var made, answered, staged string
		if err := rows.Scan(&a.ID, &a.Handle, &a.Parent, &a.DER, &made, &answered, &staged); err != nil {
			return nil, err
		}
		a.Made, a.Answered, a.SwitchDay = journal.Unstamp(made), journal.Unstamp(answered), journal.Unstamp(staged)
		out = append(out, a)
	}
	return out, s.Explain(rows.Err())
}

// AddTransfer records that a transfer folder was imported; it fails when it was before.
func (t *Tx) AddTransfer(id, what string) error {
	added, err := t.Exec("INSERT INTO carried VALUES (?,?,?) ON CONFLICT DO NOTHING", id, journal.Stamp(t.At), what)
	if err != nil {
		return err
	}
	if n, err := added.RowsAffected(); err != nil || n == 1 {
		return err
	}
	var when string
	if err := t.QueryRow("SELECT at FROM carried WHERE id = ?", id).Scan(&when); err != nil {
		return err
	}
	return fmt.Errorf("this folder was imported already, on %s", journal.Unstamp(when).Format("2006-01-02 15:04 UTC"))
}

// Transfer tells what a transfer folder brought when it was imported; "" when it
// was not.
func (s *Store) Transfer(ctx context.Context, id string) (string, error) {
	var what string
	err := s.QueryRow(ctx, "SELECT what FROM carried WHERE id = ?", id).Scan(&what)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	if err == nil && what == "" {
		what = "nothing"
	}
	return what, err
}
