package sqlstore

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"

	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
)

// AddRequest records a request. When the same bytes are on record already,
// their number is returned and known is true.
func (t *Tx) AddRequest(r *request.Request, sender string) (number int64, known bool, err error) {
	list, err := t.AddRequests([]*request.Request{r}, sender)
	if err != nil {
		return 0, false, err
	}
	return list[0].Number, list[0].Known, nil
}

// AddRequests records requests. It returns the number of each that is on record already or is repeated.
func (t *Tx) AddRequests(list []*request.Request, sender string) ([]store.AddedRequest, error) {
	sums := make([][32]byte, len(list))
	for i, r := range list {
		sums[i] = r.SHA256()
	}
	known := map[[32]byte]int64{}
	if err := t.numbersOf(sums, known); err != nil {
		return nil, err
	}
	out := make([]store.AddedRequest, len(list))
	var rows []any
	fresh := map[[32]byte]bool{}
	for i, r := range list {
		if known[sums[i]] != 0 || fresh[sums[i]] {
			out[i].Known = true
			continue
		}
		fresh[sums[i]] = true
		title, key := r.Title(), r.Key.Fingerprint()
		if err := t.learnKey(r.Key, title); err != nil {
			return nil, err
		}
		rows = append(rows, sums[i][:], r.Raw, title, key[:], sender, journal.Stamp(t.At), string(lifecycle.Waiting))
	}
	if err := t.insertRequests(rows, known); err != nil {
		return nil, err
	}
	for i := range out {
		out[i].Number = known[sums[i]]
	}
	return out, nil
}

// numbersOf adds the numbers of requests that are on record, by their digests.
func (t *Tx) numbersOf(sums [][32]byte, into map[[32]byte]int64) error {
	keys, err := t.Words().Keys(sums)
	if err != nil {
		return err
	}
	rows, err := t.Query("SELECT r.number, r.sha256 FROM "+t.Words().KeysTable()+" "+t.Words().InOrder()+
		" request r ON r.sha256 = k.key", keys)
	if err != nil {
		return err
	}
	return numbered(rows, into)
}

func numbered(rows sqldb.Rows, into map[[32]byte]int64) error {
	defer rows.Close()
	for rows.Next() {
		var n int64
		var sum []byte
		if err := rows.Scan(&n, &sum); err != nil {
			return err
		}
		if len(sum) == 32 {
			into[[32]byte(sum)] = n
		}
	}
	return rows.Err()
}

// requestsAtOnce is how many requests one statement records.
const requestsAtOnce = 100

// insertRequests inserts requests, in order, and adds their numbers.
func (t *Tx) insertRequests(rows []any, into map[[32]byte]int64) error {
	const columns = 7
	for part := range slices.Chunk(rows, requestsAtOnce*columns) {
		n := len(part) / columns
		got, err := t.Query(t.Words().Insert()+
			"request (sha256, der, title, key_sha256, sender, received, state) VALUES "+
			strings.TrimSuffix(strings.Repeat("(?,?,?,?,?,?,?),", n), ",")+" RETURNING number, sha256", part...)
		if err != nil {
			return t.Spoil(err)
		}
		if err := numbered(got, into); err != nil {
			return t.Spoil(err)
		}
	}
	return nil
}

// SetState moves a request that is waiting or sent to another state. It fails when
// the request is neither any more, and says what it is now.
func (t *Tx) SetState(number int64, state lifecycle.RequestState, reason string) error {
	now, err := t.stateOf(number)
	if err != nil {
		return err
	}
	if !now.CanBecome(state) {
		return decided(number, now)
	}
	_, err = t.Exec("UPDATE request SET state = ?, reason = ?, decided = ? WHERE number = ?", state,
		reason, journal.Stamp(t.At), number)
	return err
}

// CheckWaiting says what a request is now, when it waits no longer.
func (t *Tx) CheckWaiting(number int64) error {
	now, err := t.stateOf(number)
	if err == nil && now != lifecycle.Waiting {
		return decided(number, now)
	}
	return err
}

func (t *Tx) stateOf(number int64) (state lifecycle.RequestState, err error) {
	err = t.QueryRow("SELECT state FROM request WHERE number = ?", number).Scan(&state)
	if errors.Is(err, sql.ErrNoRows) {
		return "", noRequest(number)
	}
	return state, err
}

func noRequest(number int64) error {
	return fault.New(fault.NotFound, "R%d: %w", number, fault.NotFound).On(fault.Request.Named("R%d", number))
}

func decided(number int64, now lifecycle.RequestState) error {
	return fault.New(fault.Changed, "R%d is %s, and no longer waiting", number, now).On(fault.Request.Named("R%d",
		number))
}

// SetStates moves waiting requests to another state, all or none.
func (t *Tx) SetStates(numbers []int64, state lifecycle.RequestState) error {
	list, err := t.Words().Numbers(numbers)
	if err != nil {
		return err
	}
	res, err := t.Exec(t.Words().Update()+"request SET state = ?, decided = ? WHERE "+t.Words().Among("number")+
		" AND state = ?", state, journal.Stamp(t.At), list, lifecycle.Waiting)
	if err != nil {
		return t.Spoil(err)
	}
	if n, err := res.RowsAffected(); err != nil || n != int64(len(numbers)) {
		return errors.Join(err, fault.Changed)
	}
	return nil
}

const requestColumns = "number, der, title, sender, received, state, reason, decided"

func scanRequest(row sqldb.Scanner) (store.Request, error) {
	var r store.Request
	var received, decided string
	err := row.Scan(&r.Number, &r.DER, &r.Title, &r.Sender, &received, &r.State, &r.Reason, &decided)
	r.Received, r.Decided = journal.Unstamp(received), journal.Unstamp(decided)
	return r, err
}

// Request finds a request by its number.
func (s *Store) Request(ctx context.Context, number int64) (store.Request, error) {
	r, err := scanRequest(s.QueryRow(ctx, "SELECT "+requestColumns+" FROM request WHERE number = ?", number))
	if errors.Is(err, sql.ErrNoRows) {
		return r, noRequest(number)
	}
	return r, err
}

// RequestBySHA finds a request by the hash of its bytes.
func (s *Store) RequestBySHA(ctx context.Context, sum [32]byte) (store.Request, error) {
	r, err := scanRequest(s.QueryRow(ctx, "SELECT "+requestColumns+" FROM request WHERE sha256 = ?", sum[:]))
	if errors.Is(err, sql.ErrNoRows) {
		return r, fault.NotFound
	}
	return r, err
}

// Requests lists requests in the given state, or all for "".
func (s *Store) Requests(ctx context.Context, state lifecycle.RequestState) ([]store.Request, error) {
	var out []store.Request
	err := s.EachRequest(ctx, state, func(r store.Request) { out = append(out, r) })
	return out, err
}

// EachRequest calls fn for the requests in the given state, or for all for "".
func (s *Store) EachRequest(ctx context.Context, state lifecycle.RequestState, fn func(store.Request)) error {
	if state == lifecycle.AnyRequest {
		return s.eachRequest(ctx, fn, "1 = 1")
	}
	return s.eachRequest(ctx, fn, "state = ?", state)
}

// RequestsByKey lists the requests in a state that have a key.
func (s *Store) RequestsByKey(ctx context.Context, state lifecycle.RequestState, key [32]byte) (out []store.Request,
	err error) {
	err = s.eachRequest(ctx, func(r store.Request) { out = append(out, r) }, "key_sha256 = ? AND state = ?", key[:],
		state)
	return out, err
}

func (s *Store) eachRequest(ctx context.Context, fn func(store.Request), where string, args ...any) error {
	rows, err := s.Querier().StreamContext(ctx,
		"SELECT "+requestColumns+" FROM request WHERE "+where+" ORDER BY number",
		args...)
	if err != nil {
		return s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		r, err := scanRequest(rows)
		if err != nil {
			return err
		}
		fn(r)
	}
	return s.Explain(rows.Err())
}

// KeySeenAs returns the subjects of the certificates that have this key, the
// earliest first.
func (s *Store) KeySeenAs(ctx context.Context, key [32]byte) ([]string, error) {
	rows, err := s.Querier().QueryContext(ctx, "SELECT subject FROM certificate WHERE key_sha256 = ? GROUP BY subject "+
		"ORDER BY min(id)", key[:])
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var subject string
		if err := rows.Scan(&subject); err != nil {
			return nil, err
		}
		out = append(out, subject)
	}
	return out, s.Explain(rows.Err())
}

// Count counts the records. Certificates for keys that the machine made for one use are left out.
func (s *Store) Count(ctx context.Context) (store.Counts, error) {
	var c store.Counts
	err := s.QueryRow(ctx, `SELECT (SELECT count(*) FROM authority), (SELECT count(*) FROM request
		WHERE state = 'waiting'),
		(SELECT count(*) FROM request), (SELECT count(*) FROM certificate) - (SELECT count(*)
			FROM generation) - (SELECT count(*) FROM link) - (SELECT count(*) FROM certificate c
			WHERE coalesce(c.request, 0) = 0 AND c.template IS NOT NULL AND c.id NOT IN (SELECT certificate
				FROM generation) AND c.id NOT IN (SELECT certificate FROM link))`).Scan(&c.Authorities, &c.Waiting,
		&c.Requests,
		&c.Certificates)
	if err != nil {
		return c, s.Explain(err)
	}
	return c, nil
}

// AddHolder remembers who was handed a certificate; "" where no one was named.
func (t *Tx) AddHolder(certificate int64, who string) error {
	_, err := t.Exec("INSERT INTO holder (certificate, who, at) VALUES (?,?,?) ON CONFLICT (certificate, who) DO "+
		"UPDATE "+
		"SET at = excluded.at", certificate, who, journal.Stamp(t.At))
	return err
}

// Holders tells who is known to hold a certificate: whoever sent its request, and
// whoever it was handed to.
func (s *Store) Holders(ctx context.Context, certificate int64) ([]string, error) {
	rows, err := s.Querier().QueryContext(ctx, `SELECT r.sender FROM request r
		JOIN certificate c ON c.request = r.number WHERE c.id = ?1 AND r.sender <> ''
		UNION SELECT who FROM holder WHERE certificate = ?1 AND who <> '' ORDER BY 1`, certificate)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var who string
		if err := rows.Scan(&who); err != nil {
			return nil, err
		}
		out = append(out, who)
	}
	return out, s.Explain(rows.Err())
}

// holdersAtOnce is how many certificates one question is about.
const holdersAtOnce = 1000

// HoldersAmong is Holders of several certificates.
func (s *Store) HoldersAmong(ctx context.Context, certificates []int64) (map[int64][]string, error) {
	out := map[int64][]string{}
	for part := range slices.Chunk(certificates, holdersAtOnce) {
		among, err := s.Numbers(part)
		if err != nil {
			return nil, err
		}
		rows, err := s.Querier().QueryContext(ctx, `SELECT c.id, r.sender FROM certificate c
			JOIN request r ON r.number = c.request WHERE `+s.Among("c.id")+` AND r.sender <> ''
			UNION SELECT certificate, who FROM holder WHERE `+s.Among("certificate")+` AND who <> '' ORDER BY 1, 2`,
			among, among)
		if err != nil {
			return nil, s.Explain(err)
		}
		for rows.Next() {
			var id int64
			var who string
			if err := rows.Scan(&id, &who); err != nil {
				return nil, errors.Join(err, rows.Close())
			}
			out[id] = append(out[id], who)
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, s.Explain(err)
		}
	}
	return out, nil
}
