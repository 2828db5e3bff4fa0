package probe

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
)

// What a peer says before TLS is hostile: every line and the whole are bounded, and nothing is
// read beyond what the protocol has said, so that TLS begins where it begins.
const (
	mostLine  = 4 << 10
	mostWords = 64 << 10
)

// talk is a conversation in plain text.
type talk struct {
	conn net.Conn
	read int
}

// errUnlike says that a peer speaks something else.
var errUnlike = errors.New("the peer speaks something else")

// unlike is what was got in place of what was expected.
func unlike(what string, got []byte) error {
	return &other{what, string(got[:min(len(got), 120)])}
}

// other is an answer that was not expected.
type other struct{ expected, said string }

func (o *other) Error() string {
	return fmt.Sprintf("%v: expected %s, and it says %q", errUnlike, o.expected, o.said)
}

func (o *other) Unwrap() error { return errUnlike }

// Declined says that a server speaks the protocol and does not continue to TLS: it offers none, or refuses to.
type Declined struct{ Said string } // the server's words; "" where it offers none

func (d *Declined) Error() string {
	if d.Said == "" {
		return "it does not offer TLS"
	}
	return fmt.Sprintf("it refuses to start TLS: it says %q", d.Said)
}

// declined turns an answer to the request for TLS into a refusal where it is one.
func declined(err error) error {
	var o *other
	if errors.As(err, &o) {
		return &Declined{o.said}
	}
	return err
}

// octets reads exactly n bytes.
func (c *talk) octets(n int) ([]byte, error) {
	if c.read += n; n > mostWords || c.read > mostWords {
		return nil, fmt.Errorf("%w: it says more than %d bytes before TLS", errUnlike, mostWords)
	}
	b := make([]byte, n)
	if got, err := io.ReadFull(c.conn, b); err != nil {
		return b[:got], fmt.Errorf("before TLS: %w", err)
	}
	return b, nil
}

// until reads up to and with an ending.
func (c *talk) until(ending string) ([]byte, error) {
	var out []byte
	for !bytes.HasSuffix(out, []byte(ending)) {
		if len(out) == mostLine {
			return out, unlike("a line", out)
		}
		b, err := c.octets(1)
		if err != nil {
			return out, err
		}
		out = append(out, b...)
	}
	return out, nil
}

// line reads a line without its end.
func (c *talk) line() (string, error) {
	l, err := c.until("\n")
	return strings.TrimRight(string(l), "\r\n"), err
}

func (c *talk) say(text string) error {
	_, err := c.conn.Write([]byte(text))
	return err
}

// ask says a line and reads the answer of a protocol with reply codes: lines of which the last
// has a blank behind its three digits (RFC 5321 section 4.2.1, RFC 959 section 4.2).
func (c *talk) ask(text, code string) (lines []string, err error) {
	if text != "" {
		if err := c.say(text + "\r\n"); err != nil {
			return nil, err
		}
	}
	for {
		l, err := c.line()
		if err != nil {
			return lines, err
		}
		if !strings.HasPrefix(l, code) {
			return lines, unlike("a line that begins with "+code, []byte(l))
		}
		if lines = append(lines, l); len(l) == 3 || l[3] != '-' {
			return lines, nil
		}
	}
}

// expect says a line and reads lines until one begins as expected; those that begin with a
// star are reported beside the answer (RFC 9051 section 7).
func (c *talk) expect(text, begins string) error {
	if text != "" {
		if err := c.say(text + "\r\n"); err != nil {
			return err
		}
	}
	for {
		l, err := c.line()
		if err != nil {
			return err
		}
		if strings.HasPrefix(strings.ToUpper(l), begins) {
			return nil
		}
		if !strings.HasPrefix(l, "* ") {
			return unlike("a line that begins with "+begins, []byte(l))
		}
	}
}

// upgrade speaks the protocol up to the begin of TLS.
func upgrade(conn net.Conn, t Target) error {
	c := &talk{conn: conn}
	switch t.Over {
	case SMTP:
		return c.smtp()
	case IMAP: // RFC 9051 section 6.2.1
		if err := c.expect("", "* OK"); err != nil {
			return err
		}
		return declined(c.expect("a1 STARTTLS", "A1 OK"))
	case POP3: // RFC 2595 section 4
		if err := c.expect("", "+OK"); err != nil {
			return err
		}
		return declined(c.expect("STLS", "+OK"))
	case FTP: // RFC 4217 section 4
		if _, err := c.ask("", "220"); err != nil {
			return err
		}
		_, err := c.ask("AUTH TLS", "234")
		return declined(err)
	case LDAP:
		return c.ldap()
	case Postgres:
		return c.postgres()
	case MySQL:
		return c.mysql()
	case XMPP:
		return c.xmpp(t)
	}
	return nil
}

// smtp is RFC 3207.
func (c *talk) smtp() error {
	if _, err := c.ask("", "220"); err != nil {
		return err
	}
	offers, err := c.ask("EHLO localhost", "250")
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(offers, func(l string) bool {
		return len(l) > 4 && strings.EqualFold(strings.TrimSpace(l[4:]), "STARTTLS")
	}) {
		return &Declined{}
	}
	_, err = c.ask("STARTTLS", "220")
	return declined(err)
}

// ldap asks for StartTLS (RFC 4511 section 4.14): an extended request, whose response begins with its result.
func (c *talk) ldap() error {
	request := append([]byte{0x30, 0x1d, 0x02, 0x01, 0x01, 0x77, 0x18, 0x80, 0x16}, "1.3.6.1.4.1.1466.20037"...)
	if err := c.say(string(request)); err != nil {
		return err
	}
	message, err := c.ldapMessage()
	if err != nil {
		return err
	}
	der, err := ber.ToDER(message) // directory servers write lengths that DER has not
	if err != nil {
		return unlike("an answer of LDAP", message)
	}
	const extendedResponse = casn1.Tag(24 | 0x40 | 0x20) // [APPLICATION 24]
	in := cryptobyte.String(der)
	var envelope, response cryptobyte.String
	var result int
	if !in.ReadASN1(&envelope, casn1.SEQUENCE) || !envelope.SkipASN1(casn1.INTEGER) ||
		!envelope.ReadASN1(&response, extendedResponse) || !response.ReadASN1Enum(&result) {
		return unlike("an answer to StartTLS", message)
	}
	if result != 0 {
		return &Declined{fmt.Sprintf("result %d of LDAP", result)}
	}
	return nil
}

// ldapMessage reads one message and nothing after it.
func (c *talk) ldapMessage() ([]byte, error) {
	head, err := c.octets(2)
	if err != nil {
		return nil, err
	}
	length := int(head[1])
	if head[1] > 0x80 && head[1] <= 0x84 {
		more, err := c.octets(int(head[1] & 0x7f))
		if err != nil {
			return nil, err
		}
		length = 0
		for _, b := range more {
			length = length<<8 | int(b)
		}
		head = append(head, more...)
	}
	if head[0] != 0x30 || length > mostLine {
		return nil, unlike("an answer of LDAP", head)
	}
	body, err := c.octets(length)
	return append(head, body...), err
}

// postgres sends an SSLRequest, which is answered with one letter.
func (c *talk) postgres() error {
	if err := c.say("\x00\x00\x00\x08\x04\xd2\x16\x2f"); err != nil {
		return err
	}
	answer, err := c.octets(1)
	switch {
	case err != nil:
		return err
	case answer[0] == 'N':
		return &Declined{}
	case answer[0] != 'S':
		return unlike("S or N", answer)
	}
	return nil
}

// Capabilities of the MySQL protocol.
const (
	mysqlProtocol41 = 0x0200
	mysqlTLS        = 0x0800
	mysqlSecure     = 0x8000
)

// mysql reads the greeting and asks for TLS.
func (c *talk) mysql() error {
	head, err := c.octets(4)
	if err != nil {
		return err
	}
	length := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
	if length > mostLine {
		return unlike("a greeting of MySQL", head)
	}
	body, err := c.octets(length)
	if err != nil {
		return err
	}
	zero := bytes.IndexByte(body, 0)
	if len(body) == 0 || body[0] != 10 || zero < 0 || zero+16 > len(body) {
		return unlike("a greeting of MySQL", body)
	}
	if binary.LittleEndian.Uint16(body[zero+14:])&mysqlTLS == 0 {
		return &Declined{}
	}
	packet := make([]byte, 4+32)
	packet[0], packet[3] = 32, 1
	binary.LittleEndian.PutUint32(packet[4:], mysqlProtocol41|mysqlTLS|mysqlSecure)
	binary.LittleEndian.PutUint32(packet[8:], 1<<24)
	packet[12] = 45 // utf8mb4
	return c.say(string(packet))
}

// xmpp is RFC 6120 section 5.4.
func (c *talk) xmpp(t Target) error {
	space := "jabber:client"
	if t.Port == "5269" {
		space = "jabber:server"
	}
	if err := c.say("<?xml version='1.0'?><stream:stream to='" + t.Name + "' xmlns='" + space +
		"' xmlns:stream='http://etherx.jabber.org/streams' version='1.0'>"); err != nil {
		return err
	}
	for found := false; ; {
		tag, err := c.until(">")
		if err != nil {
			return err
		}
		found = found || bytes.Contains(tag, []byte("<starttls"))
		if found {
			break
		}
		if bytes.Contains(tag, []byte("</stream:features")) {
			return &Declined{}
		}
	}
	if err := c.say("<starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>"); err != nil {
		return err
	}
	for {
		tag, err := c.until(">")
		switch {
		case err != nil:
			return err
		case bytes.Contains(tag, []byte("<proceed")):
			if bytes.HasSuffix(tag, []byte("/>")) {
				return nil
			}
			_, err := c.until(">") // its end
			return err
		case bytes.Contains(tag, []byte("<failure")):
			return &Declined{"failure"}
		}
	}
}
