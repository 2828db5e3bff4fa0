// Package bundle finds the objects of this trade in bytes that people pass
// around, and writes them out again.
//
// What arrives is seldom tidy. Requests are pasted from consoles, forwarded in
// mail, quoted, indented, saved by editors in UTF-16, stripped of their first
// and last lines, or run together into one long line. Read understands all of
// that and says what it had to overlook, so that the next step works on clean
// DER. It never guesses content: what it returns is a whole ASN.1 structure or
// a problem with the line where it stands.
package bundle

import (
	"bytes"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/pkcs"
	"ironseal/pki/span"
)

// Kind is what an object is.
type Kind string

const (
	Certificate Kind = "certificate"
	Request     Kind = "request"
	List        Kind = "revocation list"
	PublicKey   Kind = "public key"
	PrivateKey  Kind = "private key"
	SealedKey   Kind = "sealed private key"
	SignedData  Kind = "PKCS#7 container"
	Store       Kind = "PKCS#12 container"
	Unknown     Kind = "unknown object"
)

// Bounds on what is read.
const (
	MostBytes   = 16 << 20
	MostObjects = pkcs.MostObjects
)

// Object is one object found.
type Object struct {
	Kind  Kind
	DER   []byte
	Label string // of its BEGIN line, or "" when it had none
	Line  int    // where it begins, counted from 1; 0 in binary input
}

// Problem is a place where an object should be and is not.
type Problem struct {
	Line int
	Text string
}

func (p Problem) Error() string {
	if p.Line == 0 {
		return p.Text
	}
	return fmt.Sprintf("line %d: %s", p.Line, p.Text)
}

// Contents is what Read found.
type Contents struct {
	Objects  []Object
	Problems []Problem
	Remarks  []string // what was untidy and understood all the same
}

func (c *Contents) remark(s string) {
	for _, r := range c.Remarks {
		if r == s {
			return
		}
	}
	c.Remarks = append(c.Remarks, s)
}

// Of returns the objects of one kind.
func (c Contents) Of(k Kind) []Object {
	var out []Object
	for _, o := range c.Objects {
		if o.Kind == k {
			out = append(out, o)
		}
	}
	return out
}

// Read finds the objects in data. An error means that there is nothing at all
// of this trade in it; problems with single objects are in the contents.
func Read(data []byte) (Contents, error) {
	var c Contents
	if len(data) > MostBytes {
		return c, fmt.Errorf("%d MB of input; the most that is read is %d MB", len(data)>>20, MostBytes>>20)
	}
	if len(bytes.TrimSpace(data)) == 0 {
		return c, errors.New("there is nothing in it: it is empty")
	}
	if looksBinary(data) {
		c.readDER(data)
		if len(c.Objects) > 0 || len(c.Problems) > 0 {
			return c, nil
		}
	}
	text := c.toText(data)
	if armoured := beginLine().MatchString(text); armoured {
		c.readArmoured(text)
	} else {
		c.readBare(text)
	}
	if len(c.Objects) == 0 && len(c.Problems) == 0 {
		return c, errors.New("there is no certificate, request or key in it")
	}
	return c, nil
}

// looksBinary tells DER from text that begins with the letter 0: DER of any
// object of this trade begins with a sequence in the long form or a short one
// that just fills the input.
func looksBinary(data []byte) bool {
	if len(data) < 2 || data[0] != 0x30 {
		return false
	}
	return data[1] >= 0x80 && data[1] <= 0x84 || int(data[1])+2 == len(data)
}

func (c *Contents) readDER(data []byte) {
	in := cryptobyte.String(data)
	for !in.Empty() && len(c.Objects) < MostObjects {
		var one cryptobyte.String
		left := in // a read that fails may have moved on
		before := len(data) - len(left)
		if !in.ReadASN1Element(&one, casn1.SEQUENCE) {
			if der, err := ber.ToDER(bytes.TrimRight(left, "\r\n")); err == nil && before == 0 {
				c.remark("BER encoding")
				c.add(Object{DER: der})
				return
			}
			if rest := bytes.TrimRight(left, "\r\n\x00 \x1a"); len(rest) == 0 {
				c.remark("padding after the object")
			} else {
				c.Problems = append(c.Problems, Problem{Text: cutShort(left, before)})
			}
			return
		}
		c.add(Object{DER: bytes.Clone(one)})
	}
}

// add takes in one object. The certificates of a PKCS#7 container are taken in
// one by one.
func (c *Contents) add(o Object) {
	o.Kind = KindOf(o.DER)
	if o.Kind != SignedData {
		c.Objects = append(c.Objects, o)
		return
	}
	list, err := pkcs.ReadSignedData(o.DER)
	if err != nil {
		c.Problems = append(c.Problems, Problem{o.Line, err.Error()})
		return
	}
	c.remark("a PKCS#7 container with " + span.Count(len(list), "certificate"))
	for _, der := range list {
		if len(c.Objects) < MostObjects {
			c.Objects = append(c.Objects, Object{Kind: KindOf(der), DER: der, Label: o.Label, Line: o.Line})
		}
	}
}

// cutShort says how much of a structure is missing.
func cutShort(der []byte, at int) string {
	if want, ok := wantedLength(der); ok && want > len(der) {
		return fmt.Sprintf("the object is cut short: it should have %d bytes and has %d: copy it again, whole", want,
			len(der))
	}
	if at > 0 {
		return fmt.Sprintf("%d bytes after the last object are not ASN.1", len(der))
	}
	return "it is not an ASN.1 structure: it was changed on the way"
}

func wantedLength(der []byte) (int, bool) {
	if len(der) < 2 || der[0] != 0x30 {
		return 0, false
	}
	if der[1] < 0x80 {
		return 2 + int(der[1]), true
	}
	n := int(der[1] & 0x7f)
	if n == 0 || n > 4 || len(der) < 2+n {
		return 0, false
	}
	size := 0
	for _, b := range der[2 : 2+n] {
		size = size<<8 | int(b)
	}
	return 2 + n + size, true
}

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
	cleaned := strings.Map(plainRune, text)
	if cleaned != text {
		c.remark("invisible or non-breaking characters")
	}
	return cleaned
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
	text string
	at   []int // the match ahead; nil when there is none
	from int   // everything before was searched
}

// ahead returns the first match that begins at pos or later; pos never goes back.
func (s *seeker) ahead(pos int) []int {
	if pos < s.from && (s.at == nil || s.at[0] >= pos) {
		return s.at
	}
	s.at = s.what.FindStringSubmatchIndex(s.text[pos:])
	for i := range s.at {
		s.at[i] += pos
	}
	if s.from = len(s.text) + 1; s.at != nil {
		s.from = s.at[0] + 1
	}
	return s.at
}

func (c *Contents) readArmoured(text string) {
	begins, ends := seeker{what: beginLine(), text: text}, seeker{what: endLine(), text: text}
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
	if header().MatchString(body) {
		body = header().ReplaceAllString(body, "")
	}
	if quoting().MatchString(body) {
		body = quoting().ReplaceAllString(body, "")
		c.remark("quoting marks")
	}
	if strings.Contains(body, "=3D") {
		body = strings.ReplaceAll(strings.ReplaceAll(body, "=\n", ""), "=3D", "=")
		c.remark("mail encoding (quoted-printable)")
	}
	return decode64(body)
}

// decode64 decodes base 64 in spite of blanks, quotes, commas, missing padding
// and the URL-safe alphabet.
func decode64(s string) ([]byte, bool) {
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

// KindOf tells from its structure what a DER object is.
func KindOf(der []byte) Kind {
	in := cryptobyte.String(der)
	var seq, first cryptobyte.String
	var tag, second casn1.Tag
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !seq.ReadAnyASN1(&first, &tag) {
		return Unknown
	}
	var next cryptobyte.String
	if !seq.ReadAnyASN1(&next, &second) {
		return Unknown
	}
	switch {
	case tag == casn1.OBJECT_IDENTIFIER && second == casn1.Tag(0).ContextSpecific().Constructed():
		return SignedData
	case tag == casn1.INTEGER && second == casn1.OCTET_STRING, tag == casn1.INTEGER && second == casn1.INTEGER:
		return PrivateKey
	case tag == casn1.INTEGER && second == casn1.SEQUENCE:
		if len(first) == 1 && first[0] == 3 {
			return Store
		}
		return PrivateKey
	case tag != casn1.SEQUENCE:
		return Unknown
	case second == casn1.BIT_STRING:
		return PublicKey
	case second == casn1.OCTET_STRING:
		return SealedKey
	case second == casn1.SEQUENCE:
		return signedKind(first)
	}
	return Unknown
}

// signedKind tells certificates, requests and lists apart by their content.
func signedKind(tbs cryptobyte.String) Kind {
	var one cryptobyte.String
	var tags []casn1.Tag
	var lengths []int
	for !tbs.Empty() && len(tags) < 7 {
		var tag casn1.Tag
		if !tbs.ReadAnyASN1(&one, &tag) {
			break
		}
		tags, lengths = append(tags, tag), append(lengths, len(one))
	}
	version := casn1.Tag(0).ContextSpecific().Constructed()
	switch {
	case len(tags) == 0:
		return Unknown
	case tags[0] == version:
		return Certificate
	case tags[0] == casn1.SEQUENCE, len(tags) > 3 && tags[0] == casn1.INTEGER &&
		(tags[3] == casn1.UTCTime || tags[3] == casn1.GeneralizedTime):
		return List
	case tags[0] == casn1.INTEGER && lengths[0] == 1 && len(tags) <= 4:
		return Request
	case tags[0] == casn1.INTEGER && len(tags) >= 6:
		return Certificate // version 1
	case tags[0] == casn1.INTEGER:
		return Request
	}
	return Unknown
}

var labels = map[Kind]string{
	Certificate: "CERTIFICATE", Request: "CERTIFICATE REQUEST", List: "X509 CRL", PublicKey: "PUBLIC KEY",
	PrivateKey: "PRIVATE KEY", SealedKey: "ENCRYPTED PRIVATE KEY", SignedData: "PKCS7",
}

// PEM writes one object in the textual encoding of RFC 7468.
func PEM(k Kind, der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: labels[k], Bytes: der})
}
