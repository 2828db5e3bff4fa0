package sqlstore

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
)

// AddCertificate records one certificate and its names.
func (t *Tx) AddCertificate(n store.NewCertificate) (int64, error) {
	return t.AddCertificates([]store.NewCertificate{n})
}

// certificateRow are the columns of a certificate, in the order in which AddCertificates gives their values.
const certificateRow = "id, serial, authority, issuer, der, title, subject, not_after, key_sha256, request, " +
	"template, sheet, staged, replaces, part, not_before, key_kind, names, traits"

// AddCertificates records certificates and their names, and returns the
// identifier of the last.
func (t *Tx) AddCertificates(list []store.NewCertificate) (last int64, err error) {
	if err := t.QueryRow("SELECT coalesce(max(id),0) FROM certificate").Scan(&last); err != nil {
		return 0, err
	}
	rows := make([]any, 0, len(list)*(strings.Count(certificateRow, ",")+1))
	names := make([]any, 0, len(list)*3) // most have one
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
		c, x := n.Certificate, n.Columns
		if x == nil {
			x = store.ColumnsOf(c)
		}
		if err := t.learnKey(c.Key, x.Title); err != nil {
			return 0, err
		}
		last++
		rows = append(rows, last, x.Serial, authority, sqldb.OrNull(n.Issuer), c.Raw, x.Title,
			x.Subject, c.NotAfter.Unix(), x.Key[:], sqldb.OrNull(n.Request), made, n.Sheet[:],
			journal.StampOrNone(n.SwitchDay), sqldb.OrNull(n.Replaces), n.Part)
		rows = append(rows, x.NotBefore.Unix(), x.KeyKind, x.NameList, int64(x.Traits))
		for _, x := range c.Names {
			names = append(names, string(x.Kind()), strings.ToLower(x.Value()), last)
		}
	}
	if err := t.Insert("certificate", certificateRow, rows); err != nil {
		return 0, err
	}
	for i, n := range list {
		if err := t.relate(n, last-int64(len(list)-1-i)); err != nil {
			return 0, err
		}
		if n.Issuer == 0 {
			continue
		}
		if err := t.addAddresses(n.Certificate, n.Issuer, n.Part); err != nil {
			return 0, err
		}
	}
	return last, t.Insert("name", "kind, value, certificate", names)
}

// addAddresses records at which addresses the certificates of a generation look for its lists, and for its own
// certificate: what is published must be there, whatever the settings say by then.
func (t *Tx) addAddresses(c *cert.Certificate, generation int64, part int) error {
	if t.addresses == nil {
		t.addresses = map[string]bool{}
	}
	for _, p := range store.AddressesIn(c) {
		key := fmt.Sprintf("%d %d %s %s", generation, part, p.Kind, p.Address)
		if t.addresses[key] {
			continue
		}
		t.addresses[key] = true
		if _, err := t.Exec("INSERT INTO place (generation, part, kind, address) VALUES (?,?,?,?) ON CONFLICT DO "+
			"NOTHING",
			generation,
			part, p.Kind, p.Address); err != nil {
			return err
		}
	}
	return nil
}

// relate records what else goes with a certificate: in whose place it is, and what was
// waived for it.
func (t *Tx) relate(n store.NewCertificate, id int64) error {
	if err := t.replace(n, id); err != nil {
		return err
	}
	for _, f := range n.Waived {
		if _, err := t.Exec("INSERT INTO waiver (certificate, request, code, who, reason) VALUES (?,?,?,?,?)", id,
			sqldb.OrNull(n.Request), string(f.Code), t.actor, f.Waived); err != nil {
			return err
		}
	}
	return nil
}

// keepTemplate keeps the template that a certificate was made by, once, and returns its
// name in the records; nil for one of someone else's.
func (t *Tx) keepTemplate(n store.NewCertificate, stored map[[32]byte]bool) (any, error) {
	if n.TemplateName == "" {
		return nil, nil
	}
	if !stored[n.TemplateSHA] {
		stored[n.TemplateSHA] = true
		if _, err := t.Exec("INSERT INTO template VALUES (?,?,?) ON CONFLICT DO NOTHING", n.TemplateSHA[:],
			n.TemplateName,
			n.TemplateSource); err != nil {
			return nil, err
		}
	}
	return n.TemplateSHA[:], nil
}

// replace notes in whose place a certificate is. That one must still serve: two may
// have renewed it at once.
func (t *Tx) replace(n store.NewCertificate, id int64) error {
	if n.Replaces == 0 {
		return nil
	}
	if !n.SwitchDay.IsZero() {
		var others int
		err := t.QueryRow("SELECT count(*) FROM certificate WHERE replaces = ? AND issuer = ? AND id <> ?", n.Replaces,
			n.Issuer, id).Scan(&others)
		if err == nil && others > 0 {
			err = fmt.Errorf("%s: %w: another certificate was prepared in its place", n.Certificate.Title(),
				fault.Changed)
		}
		return err
	}
	res, err := t.Exec("UPDATE certificate SET replaced_by = ? WHERE id = ? AND replaced_by IS NULL",
		id, n.Replaces)
	if err != nil {
		return err
	}
	if changed, err := res.RowsAffected(); err != nil || changed != 1 {
		return errors.Join(err, fmt.Errorf("%s: %w: it was renewed", n.Certificate.Title(), fault.Changed))
	}
	return nil
}

const certificateColumns = `c.id, c.der, c.title, coalesce(c.request,0), coalesce(t.name,''), t.source,
  coalesce(a.handle || '.g' || g.number, ''), c.staged <> '',
	c.replaced_by IS NOT NULL OR c.id IN (SELECT x.certificate FROM generation x WHERE EXISTS (SELECT 1
		FROM generation y WHERE y.authority = x.authority AND y.number > x.number AND y.staged = '')),
	coalesce((SELECT r.reason FROM revocation r WHERE r.authority = c.authority AND r.serial = c.serial AND
		r.released = ''), -1), coalesce(c.replaces,0), c.not_after, c.part
	FROM certificate c LEFT JOIN template t ON t.sha256 = c.template LEFT
		JOIN generation g ON g.id = c.issuer LEFT JOIN authority a ON a.id = g.authority`

func scanCertificate(row sqldb.Scanner) (store.Certificate, error) {
	var c store.Certificate
	var end int64
	err := row.Scan(&c.ID, &c.DER, &c.Title, &c.Request, &c.Template, &c.Source, &c.Issuer, &c.Prepared, &c.Replaced,
		&c.Reason, &c.Replaces, &end, &c.Part)
	c.Until = time.Unix(end, 0).UTC()
	return c, err
}

func (s *Store) certificates(ctx context.Context, where string, args ...any) (out []store.Certificate, err error) {
	err = s.eachCertificate(ctx, func(c store.Certificate) error {
		out = append(out, c)
		return nil
	}, where, args...)
	return out, err
}

func (s *Store) eachCertificate(ctx context.Context, fn func(store.Certificate) error, where string,
	args ...any) error {
	rows, err := s.Querier().StreamContext(ctx, "SELECT "+certificateColumns+" "+where, args...)
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
func (s *Store) Certificates(ctx context.Context) ([]store.Certificate, error) {
	return s.certificates(ctx, "ORDER BY c.id")
}

// EachCertificate calls fn for every certificate that has a text in its title or in one
// of its names, soonest end first; "" is in all. They are read as they are asked for,
// however many there are.
func (s *Store) EachCertificate(ctx context.Context, text string, fn func(store.Certificate) error) error {
	if text == "" {
		return s.eachCertificate(ctx, fn, "ORDER BY c.not_after, c.id")
	}
	return s.eachCertificate(ctx, fn, "WHERE "+s.InText("lower(c.title)", "?1")+" OR c.id IN (SELECT "+
		"n.certificate "+
		"FROM name n WHERE "+s.InText("n.value", "?1")+") ORDER BY c.not_after, c.id", strings.ToLower(text))
}

// Ending lists the certificates of end entities that serve and end between two
// moments, soonest first: nothing was signed in their place, they are not revoked,
// and wait for no switch day.
func (s *Store) Ending(ctx context.Context, from, to time.Time, limit int) ([]store.Certificate, error) {
	return s.certificates(ctx, `WHERE c.not_after >= ? AND c.not_after <= ? AND c.replaced_by IS NULL AND c.staged = ''
		AND NOT EXISTS (SELECT 1 FROM revocation r WHERE r.authority = c.authority AND r.serial = c.serial AND
			r.released = '')
		AND c.id NOT IN (SELECT certificate FROM generation) AND c.id NOT IN (SELECT certificate
			FROM link) ORDER BY c.not_after, c.id LIMIT ?`, from.Unix(), to.Unix(), limit)
}

// AuthoritiesByTemplates lists the certificates of authorities that were signed by templates with these
// hashes and that serve, generations of our own authorities left out.
func (s *Store) AuthoritiesByTemplates(ctx context.Context, sums [][]byte) ([]store.Certificate, error) {
	var out []store.Certificate
	for _, sum := range sums {
		list, err := s.certificates(ctx, "WHERE c.template = ? AND (c.traits & 1) <> 0 AND c.replaced_by IS NULL "+
			"AND c.staged = '' AND c.id "+
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
func (s *Store) CertificatesBySerial(ctx context.Context, prefix string) ([]store.Certificate, error) {
	exact, err := s.certificates(ctx, "WHERE c.serial = ? ORDER BY c.id", prefix)
	if err != nil || len(exact) > 0 {
		return exact, err
	}
	return s.certificates(ctx, "WHERE c.serial >= ? AND c.serial < ? ORDER BY c.id", prefix, prefix+"g")
}

// CertificateByID finds a certificate by its place on record.
func (s *Store) CertificateByID(ctx context.Context, id int64) ([]store.Certificate, error) {
	return s.certificates(ctx, "WHERE c.id = ?", id)
}

// CertificatesByRequest finds the certificates that came from a request.
func (s *Store) CertificatesByRequest(ctx context.Context, number int64) ([]store.Certificate, error) {
	return s.certificates(ctx, "WHERE c.request = ? ORDER BY c.id", number)
}

// CertificatesOf lists what a generation of an authority signed.
func (s *Store) CertificatesOf(ctx context.Context, handle string, generation int) ([]store.Certificate, error) {
	return s.certificates(ctx, "WHERE a.handle = ? AND g.number = ? ORDER BY c.id", handle, generation)
}

// CertificatesByKey finds certificates by the fingerprint of their key, the newest first, up to a
// number of them or NoLimit.
func (s *Store) CertificatesByKey(ctx context.Context, key [32]byte, limit int) ([]store.Certificate, error) {
	return s.certificates(ctx, "WHERE c.key_sha256 = ? ORDER BY c.id DESC LIMIT ?", key[:], limit)
}

// CertificatesByName finds certificates by an alternative name.
func (s *Store) CertificatesByName(ctx context.Context, name string) ([]store.Certificate, error) {
	return s.certificates(ctx, "WHERE c.id IN (SELECT certificate FROM name WHERE value = ?) ORDER BY c.id",
		strings.ToLower(name))
}

// CertificatesByTitle finds certificates by their title: the common name, or what lists show instead. Case
// does not count.
func (s *Store) CertificatesByTitle(ctx context.Context, title string) ([]store.Certificate, error) {
	return s.certificates(ctx, "WHERE "+s.EqualFold("c.title")+" ORDER BY c.id", title)
}

// LatestCertificate is the number of the newest certificate on record; 0 for none.
func (s *Store) LatestCertificate(ctx context.Context) (id int64, err error) {
	err = s.QueryRow(ctx, "SELECT coalesce(max(id),0) FROM certificate").Scan(&id)
	return id, s.Explain(err)
}

// CertificatesHeldBy finds the certificates of which someone is a holder (see Holders).
func (s *Store) CertificatesHeldBy(ctx context.Context, who string) ([]store.Certificate, error) {
	return s.certificates(ctx, `WHERE c.id IN (SELECT certificate FROM holder WHERE who = ?1)
		OR c.request IN (SELECT number FROM request WHERE sender = ?1) ORDER BY c.id`, who)
}

// CertificateOf finds the certificate of an authority's generation.
func (s *Store) CertificateOf(ctx context.Context, handle string, generation int) (store.Certificate, error) {
	list, err := s.certificates(ctx, `WHERE c.id = (SELECT x.certificate FROM generation x
		JOIN authority y ON y.id = x.authority WHERE y.handle = ? AND x.number = ?)`, handle, generation)
	if err != nil || len(list) == 0 {
		return store.Certificate{}, errors.Join(err, fault.NotFound)
	}
	return list[0], nil
}

// KeysSeen tells, for every waiting request whose key is in certificates already,
// their subjects, the earliest first.
func (s *Store) KeysSeen(ctx context.Context) (map[int64][]string, error) {
	rows, err := s.Querier().QueryContext(ctx, "SELECT r.number, c.subject FROM request r JOIN certificate c ON "+
		"c.key_sha256 = r.key_sha256 WHERE r.state = ? ORDER BY r.number, c.id", lifecycle.Waiting)
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
	rows, err := s.Querier().QueryContext(ctx, "SELECT der FROM outside WHERE certificate = ? ORDER BY position",
		certificate)
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
