package sqlstore

import (
	"context"
	"slices"
	"strings"
	"time"

	"ironseal/internal/store"
)

// serving is the question for certificates that serve names: neither ended, replaced nor revoked, and no authority's.
const serving = `SELECT c.id, n.value, c.title, c.serial, c.not_before, c.key_sha256, coalesce(c.request, 0),
	coalesce(r.sender, '') FROM name n JOIN certificate c ON c.id = n.certificate
	LEFT JOIN request r ON r.number = c.request
	WHERE c.not_after >= ?1 AND c.id > ?2 AND c.id <> ?3 AND c.key_sha256 <> ?4 AND c.replaced_by IS NULL
		AND c.staged = '' AND c.id NOT IN (SELECT certificate FROM generation)
		AND NOT EXISTS (SELECT 1 FROM revocation v WHERE v.authority = c.authority AND v.serial = c.serial
			AND v.released = '') AND n.value IN (?5`

// ServingByNames finds certificates that serve one of some names for another key than this one: neither ended,
// replaced nor revoked, no authority's, and not the one that is named.
func (s *Store) ServingByNames(ctx context.Context, names []string, key [32]byte, now time.Time,
	but int64) ([]store.ServingCertificate, error) {
	return s.serves(ctx, names, now, 0, but, key[:], store.MostServing*max(1, len(names)))
}

// namesAtOnce is how many names one question has: few numbers, so that statements are used again.
const namesAtOnce = 500

// ServingOfNames finds, for each of many names, the certificates behind one that serve it, whatever their keys.
func (s *Store) ServingOfNames(ctx context.Context, names []string, now time.Time,
	behind int64) (out []store.ServingCertificate, all bool, err error) {
	all = true
	for part := range slices.Chunk(names, namesAtOnce) {
		for len(part) < namesAtOnce && len(names) > namesAtOnce { // the same statement for the last ones
			part = append(slices.Clip(part), part[0])
		}
		most := store.MostServing * namesAtOnce
		list, err := s.serves(ctx, part, now, behind, 0, nil, most)
		if err != nil {
			return nil, false, err
		}
		out, all = append(out, list...), all && len(list) < most
	}
	return out, all, nil
}

func (s *Store) serves(ctx context.Context, names []string, now time.Time, behind, but int64, key []byte,
	most int) (out []store.ServingCertificate, err error) {
	if len(names) == 0 {
		return nil, nil
	}
	if key == nil {
		key = []byte{}
	}
	args := []any{now.Unix(), behind, but, key}
	for _, n := range names {
		args = append(args, n)
	}
	rows, err := s.Querier().QueryContext(ctx, serving+strings.Repeat(",?", len(names)-1)+
		") ORDER BY +c.id LIMIT ?", append(args, most)...)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var l store.ServingCertificate
		var begins int64
		var key []byte
		if err := rows.Scan(&l.ID, &l.Name, &l.Title, &l.Serial, &begins, &key, &l.Request, &l.Sender); err != nil {
			return nil, err
		}
		l.NotBefore = time.Unix(begins, 0).UTC()
		copy(l.Key[:], key)
		out = append(out, l)
	}
	return out, s.Explain(rows.Err())
}
