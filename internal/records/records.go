package records

import (
	"ironseal/pki/journal"

	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/failure"
	"ironseal/internal/records/lineage"
	"ironseal/internal/records/sqlite"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/request"
)

// States of a request.
const (
	Waiting   = "waiting"
	Signed    = "signed"
	Declined  = "declined"
	Withdrawn = "withdrawn"
	Sent      = "sent" // ours, at an outside authority or another estate
)

// Request is a request on record.
type Request struct {
	Number   int64
	DER      []byte
	Title    string
	Sender   string
	Received time.Time
	State    string
	Reason   string
	Decided  time.Time
}

// Certificate is a certificate on record.
type Certificate struct {
	ID       int64
	DER      []byte
	Title    string
	Request  int64     // 0 when it came from no request
	Template string    // the template's name at signing
	Source   []byte    // the template as it was at signing
	Issuer   string    // the issuing generation, such as "services.g1"
	Staged   bool      // it waits for a switch day
	Replaced bool      // another was signed in its place
	Reason   int       // why it was taken back (RFC 5280 section 5.3.1); -1 where it was not
	Replaces int64     // the certificate in whose place it was signed; 0 for none
	Until    time.Time // its last moment, to the second
	Part     int       // the part of its issuer's revocation lists that it stands on; 0: the whole
}

// AddRequest records a request. When the same bytes are on record already,
// their number is returned and known is true.
func (t *Tx) AddRequest(r *request.Request, sender string) (number int64, known bool, err error) {
	sum := r.SHA256()
	err = t.QueryRow("SELECT number FROM request WHERE sha256 = ?", sum[:]).Scan(&number)
	if err == nil {
		return number, true, nil
	}
	if !errors.Is(err, sql.ErrNoRows) {
		return 0, false, err
	}
	key := r.Key.Fingerprint()
	if err := t.learn(r.Key, r.Title()); err != nil {
		return 0, false, err
	}
	res, err := t.Exec("INSERT INTO request (sha256, der, title, key_sha256, sender, received, "+
		"state) VALUES (?,?,?,?,?,?,?)",
		sum[:], r.Raw, r.Title(), key[:], sender, journal.Stamp(t.At), Waiting)
	if err != nil {
		return 0, false, err
	}
	number, err = res.LastInsertId()
	return number, false, err
}

// Decide moves a request that is waiting or sent to another state. It fails when
// the request is neither any more, and says what it is now.
func (t *Tx) Decide(number int64, state, reason string) error {
	var now string
	if err := t.QueryRow("SELECT state FROM request WHERE number = ?", number).Scan(&now); err != nil {
		return fmt.Errorf("R%d: %w", number, failure.ErrNotFound)
	}
	if now != Waiting && now != Sent {
		return failure.Of(failure.ErrChanged, "R%d is %s, and no longer waiting", number, now)
	}
	_, err := t.Exec("UPDATE request SET state = ?, reason = ?, decided = ? WHERE number = ?", state,
		reason, journal.Stamp(t.At), number)
	return err
}

// StillWaiting says what a request is now, when it waits no longer.
func (t *Tx) StillWaiting(number int64) error {
	var now string
	if err := t.QueryRow("SELECT state FROM request WHERE number = ?", number).Scan(&now); err != nil {
		return fmt.Errorf("R%d: %w", number, failure.ErrNotFound)
	}
	if now != Waiting {
		return failure.Of(failure.ErrChanged, "R%d is %s, and no longer waiting", number, now)
	}
	return nil
}

// NewCertificate is what is recorded with a new certificate.
type NewCertificate struct {
	Certificate    *cert.Certificate
	Issuer         int64 // generation id; 0 for a root
	Request        int64 // 0 when it came from no request
	TemplateName   string
	TemplateSHA    [32]byte
	TemplateSource []byte
	Sheet          [32]byte
	Staged         time.Time // the switch day that it waits for; zero for none
	Replaces       int64     // the certificate in whose place it is; 0 for none
	Part           int       // of its issuer's lists
	Waived         finding.List
}

// AddCertificate records one certificate and its names.
func (t *Tx) AddCertificate(n NewCertificate) (int64, error) {
	return t.AddCertificates([]NewCertificate{n})
}

// AddCertificates records certificates and their names, and returns the
// identifier of the last.
func (t *Tx) AddCertificates(list []NewCertificate) (last int64, err error) {
	if err := t.QueryRow("SELECT coalesce(max(id),0) FROM certificate").Scan(&last); err != nil {
		return 0, err
	}
	var rows, names []any
	authorities := map[int64]any{0: nil}
	stored := map[[32]byte]bool{}
	for _, n := range list {
		made, err := t.keepTemplate(n, stored)
		if err != nil {
			return 0, err
		}
		authority, known := authorities[n.Issuer]
		if !known {
			var id int64
			if err := t.QueryRow("SELECT authority FROM generation WHERE id = ?", n.Issuer).Scan(&id); err != nil {
				return 0, err
			}
			authority = id
			authorities[n.Issuer] = authority
		}
		c := n.Certificate
		key := c.Key.Fingerprint()
		if err := t.learn(c.Key, c.Title()); err != nil {
			return 0, err
		}
		last++
		rows = append(rows, last, c.SerialHex(), authority, sqlite.OrNull(n.Issuer), c.Raw, c.Title(),
			c.Subject.String(), c.NotAfter.Unix(), key[:], sqlite.OrNull(n.Request), made, n.Sheet[:],
			journal.StampOrNone(n.Staged), sqlite.OrNull(n.Replaces), n.Part)
		for _, x := range c.Names {
			names = append(names, string(x.Kind()), strings.ToLower(x.Value()), last)
		}
	}
	if err := t.Insert("certificate (id, serial, authority, issuer, der, title, subject, not_after, key_sha256, "+
		"request, template, sheet, staged, replaces, part)", 15, rows); err != nil {
		return 0, err
	}
	for i, n := range list {
		if err := t.relate(n, last-int64(len(list)-1-i)); err != nil {
			return 0, err
		}
		if n.Issuer == 0 {
			continue
		}
		if err := t.place(n.Certificate, n.Issuer, n.Part); err != nil {
			return 0, err
		}
	}
	return last, t.Insert("name", 3, names)
}

// place records at which addresses the certificates of a generation look for its lists, and for its own
// certificate: what is published must be there, whatever the settings say by then.
func (t *Tx) place(c *cert.Certificate, generation int64, part int) error {
	if t.placed == nil {
		t.placed = map[string]bool{}
	}
	for _, p := range lineage.PlacesIn(c) {
		key := fmt.Sprintf("%d %d %s %s", generation, part, p.Kind, p.Address)
		if t.placed[key] {
			continue
		}
		t.placed[key] = true
		if _, err := t.Exec("INSERT OR IGNORE INTO place (generation, part, kind, address) VALUES (?,?,?,?)",
			generation,
			part, p.Kind, p.Address); err != nil {
			return err
		}
	}
	return nil
}

// relate records what else goes with a certificate: in whose place it is, and what was
// waived for it.
func (t *Tx) relate(n NewCertificate, id int64) error {
	if err := t.replace(n, id); err != nil {
		return err
	}
	for _, f := range n.Waived {
		if _, err := t.Exec("INSERT INTO waiver (certificate, request, code, who, reason) VALUES (?,?,?,?,?)", id,
			sqlite.OrNull(n.Request), string(f.Code), t.actor, f.Waived); err != nil {
			return err
		}
	}
	return nil
}

// keepTemplate keeps the template that a certificate was made by, once, and returns its
// name in the records; nil for one of somebody else's.
func (t *Tx) keepTemplate(n NewCertificate, stored map[[32]byte]bool) (any, error) {
	if n.TemplateName == "" {
		return nil, nil
	}
	if !stored[n.TemplateSHA] {
		stored[n.TemplateSHA] = true
		if _, err := t.Exec("INSERT OR IGNORE INTO template VALUES (?,?,?)", n.TemplateSHA[:], n.TemplateName,
			n.TemplateSource); err != nil {
			return nil, err
		}
	}
	return n.TemplateSHA[:], nil
}

// replace notes in whose place a certificate is. That one must still serve: two may
// have renewed it at once.
func (t *Tx) replace(n NewCertificate, id int64) error {
	if n.Replaces == 0 {
		return nil
	}
	if !n.Staged.IsZero() {
		var others int
		err := t.QueryRow("SELECT count(*) FROM certificate WHERE replaces = ? AND issuer = ? AND "+
			"id <> ?", n.Replaces, n.Issuer, id).Scan(&others)
		if err == nil && others > 0 {
			err = fmt.Errorf("%s: %w: another certificate was prepared in its place", n.Certificate.Title(),
				failure.ErrChanged)
		}
		return err
	}
	res, err := t.Exec("UPDATE certificate SET replaced_by = ? WHERE id = ? AND replaced_by IS NULL",
		id, n.Replaces)
	if err != nil {
		return err
	}
	if changed, err := res.RowsAffected(); err != nil || changed != 1 {
		return errors.Join(err, fmt.Errorf("%s: %w: it was renewed", n.Certificate.Title(), failure.ErrChanged))
	}
	return nil
}

// DecideMany moves waiting requests to another state, all or none.
func (t *Tx) DecideMany(numbers []int64, state string) error {
	list, err := json.Marshal(numbers)
	if err != nil {
		return err
	}
	res, err := t.Exec("UPDATE request SET state = ?, decided = ? WHERE number IN (SELECT value "+
		"FROM json_each(?)) AND state = ?", state, journal.Stamp(t.At), string(list), Waiting)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n != int64(len(numbers)) {
		return errors.Join(err, failure.ErrChanged)
	}
	return nil
}

const requestColumns = "number, der, title, sender, received, state, reason, decided"

func scanRequest(row sqlite.Scanner) (Request, error) {
	var r Request
	var received, decided string
	err := row.Scan(&r.Number, &r.DER, &r.Title, &r.Sender, &received, &r.State, &r.Reason, &decided)
	r.Received, r.Decided = journal.Unstamp(received), journal.Unstamp(decided)
	return r, err
}

// Request finds a request by its number.
func (s *Store) Request(ctx context.Context, number int64) (Request, error) {
	r, err := scanRequest(s.Row(ctx, "SELECT "+requestColumns+" FROM request WHERE number = ?", number))
	if errors.Is(err, sql.ErrNoRows) {
		return r, fmt.Errorf("R%d: %w", number, failure.ErrNotFound)
	}
	return r, err
}

// RequestBySHA finds a request by the hash of its bytes.
func (s *Store) RequestBySHA(ctx context.Context, sum [32]byte) (Request, error) {
	r, err := scanRequest(s.Row(ctx, "SELECT "+requestColumns+" FROM request WHERE sha256 = ?", sum[:]))
	if errors.Is(err, sql.ErrNoRows) {
		return r, failure.ErrNotFound
	}
	return r, err
}

// Requests lists requests in the given state, or all for "".
func (s *Store) Requests(ctx context.Context, state string) ([]Request, error) {
	var out []Request
	err := s.EachRequest(ctx, state, func(r Request) { out = append(out, r) })
	return out, err
}

// EachRequest calls fn for the requests in the given state, or for all for "".
func (s *Store) EachRequest(ctx context.Context, state string, fn func(Request)) error {
	return s.eachRequest(ctx, fn, "?1 = '' OR state = ?1", state)
}

// RequestsByKey lists the requests in a state that have a key.
func (s *Store) RequestsByKey(ctx context.Context, state string, key [32]byte) (out []Request, err error) {
	err = s.eachRequest(ctx, func(r Request) { out = append(out, r) }, "key_sha256 = ? AND state = ?", key[:], state)
	return out, err
}

func (s *Store) eachRequest(ctx context.Context, fn func(Request), where string, args ...any) error {
	rows, err := s.Q().QueryContext(ctx, "SELECT "+requestColumns+" FROM request WHERE "+where+" ORDER BY number",
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
	rows, err := s.Q().QueryContext(ctx, "SELECT subject FROM certificate WHERE key_sha256 = ? GROUP BY subject "+
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

const certificateColumns = `c.id, c.der, c.title, coalesce(c.request,0), coalesce(t.name,''), coalesce(t.source,x''),
  coalesce(a.handle || '.g' || g.number, ''), c.staged <> '',
	c.replaced_by IS NOT NULL OR c.id IN (SELECT x.certificate FROM generation x WHERE EXISTS (SELECT 1
		FROM generation y WHERE y.authority = x.authority AND y.number > x.number AND y.staged = '')),
	coalesce((SELECT r.reason FROM revocation r WHERE r.authority = c.authority AND r.serial = c.serial AND
		r.released = ''), -1), coalesce(c.replaces,0), c.not_after, c.part
	FROM certificate c LEFT JOIN template t ON t.sha256 = c.template LEFT
		JOIN generation g ON g.id = c.issuer LEFT JOIN authority a ON a.id = g.authority`

func scanCertificate(row sqlite.Scanner) (Certificate, error) {
	var c Certificate
	var end int64
	err := row.Scan(&c.ID, &c.DER, &c.Title, &c.Request, &c.Template, &c.Source, &c.Issuer, &c.Staged, &c.Replaced,
		&c.Reason, &c.Replaces, &end, &c.Part)
	c.Until = time.Unix(end, 0).UTC()
	return c, err
}

func (s *Store) certificates(ctx context.Context, where string, args ...any) (out []Certificate, err error) {
	err = s.eachCertificate(ctx, func(c Certificate) error {
		out = append(out, c)
		return nil
	}, where, args...)
	return out, err
}

func (s *Store) eachCertificate(ctx context.Context, fn func(Certificate) error, where string, args ...any) error {
	rows, err := s.Q().QueryContext(ctx, "SELECT "+certificateColumns+" "+where, args...)
	if err != nil {
		return s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		c, err := scanCertificate(rows)
		if err == nil {
			err = fn(c)
		}
		if err != nil {
			return err
		}
	}
	return s.Explain(rows.Err())
}

// Certificates lists all certificates, in the order in which they were signed.
func (s *Store) Certificates(ctx context.Context) ([]Certificate, error) {
	return s.certificates(ctx, "ORDER BY c.id")
}

// EachCertificate calls fn for every certificate that has a text in its title or in one
// of its names, soonest end first; "" is in all. They are read as they are asked for,
// however many there are.
func (s *Store) EachCertificate(ctx context.Context, text string, fn func(Certificate) error) error {
	if text == "" {
		return s.eachCertificate(ctx, fn, "ORDER BY c.not_after, c.id")
	}
	return s.eachCertificate(ctx, fn, "WHERE instr(lower(c.title), ?1) OR c.id IN (SELECT n.certificate FROM name n "+
		"WHERE instr(n.value, ?1)) ORDER BY c.not_after, c.id", strings.ToLower(text))
}

// Ending lists the certificates of end entities that serve and end between two
// moments, soonest first: nothing was signed in their place, they are not revoked,
// and wait for no switch day.
func (s *Store) Ending(ctx context.Context, from, to time.Time, limit int) ([]Certificate, error) {
	return s.certificates(ctx, `WHERE c.not_after >= ? AND c.not_after <= ? AND c.replaced_by IS NULL AND c.staged = ''
		AND NOT EXISTS (SELECT 1 FROM revocation r WHERE r.authority = c.authority AND r.serial = c.serial AND
			r.released = '')
		AND c.id NOT IN (SELECT certificate FROM generation) AND c.id NOT IN (SELECT certificate
			FROM link) ORDER BY c.not_after, c.id LIMIT ?`, from.Unix(), to.Unix(), limit)
}

// ByTemplates lists the certificates that were signed by templates with these
// hashes and that serve, generations of our own authorities left out.
func (s *Store) ByTemplates(ctx context.Context, sums [][]byte) ([]Certificate, error) {
	var out []Certificate
	for _, sum := range sums {
		list, err := s.certificates(ctx, "WHERE c.template = ? AND c.replaced_by IS NULL AND c.staged = '' AND c.id "+
			"NOT IN (SELECT certificate FROM generation) ORDER BY c.id", sum)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}

// CertificatesBySerial finds certificates by the first digits of their serial; one
// whose serial is no more than that is meant before longer ones.
func (s *Store) CertificatesBySerial(ctx context.Context, prefix string) ([]Certificate, error) {
	exact, err := s.certificates(ctx, "WHERE c.serial = ? ORDER BY c.id", prefix)
	if err != nil || len(exact) > 0 {
		return exact, err
	}
	return s.certificates(ctx, "WHERE c.serial >= ? AND c.serial < ? ORDER BY c.id", prefix, prefix+"g")
}

// CertificateByID finds a certificate by its place on record.
func (s *Store) CertificateByID(ctx context.Context, id int64) ([]Certificate, error) {
	return s.certificates(ctx, "WHERE c.id = ?", id)
}

// CertificatesByRequest finds the certificates that came from a request.
func (s *Store) CertificatesByRequest(ctx context.Context, number int64) ([]Certificate, error) {
	return s.certificates(ctx, "WHERE c.request = ? ORDER BY c.id", number)
}

// CertificatesOf lists what a generation of an authority signed.
func (s *Store) CertificatesOf(ctx context.Context, handle string, generation int) ([]Certificate, error) {
	return s.certificates(ctx, "WHERE a.handle = ? AND g.number = ? ORDER BY c.id", handle, generation)
}

// NoLimit asks for all of a list, however long.
const NoLimit = -1

// CertificatesByKey finds certificates by the fingerprint of their key, the newest first, up to a
// number of them or NoLimit.
func (s *Store) CertificatesByKey(ctx context.Context, key [32]byte, limit int) ([]Certificate, error) {
	return s.certificates(ctx, "WHERE c.key_sha256 = ? ORDER BY c.id DESC LIMIT ?", key[:], limit)
}

// CertificatesByName finds certificates by an alternative name.
func (s *Store) CertificatesByName(ctx context.Context, name string) ([]Certificate, error) {
	return s.certificates(ctx, "WHERE c.id IN (SELECT certificate FROM name WHERE value = ?) ORDER BY c.id",
		strings.ToLower(name))
}

// CertificatesHeldBy finds the certificates of which somebody is a holder (see Holders).
func (s *Store) CertificatesHeldBy(ctx context.Context, who string) ([]Certificate, error) {
	return s.certificates(ctx, `WHERE c.id IN (SELECT certificate FROM holder WHERE who = ?1)
		OR c.request IN (SELECT number FROM request WHERE sender = ?1) ORDER BY c.id`, who)
}

// CertificateOf finds the certificate of an authority's generation.
func (s *Store) CertificateOf(ctx context.Context, handle string, generation int) (Certificate, error) {
	list, err := s.certificates(ctx, `WHERE c.id = (SELECT x.certificate FROM generation x
		JOIN authority y ON y.id = x.authority WHERE y.handle = ? AND x.number = ?)`, handle, generation)
	if err != nil || len(list) == 0 {
		return Certificate{}, errors.Join(err, failure.ErrNotFound)
	}
	return list[0], nil
}

// KeysSeen tells, for every waiting request whose key is in certificates already,
// their subjects, the earliest first.
func (s *Store) KeysSeen(ctx context.Context) (map[int64][]string, error) {
	rows, err := s.Q().QueryContext(ctx, "SELECT r.number, c.subject FROM request r JOIN certificate c ON "+
		"c.key_sha256 = r.key_sha256 WHERE r.state = ? ORDER BY r.number, c.id", Waiting)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	out := map[int64][]string{}
	for rows.Next() {
		var n int64
		var subject string
		if err := rows.Scan(&n, &subject); err != nil {
			return nil, err
		}
		out[n] = append(out[n], subject)
	}
	return out, s.Explain(rows.Err())
}

// Counts are how many records of each kind there are. Certificates of authorities
// and links are not counted among the certificates.
type Counts struct {
	Authorities  int `json:"authorities"`
	Waiting      int `json:"waiting"`
	Requests     int `json:"requests"`
	Certificates int `json:"certificates"`
}

// Count counts the records.
func (s *Store) Count(ctx context.Context) (Counts, error) {
	var c Counts
	err := s.Row(ctx, `SELECT (SELECT count(*) FROM authority), (SELECT count(*) FROM request WHERE state = 'waiting'),
		(SELECT count(*) FROM request), (SELECT count(*) FROM certificate) - (SELECT count(*)
			FROM generation) - (SELECT count(*) FROM link)`).Scan(&c.Authorities, &c.Waiting, &c.Requests,
		&c.Certificates)
	if err != nil {
		return c, s.Explain(err)
	}
	return c, nil
}

// AddDraft remembers where the key of a draft was written.
func (t *Tx) AddDraft(key [32]byte, file string, sealed bool) error {
	n := 0
	if sealed {
		n = 1
	}
	_, err := t.Exec("INSERT INTO draft VALUES (?,?,?,?)", key[:], file, n, journal.Stamp(t.At))
	return err
}

// DropDraft forgets a draft's key.
func (t *Tx) DropDraft(key [32]byte) error {
	_, err := t.Exec("DELETE FROM draft WHERE key_sha256 = ?", key[:])
	return err
}

// DraftKey tells where the key of a draft was written, or "".
func (s *Store) DraftKey(ctx context.Context, key [32]byte) (file string, sealed bool, err error) {
	err = s.Row(ctx, "SELECT file, sealed FROM draft WHERE key_sha256 = ?", key[:]).Scan(&file, &sealed)
	if errors.Is(err, sql.ErrNoRows) {
		return "", false, nil
	}
	return file, sealed, err
}

// Unfinished is a draft's request that was withdrawn and whose key was not destroyed
// yet: an act that was cut off in between.
type Unfinished struct {
	Number int64
	File   string
}

// Unfinished lists them.
func (s *Store) Unfinished(ctx context.Context) ([]Unfinished, error) {
	rows, err := s.Q().QueryContext(ctx, `SELECT max(r.number), d.file FROM draft d
		JOIN request r ON r.key_sha256 = d.key_sha256 GROUP BY d.key_sha256
		HAVING sum(r.state <> 'withdrawn') = 0 ORDER BY 1`)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	var out []Unfinished
	for rows.Next() {
		var u Unfinished
		if err := rows.Scan(&u.Number, &u.File); err != nil {
			return nil, err
		}
		out = append(out, u)
	}
	return out, s.Explain(rows.Err())
}

// DraftFiles are the places where drafts' keys were written.
func (s *Store) DraftFiles(ctx context.Context) ([]string, error) {
	rows, err := s.Q().QueryContext(ctx, "SELECT file FROM draft ORDER BY file")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var file string
		if err := rows.Scan(&file); err != nil {
			return nil, err
		}
		out = append(out, file)
	}
	return out, s.Explain(rows.Err())
}

// DraftKeys are the fingerprints of all keys that were drafted here.
func (s *Store) DraftKeys(ctx context.Context) (map[[32]byte]bool, error) {
	rows, err := s.Q().QueryContext(ctx, "SELECT key_sha256 FROM draft")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	out := map[[32]byte]bool{}
	for rows.Next() {
		var key []byte
		if err := rows.Scan(&key); err != nil {
			return nil, err
		}
		out[[32]byte(append(key, make([]byte, 32)...))] = true
	}
	return out, s.Explain(rows.Err())
}

// KnownKeys are the fingerprints, in hex, of all keys that belong to an authority or
// to a request that one sent, answered or not. It reads no certificate, so that one
// that is damaged hides no key.
func (s *Store) KnownKeys(ctx context.Context) (map[string]bool, error) {
	rows, err := s.Q().QueryContext(ctx, "SELECT key_sha256 FROM certificate WHERE id IN (SELECT certificate FROM "+
		"generation) UNION SELECT key_sha256 FROM sent")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	out := map[string]bool{}
	for rows.Next() {
		var key []byte
		if err := rows.Scan(&key); err != nil {
			return nil, err
		}
		out[fmt.Sprintf("%x", key)] = true
	}
	return out, s.Explain(rows.Err())
}

// Hold remembers who holds a certificate.
func (t *Tx) Hold(certificate int64, who string) error {
	_, err := t.Exec("INSERT OR REPLACE INTO holder VALUES (?,?,?)", certificate, who, journal.Stamp(t.At))
	return err
}

// Holders tells who is known to hold a certificate: whoever sent its request, and
// whoever it was handed to.
func (s *Store) Holders(ctx context.Context, certificate int64) ([]string, error) {
	rows, err := s.Q().QueryContext(ctx, `SELECT r.sender FROM request r
		JOIN certificate c ON c.request = r.number WHERE c.id = ?1 AND r.sender <> ''
		UNION SELECT who FROM holder WHERE certificate = ?1 ORDER BY 1`, certificate)
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

// AddChain records the chain above a certificate that an outside authority signed.
func (t *Tx) AddChain(certificate int64, chain [][]byte) error {
	for i, der := range chain {
		if _, err := t.Exec("INSERT INTO outside VALUES (?,?,?)", certificate, i, der); err != nil {
			return err
		}
	}
	return nil
}

// Chain returns the recorded chain above such a certificate, its issuer first.
func (s *Store) Chain(ctx context.Context, certificate int64) ([][]byte, error) {
	rows, err := s.Q().QueryContext(ctx, "SELECT der FROM outside WHERE certificate = ? ORDER BY position", certificate)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	var out [][]byte
	for rows.Next() {
		var der []byte
		if err := rows.Scan(&der); err != nil {
			return nil, err
		}
		out = append(out, der)
	}
	return out, s.Explain(rows.Err())
}
