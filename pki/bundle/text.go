package bundle

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
)

// toText brings input to UTF-8 with plain line ends.
func (c *Contents) toText(data []byte) string {
	text := ""
	switch {
	case bytes.HasPrefix(data, []byte{0xef, 0xbb, 0xbf}):
		c.remark("a byte-order mark")
		text = string(data[3:])
	case bytes.HasPrefix(data, []byte{0xff, 0xfe}):
		text = c.fromUTF16(data[2:], 1)
	case bytes.HasPrefix(data, []byte{0xfe, 0xff}):
		text = c.fromUTF16(data[2:], 0)
	case len(data) > 8 && data[1] == 0 && data[3] == 0 && data[5] == 0:
		text = c.fromUTF16(data, 1)
	case len(data) > 8 && data[0] == 0 && data[2] == 0 && data[4] == 0:
		text = c.fromUTF16(data, 0)
	default:
		text = string(data)
	}
	if !utf8.ValidString(text) {
		text = latin1(text)
	}
	if strings.Contains(text, "\r") {
		text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n")
	}
	if allPlain(text) {
		return text
	}
	cleaned := strings.Map(plainRune, text)
	if cleaned != text {
		c.remark("invisible or non-breaking characters")
	}
	return cleaned
}

// allPlain reports whether a text has nothing that plainRune changes: all of it is ASCII, as most often.
func allPlain(text string) bool {
	for i := range len(text) {
		if b := text[i]; b == 0 || b >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

func latin1(s string) string {
	r := make([]rune, len(s))
	for i := range len(s) {
		r[i] = rune(s[i])
	}
	return string(r)
}

func (c *Contents) fromUTF16(data []byte, high int) string {
	c.remark("UTF-16 text")
	u := make([]uint16, len(data)/2)
	for i := range u {
		u[i] = uint16(data[2*i+high])<<8 | uint16(data[2*i+1-high])
	}
	return string(utf16.Decode(u))
}

// plainRune drops what cannot be seen, makes every blank a blank and every dash
// a hyphen: word processors and chat programs change all three.
func plainRune(r rune) rune {
	switch {
	case r == 0x00ad, r >= 0x200b && r <= 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2060 && r <= 0x2064,
		r >= 0x2066 && r <= 0x2069, r == 0xfeff, r == 0:
		return -1
	case r == 0x00a0, r >= 0x2000 && r <= 0x200a, r == 0x202f, r == 0x205f, r == 0x3000:
		return ' '
	case r >= 0x2010 && r <= 0x2015, r == 0x2212:
		return '-'
	}
	return r
}

// onceNeeded compiles a pattern when it is first asked for: most runs read nothing.
func onceNeeded(pattern string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })
}

var (
	beginLine = onceNeeded(`-{2,5}[ \t]*BEGIN ([A-Z0-9 #]{1,40}?)[ \t]*-{2,5}`)
	endLine   = onceNeeded(`-{2,5}[ \t]*END ([A-Z0-9 #]{1,40}?)[ \t]*-{2,5}`)
	header    = onceNeeded(`(?m)^[ \t>|"]*[A-Za-z][A-Za-z0-9-]*:.*$`)
	quoting   = onceNeeded(`(?m)^[^\n>|]{0,20}[>|][>| \t]*`)
)

// seeker finds the matches of one expression in a text from left to right, each
// once: what was found ahead is kept until it is passed.
type seeker struct {
	what *regexp.Regexp
	word string // that every match has, after dashes and blanks
	text string
	at   []int // the match ahead; nil if none exists
	from int   // everything before was searched
}

// ahead returns the first match that begins at pos or later; pos never goes back.
func (s *seeker) ahead(pos int) []int {
	if pos < s.from && (s.at == nil || s.at[0] >= pos) {
		return s.at
	}
	s.at = nil
	if begin := s.candidate(pos); begin >= 0 {
		if s.at = s.asWritten(begin); s.at == nil {
			s.at = s.what.FindStringSubmatchIndex(s.text[begin:])
			for i := range s.at {
				s.at[i] += begin
			}
		}
	}
	if s.from = len(s.text) + 1; s.at != nil {
		s.from = s.at[0] + 1
	}
	return s.at
}

// candidate is where the first match may begin, from pos on; below 0 if none exists.
func (s *seeker) candidate(pos int) int {
	i := strings.Index(s.text[pos:], s.word)
	if i < 0 {
		return -1
	}
	before := strings.TrimRight(s.text[pos:pos+i], " \t")
	dashes := len(before) - len(strings.TrimRight(before, "-"))
	return pos + len(before) - min(dashes, 5)
}

// asWritten is the match at begin where it is written as programs write it (RFC 7468 section 3): five dashes, the word,
// the label, and dashes. It is nil for everything else, which may match nevertheless.
func (s *seeker) asWritten(begin int) []int {
	label := begin + len("-----") + len(s.word)
	if label > len(s.text) || s.text[begin:begin+5] != "-----" || s.text[begin+5:label] != s.word {
		return nil
	}
	end := label
	for end < len(s.text) && end-label <= mostLabel && inLabel(s.text[end]) {
		end++
	}
	if n := end - label; n == 0 || n > mostLabel || s.text[end-1] == ' ' {
		return nil
	}
	after := end
	for after < len(s.text) && after-end < 5 && s.text[after] == '-' {
		after++
	}
	if after-end < 2 {
		return nil
	}
	return []int{begin, after, label, end}
}

// mostLabel is how long a label is at most, as in the expressions.
const mostLabel = 40

func inLabel(b byte) bool {
	return b >= 'A' && b <= 'Z' || b >= '0' && b <= '9' || b == ' ' || b == '#'
}

func (c *Contents) readArmoured(text string) {
	begins := seeker{what: beginLine(), word: "BEGIN ", text: text}
	ends := seeker{what: endLine(), word: "END ", text: text}
	pos, line := 0, 1
	for {
		begin := begins.ahead(pos)
		if begin == nil {
			return
		}
		if len(c.Objects)+len(c.Problems) >= MostObjects {
			c.Problems = append(c.Problems, Problem{Line: line,
				Text: fmt.Sprintf("more than %d objects: the rest was not read", MostObjects)})
			return
		}
		line += strings.Count(text[pos:begin[0]], "\n")
		label, first, start := text[begin[2]:begin[3]], begin[0], begin[1]
		end, next := ends.ahead(start), begins.ahead(start)
		bodyEnd, after := len(text), len(text)
		closed := end != nil && (next == nil || end[0] <= next[0])
		switch {
		case closed:
			bodyEnd, after = end[0], end[1]
		case next != nil:
			bodyEnd, after = next[0], next[0]
		}
		c.addArmoured(label, text[start:bodyEnd], line, closed)
		line += strings.Count(text[first:after], "\n")
		pos = after
	}
}

func (c *Contents) addArmoured(label, body string, line int, closed bool) {
	der, ok := c.decodeBody(body)
	if ok && len(der) > 1 && !complete(der) {
		if better, err := ber.ToDER(der); err == nil {
			c.remark("BER encoding")
			der = better
		}
	}
	whole := ok && len(der) > 0 && complete(der)
	switch {
	case whole && !closed:
		c.remark("a missing END line")
	case !whole && strings.TrimSpace(body) == "":
		c.Problems = append(c.Problems, Problem{line,
			fmt.Sprintf("the %s is empty: nothing stands between BEGIN and END", strings.ToLower(label))})
		return
	case !ok:
		c.Problems = append(c.Problems, Problem{line,
			fmt.Sprintf("the %s is not base 64: it was changed on the way: copy it again", strings.ToLower(label))})
		return
	case !whole:
		c.Problems = append(c.Problems, Problem{line,
			fmt.Sprintf("the %s cannot be parsed: %s", strings.ToLower(label), cutShort(der, 0))})
		return
	}
	c.add(Object{DER: der, Label: label, Line: line})
}

func complete(der []byte) bool {
	in := cryptobyte.String(der)
	return in.SkipASN1(casn1.SEQUENCE) && in.Empty()
}

// decodeBody decodes base 64 between armour lines, after taking away headers,
// quoting and escapes.
func (c *Contents) decodeBody(body string) ([]byte, bool) {
	if strings.Contains(body, `\n`) || strings.Contains(body, `\r`) {
		body = strings.NewReplacer(`\r`, "", `\n`, "\n").Replace(body)
		c.remark("line ends written as \\n")
	}
	if strings.ContainsRune(body, ':') && header().MatchString(body) {
		body = header().ReplaceAllString(body, "")
	}
	if strings.ContainsAny(body, ">|") && quoting().MatchString(body) {
		body = quoting().ReplaceAllString(body, "")
		c.remark("quoting marks")
	}
	if strings.Contains(body, "=3D") {
		body = strings.ReplaceAll(strings.ReplaceAll(body, "=\n", ""), "=3D", "=")
		c.remark("mail encoding (quoted-printable)")
	}
	return decode64(body)
}

// decode64 decodes base 64 despite blanks, quotes, commas, missing padding
// and the URL-safe alphabet.
func decode64(s string) ([]byte, bool) {
	if der, err := base64.StdEncoding.DecodeString(s); err == nil { // as programs write it
		return der, true
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r >= 'A' && r <= 'Z', r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '+', r == '/':
			b.WriteRune(r)
		case r == '-':
			b.WriteByte('+')
		case r == '_':
			b.WriteByte('/')
		case strings.ContainsRune(" \t\n\f\v\"'`,;=>|*<", r):
		default:
			return nil, false
		}
	}
	clean := b.String()
	if len(clean)%4 == 1 {
		clean = clean[:len(clean)-1] // the end was cut off in the middle of a group
	}
	der, err := base64.RawStdEncoding.DecodeString(clean)
	return der, err == nil
}

// bareWork is how often the text as a whole is gathered at most.
const bareWork = 4

var bareRun = onceNeeded(`M[A-Za-z0-9+/_-]{15,}`)

// readBare looks for base 64 without BEGIN and END lines: an object of this
// trade begins with an ASN.1 sequence, and so with the letter M.
//
// A line that only looks like a beginning may claim megabytes behind it, so the
// characters that are gathered are counted, over all beginnings together.
func (c *Contents) readBare(text string) {
	lines := strings.Split(text, "\n")
	budget := bareWork*len(text) + 1<<16
	for i := 0; i < len(lines) && len(c.Objects) < MostObjects; i++ {
		at := bareRun().FindStringIndex(lines[i])
		if at == nil {
			continue
		}
		head, err := base64.RawStdEncoding.DecodeString(lines[i][at[0] : at[0]+16])
		if err != nil || head[0] != 0x30 {
			continue
		}
		want, ok := wantedLength(head)
		if !ok || want > len(text) && want >= 1<<16 { // it cannot be here, and is too large to be one that was cut off
			continue
		}
		if budget -= (want*4 + 2) / 3; budget < 0 {
			c.Problems = append(c.Problems, Problem{i + 1,
				"too much here looks like the beginning of an object and is none: the rest was not read"})
			return
		}
		der, used := gather(lines[i:], at[0], want)
		if len(der) < want {
			if want < 1<<16 {
				budget += (want*4+2)/3 - len(der)
				c.Problems = append(c.Problems, Problem{i + 1, cutShort(der, 0)})
				i += used - 1
			}
			continue
		}
		if !complete(der[:want]) {
			continue
		}
		c.remark("no BEGIN and END lines")
		c.add(Object{DER: der[:want], Line: i + 1})
		i += used - 1
	}
}

// gather collects base 64 from consecutive lines until want bytes are decoded
// or a line is something else.
func gather(lines []string, at, want int) ([]byte, int) {
	var b strings.Builder
	chars := (want*4 + 2) / 3
	used := 0
	for i, l := range lines {
		if i == 0 {
			l = l[at:]
		}
		for _, r := range l {
			if b.Len() < chars && !strings.ContainsRune(" \t\"'`,>|=*<\\", r) {
				b.WriteRune(r)
			}
		}
		used = i + 1
		if b.Len() >= chars {
			break
		}
	}
	der, ok := decode64(b.String())
	if !ok {
		return nil, 1
	}
	return der, used
}
