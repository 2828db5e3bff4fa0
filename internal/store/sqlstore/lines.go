package sqlstore

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/store"
)

// lineMaps are what many lines have in common, read once: a question that joined them for each would take longer.
type lineMaps struct {
	templates map[string]string // names, by digest
	issuers   map[int64]string  // names of generations
	followed  map[int64]bool    // certificates of generations that another has followed
	revoked   bool              // anything was
}

func (s *Store) lineMaps(ctx context.Context) (m lineMaps, err error) {
	m = lineMaps{map[string]string{}, map[int64]string{}, map[int64]bool{}, false}
	if err := s.EachTemplate(ctx, func(sum []byte, name string, _ []byte) {
		m.templates[string(sum)] = name
	}); err != nil {
		return m, err
	}
	rows, err := s.Querier().QueryContext(ctx, `SELECT g.id, a.handle || '.g' || g.number, g.certificate,
		EXISTS (SELECT 1 FROM generation y WHERE y.authority = g.authority AND y.number > g.number AND y.staged = '')
		FROM generation g JOIN authority a ON a.id = g.authority`)
	if err != nil {
		return m, s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var id, certificate int64
		var name string
		var followed bool
		if err := rows.Scan(&id, &name, &certificate, &followed); err != nil {
			return m, err
		}
		m.issuers[id] = name
		if followed {
			m.followed[certificate] = true
		}
	}
	if err := rows.Err(); err != nil {
		return m, s.Explain(err)
	}
	err = s.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM revocation WHERE released = '')").Scan(&m.revoked)
	return m, err
}

// where is the condition of an ask, and its arguments.
func (s *Store) where(ask store.LineAsk) (string, []any) {
	var list []string
	var args []any
	add := func(condition string, values ...any) {
		list, args = append(list, condition), append(args, values...)
	}
	if ask.Text != "" {
		text := strings.ToLower(ask.Text)
		add("("+s.InText("lower(c.title)", "?")+" OR c.id IN (SELECT n.certificate FROM name n WHERE "+
			s.InText("n.value", "?")+"))", text, text)
	}
	if ask.Key != "" { // the first digits: all that have them lie together
		low, high := keyRange(ask.Key)
		add("c.key_sha256 >= ? AND c.key_sha256 <= ?", low, high)
	}
	if ask.Ends {
		add("c.not_after >= ? AND c.not_after <= ?", ask.From.Unix(), ask.To.Unix())
	}
	if ask.Leaves {
		add("c.id NOT IN (SELECT certificate FROM generation) AND c.id NOT IN (SELECT certificate FROM link)")
	}
	if ask.Serving {
		add(`c.replaced_by IS NULL AND c.staged = '' AND NOT EXISTS (SELECT 1 FROM revocation r
			WHERE r.authority = c.authority AND r.serial = c.serial AND r.released = '')`)
	}
	if ask.After > 0 {
		add(`(c.not_after > (SELECT not_after FROM certificate WHERE id = ?) OR c.id > ? AND
			c.not_after = (SELECT not_after FROM certificate WHERE id = ?))
			AND c.not_after >= (SELECT not_after FROM certificate WHERE id = ?)`, ask.After, ask.After, ask.After,
			ask.After)
	}
	if len(list) == 0 {
		return "", nil
	}
	return " WHERE " + strings.Join(list, " AND "), args
}

// keyRange are the least and the greatest fingerprint that begin with digits in hex.
func keyRange(digits string) (low, high []byte) {
	fill := func(with string) []byte {
		out := make([]byte, 32)
		text := digits[:min(len(digits), 64)]
		text += strings.Repeat(with, 64-len(text))
		if _, err := fmt.Sscanf(text, "%x", &out); err != nil {
			return nil // no digits in hex: nothing has them
		}
		return out
	}
	return fill("0"), fill("f")
}

// EachLine calls fn for the lines that are asked for, soonest end first, as they are read. fn must not keep the line.
func (s *Store) EachLine(ctx context.Context, ask store.LineAsk, fn func(*store.Line) error) error {
	m, err := s.lineMaps(ctx)
	if err != nil {
		return err
	}
	reason := "-1"
	if m.revoked {
		reason = `coalesce((SELECT r.reason FROM revocation r WHERE r.authority = c.authority AND r.serial = c.serial
			AND r.released = ''), -1)`
	}
	where, args := s.where(ask)
	question := `SELECT c.id, c.serial, c.title, c.request, c.template, c.issuer, c.staged <> '',
		c.replaced_by IS NOT NULL, ` + reason + `, c.not_before, c.not_after, c.key_kind, c.names, c.traits
		FROM certificate c` + where + " ORDER BY c.not_after, c.id"
	if ask.Limit > 0 {
		question += " LIMIT ?"
		args = append(args, ask.Limit)
	}
	rows, err := s.Querier().StreamContext(ctx, question, args...)
	if err != nil {
		return s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var l store.Line
		var request, issuer sql.NullInt64
		var template sql.RawBytes
		var begins, ends, traits int64
		if err := rows.Scan(&l.ID, &l.Serial, &l.Title, &request, &template, &issuer, &l.Prepared, &l.Replaced,
			&l.Reason,
			&begins, &ends, &l.KeyKind, &l.NameList, &traits); err != nil {
			return err
		}
		l.Request, l.Template, l.Issuer = request.Int64, m.templates[string(template)], m.issuers[issuer.Int64]
		l.Replaced = l.Replaced || m.followed[l.ID]
		l.NotBefore, l.Until, l.Traits = time.Unix(begins, 0).UTC(), time.Unix(ends, 0).UTC(), store.Traits(traits)
		if err := fn(&l); err != nil {
			return err
		}
	}
	return s.Explain(rows.Err())
}
