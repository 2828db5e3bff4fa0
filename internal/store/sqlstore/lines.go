package sqlstore

import (
	"context"
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
	names := ""
	if ask.Names {
		names = ", c.names"
	}
	text := strings.Join([]string{"c.serial", "c.key_kind", "c.title"}, " || '"+apart+"' || ")
	packed := `((coalesce(c.issuer, 0) * ` + fmt.Sprint(traits) + ` + c.traits) * 4 +
		CASE WHEN c.staged <> '' THEN 2 ELSE 0 END + CASE WHEN c.replaced_by IS NOT NULL THEN 1 ELSE 0 END) * ` +
		fmt.Sprint(reasons) + " + 1 + " + reason
	question := "SELECT c.id, " + text + ", c.request, c.template, " + packed + ", c.not_before, c.not_after" + names +
		" FROM certificate c" + where + " ORDER BY c.not_after, c.id"
	if ask.Limit > 0 {
		question += " LIMIT ?"
		args = append(args, ask.Limit)
	}
	return s.eachBlock(ctx, ask, question, args, m, fn)
}

// block is how many lines are read before they are looked at, and inFlight how many blocks there are.
const (
	block    = 256
	inFlight = 4
)

// eachBlock reads rows some at a time, while those before become lines and are looked at.
func (s *Store) eachBlock(ctx context.Context, ask store.LineAsk, question string, args []any, m lineMaps,
	fn func(*store.Line) error) error {
	blocks := inFlight
	if s.Busy() { // fn may ask the same connection: one after the other
		blocks = 1
	}
	read, free := make(chan []lineRow), make(chan []lineRow, blocks)
	for range blocks {
		free <- make([]lineRow, 0, block)
	}
	over := make(chan struct{})
	failed := make(chan error, 1)
	go func() {
		defer close(read)
		failed <- s.readLines(ctx, ask.Names, question, args, read, free, over)
	}()
	var err error
	for list := range read {
		for i := 0; i < len(list) && err == nil; i++ {
			var l store.Line
			if l, err = m.line(&list[i]); err == nil {
				err = fn(&l)
			}
		}
		if err != nil {
			close(over)
			break
		}
		free <- list[:0]
	}
	for range read { // what was read already
	}
	if why := <-failed; err == nil {
		err = why
	}
	return err
}

// readLines gives blocks of rows to read, into blocks from free, until they end or no one wants more.
func (s *Store) readLines(ctx context.Context, names bool, question string, args []any, read chan<- []lineRow,
	free <-chan []lineRow, over <-chan struct{}) error {
	rows, err := s.Querier().StreamContext(ctx, question, args...)
	if err != nil {
		return s.Explain(err)
	}
	defer rows.Close()
	list := <-free
	give := func() bool {
		select {
		case read <- list:
		case <-over:
			return false
		}
		select {
		case list = <-free:
		case <-over:
			return false
		}
		return true
	}
	var row lineRow
	into := row.into(names)
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return s.Explain(err)
		}
		if list = append(list, row); len(list) == block && !give() {
			return nil
		}
	}
	if err := rows.Err(); err != nil {
		return s.Explain(err)
	}
	if len(list) > 0 {
		give()
	}
	return nil
}

// What a line is made from comes in few columns, since each takes time. The number of the issuer, the traits, two marks
// and the reason of a revocation, or none, have room in one of 64 bits.
const (
	reasons = 1 << 10
	traits  = 1 << 28
)

// apart stands between the texts of one column. Neither a serial nor a kind of key has it.
const apart = "\x1f"

// lineRow has the values of a row as they came: to convert each takes longer than to read it.
type lineRow struct{ id, text, request, template, packed, begins, ends, names any }

// into is where the values of a row are put.
func (r *lineRow) into(names bool) []any {
	list := []any{&r.id, &r.text, &r.request, &r.template, &r.packed, &r.begins, &r.ends}
	if names {
		list = append(list, &r.names)
	}
	return list
}

// line is the line of a row. What is empty is 0 or "".
func (m *lineMaps) line(r *lineRow) (l store.Line, err error) {
	number := func(v any) (n int64) {
		n, ok := v.(int64)
		if !ok && v != nil {
			err = fmt.Errorf("a certificate on record has %v where there must be a number", v)
		}
		return n
	}
	text := func(v any) (s string) {
		s, ok := v.(string)
		if !ok && v != nil {
			err = fmt.Errorf("a certificate on record has %v where there must be a text", v)
		}
		return s
	}
	l.ID, l.Request, l.NameList = number(r.id), number(r.request), text(r.names)
	var rest string // the serial, the kind of the key, and the title
	l.Serial, rest, _ = strings.Cut(text(r.text), apart)
	l.KeyKind, l.Title, _ = strings.Cut(rest, apart)
	packed := number(r.packed)
	l.Reason, packed = int(packed%reasons)-1, packed/reasons
	l.Replaced, l.Prepared = packed&1 != 0 || m.followed[l.ID], packed&2 != 0
	packed /= 4
	l.Traits, l.Issuer = store.Traits(packed%traits), m.issuers[packed/traits]
	digest, ok := r.template.([]byte)
	if !ok && r.template != nil {
		err = fmt.Errorf("a certificate on record has %v where there must be a digest", r.template)
	}
	l.Template = m.templates[string(digest)]
	l.NotBefore, l.Until = time.Unix(number(r.begins), 0).UTC(), time.Unix(number(r.ends), 0).UTC()
	return l, err
}
