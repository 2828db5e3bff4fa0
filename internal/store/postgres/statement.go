package postgres

import (
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"
)

// written is a statement as PostgreSQL wants it: its arguments are numbered, and each is used.
type written struct {
	text  string
	order []int // which arguments it takes, in this order
}

// statements are those that were written before. Their number is bounded: those of many values differ by their number.
var statements = struct {
	mu sync.RWMutex
	by map[string]written
}{by: map[string]written{}}

const mostStatements = 2000

// Statement writes ?, ?1, ?2 ... as $1, $2 ...
func (*server) Statement(query string, args []any) (string, []any) {
	statements.mu.RLock()
	w, known := statements.by[query]
	statements.mu.RUnlock()
	if !known {
		w = write(query)
		statements.mu.Lock()
		if len(statements.by) >= mostStatements {
			clear(statements.by)
		}
		statements.by[query] = w
		statements.mu.Unlock()
	}
	out := make([]any, len(w.order))
	for i, at := range w.order {
		if at < len(args) { // else the server says that one is missing
			out[i] = argument(args[at])
		}
	}
	return w.text, out
}

func write(query string) written {
	var b strings.Builder
	var w written
	named := map[int]int{} // the number of an argument of the caller, by which it is given
	quoted, next := false, 0
	for i := 0; i < len(query); i++ {
		c := query[i]
		if c == '\'' {
			quoted = !quoted
		}
		if c != '?' || quoted {
			b.WriteByte(c)
			continue
		}
		end := i + 1
		for end < len(query) && query[end] >= '0' && query[end] <= '9' {
			end++
		}
		at := next
		if n, err := strconv.Atoi(query[i+1 : end]); err == nil {
			at = n - 1
			next = max(next, n)
		} else {
			next++
		}
		i = end - 1
		if _, known := named[at]; !known {
			w.order = append(w.order, at)
			named[at] = len(w.order)
		}
		b.WriteString("$" + strconv.Itoa(named[at]))
	}
	w.text = b.String()
	return w
}

// argument is a value as PostgreSQL takes it: truths are numbers there as in a file, and no bytes are empty bytes.
func argument(v any) any {
	switch v := v.(type) {
	case bool:
		if v {
			return int64(1)
		}
		return int64(0)
	case []byte:
		if v == nil {
			return []byte{}
		}
	case string:
		return storable(v)
	}
	return v
}

// A text of PostgreSQL is UTF-8 without NUL. Texts that come from certificates need not be: each octet that cannot be
// kept, and each of a character that would be taken for one, is kept as a character of the private range that begins
// here.
const octets = 0x10FC00

func storable(s string) string {
	if utf8.ValidString(s) && !strings.ContainsRune(s, 0) && !strings.ContainsFunc(s, standsForOctet) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		if r == 0 || r == utf8.RuneError && n == 1 || standsForOctet(r) {
			for _, c := range []byte(s[i : i+n]) {
				b.WriteRune(octets + rune(c))
			}
		} else {
			b.WriteString(s[i : i+n])
		}
		i += n
	}
	return b.String()
}

func standsForOctet(r rune) bool { return r >= octets && r <= octets+255 }

// Value is a value as it was when it was written.
func (*server) Value(v any) any {
	s, ok := v.(string)
	if !ok || !strings.ContainsFunc(s, standsForOctet) {
		return v
	}
	var b strings.Builder
	for _, r := range s {
		if standsForOctet(r) {
			b.WriteByte(byte(r - octets))
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}
