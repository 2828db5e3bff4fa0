package sqlstore

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
)

// AddRevocations records what a revocation list says of an authority's certificates, and
// the list's number. Serials are lower-case hex. What is on record already stays.
func (t *Tx) AddRevocations(handle string, number int64, serials []string, at []time.Time, reasons []int) error {
	id, err := t.authorityID(handle)
	if err != nil {
		return err
	}
	for i, serial := range serials {
		if _, err := t.Exec("INSERT INTO revocation (authority, serial, at, reason, ends) VALUES (?1,?2,?3,?4, "+
			"coalesce((SELECT not_after FROM certificate WHERE serial = ?2 AND authority = ?1), 0)) ON CONFLICT DO "+
			"NOTHING", id, serial, journal.Stamp(at[i]), reasons[i]); err != nil {
			return err
		}
	}
	_, err = t.Exec("UPDATE authority SET list_number = "+
		t.Words().Larger("list_number", "?")+" WHERE id = ?", number, id)
	return err
}

// Revoke records that a certificate of an authority was revoked, and returns what was on
// record of it: one that was on hold, or was released, and is revoked now.
func (t *Tx) Revoke(handle string, r store.Revocation, holds func(reason int) bool) (was *store.Revocation, err error) {
	id, err := t.authorityID(handle)
	if err != nil {
		return nil, err
	}
	old, found, err := revocationOf(t.Ctx, t.Querier(), id, r.Serial)
	if err != nil {
		return nil, err
	}
	if found {
		if old.Released.IsZero() && !holds(old.Reason) {
			return nil, fault.New(fault.Changed, "serial %s was revoked meanwhile, on %s", r.Serial,
				old.At.Format("2006-01-02"))
		}
		was = &old
		if _, err := t.Exec("DELETE FROM revocation WHERE id = ?", old.ID); err != nil {
			return nil, err
		}
	}
	_, err = t.Exec("INSERT INTO revocation (authority, serial, at, reason, invalid, ends, part, again) VALUES "+
		"(?,?,?,?,?,?,?,?)",
		id, r.Serial, journal.Stamp(r.At), r.Reason, journal.StampOrNone(r.Invalid), unixOrNone(r.Ends), r.Part,
		zeroOrOne(found))
	return was, err
}

// zeroOrOne is a truth as records keep it.
func zeroOrOne(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

func unixOrNone(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.Unix()
}

// Release records that a certificate that was on hold stands again; it must still be.
func (t *Tx) Release(handle, serial string, hold int) error {
	id, err := t.authorityID(handle)
	if err != nil {
		return err
	}
	res, err := t.Exec("UPDATE revocation SET released = ? WHERE authority = ? AND serial = ? AND reason = ? AND "+
		"released = ''", journal.Stamp(t.At), id, serial, hold)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n != 1 {
		return errors.Join(err, fault.New(fault.Changed, "serial %s is no longer on hold", serial))
	}
	return nil
}

// NumberList records the number of an authority's newest list. The one before it must still
// be the newest.
func (t *Tx) NumberList(handle string, after, number int64) error {
	res, err := t.Exec("UPDATE authority SET list_number = ? WHERE handle = ? AND list_number = ?", number, handle,
		after)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n != 1 || number <= after {
		return errors.Join(err, fault.New(fault.Changed, "%s: another list was signed meanwhile", handle))
	}
	return nil
}

const revocationColumns = "id, serial, at, reason, invalid, ends, part, released, again"

func scanRevocation(row sqldb.Scanner) (r store.Revocation, err error) {
	var at, invalid, released string
	var ends int64
	err = row.Scan(&r.ID, &r.Serial, &at, &r.Reason, &invalid, &ends, &r.Part, &released, &r.Again)
	r.At = journal.Unstamp(at)
	if invalid != "" {
		r.Invalid = journal.Unstamp(invalid)
	}
	if released != "" {
		r.Released = journal.Unstamp(released)
	}
	if ends != 0 {
		r.Ends = time.Unix(ends, 0).UTC()
	}
	return r, err
}

func revocationOf(ctx context.Context, q sqldb.Querier, authority int64, serial string) (store.Revocation, bool,
	error) {
	r, err := scanRevocation(q.QueryRowContext(ctx, "SELECT "+revocationColumns+" FROM revocation WHERE authority = "+
		"? AND serial = ?", authority, serial))
	if errors.Is(err, sql.ErrNoRows) {
		return r, false, nil
	}
	return r, err == nil, err
}

// RevocationOf tells what is on record of a serial of an authority as revoked, or
// released since; false where nothing is.
func (s *Store) RevocationOf(ctx context.Context, handle, serial string) (store.Revocation, bool, error) {
	var id int64
	if err := s.QueryRow(ctx, "SELECT id FROM authority WHERE handle = ?", handle).Scan(&id); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			return store.Revocation{}, false, nil
		}
		return store.Revocation{}, false, err
	}
	r, found, err := revocationOf(ctx, s.Querier(), id, serial)
	return r, found, s.Explain(err)
}

// EachRevocation calls fn for what was revoked, in the order in which it came.
func (s *Store) EachRevocation(ctx context.Context, some store.RevocationFilter,
	fn func(store.Revocation) error) error {
	where := "released = ''"
	if some.Released {
		where = "released <> ''"
	}
	if some.Part >= 0 {
		where += " AND part = ?3"
	}
	rows, err := s.Querier().StreamContext(ctx, "SELECT "+revocationColumns+" FROM revocation WHERE authority = "+
		"(SELECT id "+
		"FROM authority WHERE handle = ?1) AND id > ?2 AND "+where+" ORDER BY id", some.Handle, some.After, some.Part)
	if err != nil {
		return s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		r, err := scanRevocation(rows)
		if err != nil {
			return err
		}
		if err := fn(r); err != nil {
			return err
		}
	}
	return s.Explain(rows.Err())
}

// ofPart chooses the rows of the authority ?1 and the part ?2; of all its parts for -1. Where it is not
// known on which part a certificate stands, since it is not on record, it is on every part.
func ofPart(part int) string {
	of := "authority = (SELECT id FROM authority WHERE handle = ?1)"
	if part >= 0 {
		of += " AND (part = ?2 OR part = 0 AND ends = 0)"
	}
	return of
}

// EachListEntry calls fn for what is on a list: what was not released, and did not end before
// a moment, in the order in which it came. Nothing is made of the rows, since there may be a
// million.
func (s *Store) EachListEntry(ctx context.Context, handle string, part int, after, cut int64,
	fn func(store.ListEntry) error) error {
	rows, err := s.Querier().StreamContext(ctx, "SELECT id, serial, at, reason, invalid, again FROM revocation WHERE "+
		ofPart(part)+" AND id > ?3 AND released = '' AND (ends = 0 OR ends >= ?4) ORDER BY id", handle, part, after,
		cut)
	if err != nil {
		return s.Explain(err)
	}
	defer rows.Close()
	var l store.ListEntry
	var serial, at, invalid sql.RawBytes
	into := []any{&l.ID, &serial, &at, &l.Reason, &invalid, &l.Again}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		l.Serial, l.At, l.Invalid = serial, at, invalid
		if err := fn(l); err != nil {
			return err
		}
	}
	return s.Explain(rows.Err())
}

// Leaving is what lists of a part lose: those that were released since a moment, and those that
// ended between two.
func (s *Store) Leaving(ctx context.Context, handle string, part int, since, from, to time.Time) (serials []string,
	err error) {
	of := ofPart(part)
	rows, err := s.Querier().QueryContext(ctx, "SELECT serial FROM revocation"+s.Indexed("revocation_released")+
		" WHERE "+of+" AND released <> '' AND released > ?5 UNION ALL SELECT serial FROM revocation"+
		s.Indexed("revocation_ends")+" WHERE "+of+" AND released = '' AND ends > 0 AND ends >= ?3 AND ends < ?4",
		handle, part, from.Unix(), to.Unix(), journal.StampOrNone(since))
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var serial string
		if err := rows.Scan(&serial); err != nil {
			return nil, err
		}
		serials = append(serials, serial)
	}
	return serials, s.Explain(rows.Err())
}

// LastRevocation tells the last revocation of a part of an authority's lists, of all of them for -1, and
// when one was last released.
func (s *Store) LastRevocation(ctx context.Context, handle string, part int) (last int64, released time.Time,
	err error) {
	var at string
	of := ofPart(part)
	err = s.QueryRow(ctx, "SELECT coalesce((SELECT id FROM revocation WHERE "+of+" ORDER BY id DESC LIMIT 1), 0), "+
		"coalesce((SELECT max(released) FROM revocation"+s.Indexed("revocation_released")+" WHERE "+of+
		" AND released <> ''), '')", handle, part).Scan(&last, &at)
	if at != "" {
		released = journal.Unstamp(at)
	}
	return last, released, err
}

// CountRevoked counts what is revoked of an authority's certificates.
func (s *Store) CountRevoked(ctx context.Context, handle string) (int, error) {
	var n int
	err := s.QueryRow(ctx, "SELECT count(*) FROM revocation r JOIN authority a ON a.id = r.authority WHERE "+
		"a.handle = ? "+
		"AND r.released = ''", handle).Scan(&n)
	return n, err
}

// RevocationsDigest is Digest over all that is on record as revoked of an authority's
// certificates, and the number of its last list, for the journal.
func (t *Tx) RevocationsDigest(handle string) (sum string, number int64, err error) {
	if err := t.QueryRow("SELECT list_number FROM authority WHERE handle = ?", handle).Scan(&number); err != nil {
		return "", 0, err
	}
	rows, err := t.Query("SELECT r.serial, r.at, r.reason FROM revocation r JOIN authority a ON a.id = r.authority "+
		"WHERE a.handle = ? ORDER BY r.serial", handle)
	if err != nil {
		return "", 0, err
	}
	defer rows.Close()
	var lines []string
	for rows.Next() {
		var serial, at string
		var reason int
		if err := rows.Scan(&serial, &at, &reason); err != nil {
			return "", 0, err
		}
		lines = append(lines, store.DigestLine(serial, at, reason))
	}
	return store.Digest(number, lines), number, rows.Err()
}

// ListNumber is the number of the last revocation list of an authority; 0 before
// the first.
func (s *Store) ListNumber(ctx context.Context, handle string) (int64, error) {
	var n int64
	err := s.QueryRow(ctx, "SELECT list_number FROM authority WHERE handle = ?", handle).Scan(&n)
	return n, err
}

// CountListed counts what is on an authority's list for certificates that had not ended at a
// moment, or whose end is not known; part -1 is all.
func (s *Store) CountListed(ctx context.Context, handle string, part int, at time.Time) (n int, err error) {
	of, ends := ofPart(part), s.Indexed("revocation_ends")
	err = s.QueryRow(ctx, "SELECT (SELECT count(*) FROM revocation"+ends+" WHERE "+of+" AND released = '' AND "+
		"ends = 0) + (SELECT count(*) FROM revocation"+ends+" WHERE "+of+" AND released = '' AND ends > 0 AND "+
		"ends >= ?3)", handle, part, at.Unix()).Scan(&n)
	return n, err
}

// CompromisedKeys are the keys of certificates that were revoked because someone else has, or may
// have, the key (keyCompromise and cACompromise, RFC 5280 section 5.3.1), each with the serial
// of one of them.
func (s *Store) CompromisedKeys(ctx context.Context) (map[[32]byte]string, error) {
	rows, err := s.Querier().QueryContext(ctx, "SELECT c.key_sha256, c.serial FROM revocation r JOIN certificate c ON "+
		"c.serial = r.serial AND c.authority = r.authority WHERE r.reason IN (1, 2) AND r.released = ''")
	if err != nil {
		return nil, s.Explain(err)
	}
	out, err := eachLost(rows)
	return out, s.Explain(err)
}

// CompromisedAmong is CompromisedKeys for some keys only, as they are inside an act.
func (t *Tx) CompromisedAmong(keys [][32]byte) (map[[32]byte]string, error) {
	list, err := t.Words().Keys(keys)
	if err != nil {
		return nil, err
	}
	w := t.Words()
	rows, err := t.Query("SELECT c.key_sha256, c.serial FROM "+w.KeysTable()+" "+w.InOrder()+" certificate c ON "+
		"c.key_sha256 = k.key "+w.InOrder()+" revocation r ON r.authority = c.authority AND r.serial = c.serial "+
		"WHERE r.reason IN (1, 2) AND r.released = ''", list)
	if err != nil {
		return nil, err
	}
	return eachLost(rows)
}

func eachLost(rows sqldb.Rows) (map[[32]byte]string, error) {
	defer rows.Close()
	out := map[[32]byte]string{}
	for rows.Next() {
		var sum []byte
		var serial string
		if err := rows.Scan(&sum, &serial); err != nil {
			return nil, err
		}
		if len(sum) == 32 {
			out[[32]byte(sum)] = serial
		}
	}
	return out, rows.Err()
}
