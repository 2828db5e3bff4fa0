package probe

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"ironseal/pki/san"
	"ironseal/pki/sheet"
	"ironseal/pki/strict"
)

// Dialect is how a connection comes to speak TLS: at once, or after some words of another
// protocol.
type Dialect string

// The dialects.
const (
	Direct   Dialect = "tls"
	SMTP     Dialect = "smtp"
	IMAP     Dialect = "imap"
	POP3     Dialect = "pop3"
	LDAP     Dialect = "ldap"
	Postgres Dialect = "postgres"
	MySQL    Dialect = "mysql"
	FTP      Dialect = "ftp"
	XMPP     Dialect = "xmpp"
)

// scheme is what a person can write before a host.
type scheme struct {
	name string
	over Dialect
	port string // where none is said
}

var schemes = []scheme{{"tls", Direct, "443"}, {"https", Direct, "443"}, {"smtp", SMTP, "25"},
	{"smtps", Direct, "465"}, {"imap", IMAP, "143"}, {"imaps", Direct, "993"}, {"pop3", POP3, "110"},
	{"pop3s", Direct, "995"}, {"ldap", LDAP, "389"}, {"ldaps", Direct, "636"}, {"postgres", Postgres, "5432"},
	{"postgresql", Postgres, "5432"},
	{"mysql", MySQL, "3306"}, {"ftp", FTP, "21"}, {"ftps", Direct, "990"}, {"xmpp", XMPP, "5222"}}

// byPort are the ports that tell the dialect by themselves.
var byPort = map[string]Dialect{"25": SMTP, "587": SMTP, "143": IMAP, "110": POP3, "389": LDAP, "5432": Postgres,
	"3306": MySQL, "21": FTP, "5222": XMPP, "5269": XMPP}

// Target is an endpoint, and the name by which people use it.
type Target struct {
	Name string // the name or address that clients compare with the certificate
	Host string // whom to connect to
	Port string
	Over Dialect
	Line int // in the list that it came from; 0 for none
}

// Address is the host with its port.
func (t Target) Address() string { return net.JoinHostPort(t.Host, t.Port) }

// String is how a person writes it.
func (t Target) String() string {
	out := t.Address()
	if over, ok := byPort[t.Port]; t.Over != Direct && over != t.Over || t.Over == Direct && ok {
		out = string(t.Over) + "://" + out
	}
	if t.Name != t.Host {
		out = t.Name + "@" + out
	}
	return out
}

// ParseTarget reads [NAME@][SCHEME://]HOST[:PORT]. What a browser's address line has behind
// the host counts for nothing.
func ParseTarget(typed string) (Target, error) {
	rest := strings.TrimSpace(typed)
	fail := func(why string) (Target, error) {
		return Target{}, fmt.Errorf("endpoint %q: %s: write HOST:PORT, NAME@HOST:PORT or smtp://HOST:PORT", typed, why)
	}
	t := Target{}
	var said *scheme
	if name, after, ok := strings.Cut(rest, "@"); ok && !strings.Contains(name, "://") {
		t.Name, rest = name, after
		if t.Name == "" || strings.Contains(after, "@") {
			return fail("the name before the @ cannot be read")
		}
	}
	if word, after, ok := strings.Cut(rest, "://"); ok {
		at := slices.IndexFunc(schemes, func(s scheme) bool { return s.name == strings.ToLower(word) })
		if at < 0 {
			return fail("it begins with no protocol that is known" + nearScheme(word))
		}
		said, rest = &schemes[at], after
		rest, _, _ = strings.Cut(rest, "/")
		if name, after, ok := strings.Cut(rest, "@"); ok {
			if t.Name != "" || name == "" || strings.Contains(after, "@") {
				return fail("the name before the @ cannot be read")
			}
			t.Name, rest = name, after
		}
	}
	t.Name = asServed(t.Name)
	if err := t.place(rest); err != nil {
		return fail(err.Error())
	}
	switch {
	case said != nil:
		t.Over = said.over
		if t.Port == "" {
			t.Port = said.port
		}
	case t.Port == "":
		t.Port = "443"
		fallthrough
	default:
		t.Over = Direct
		if over, ok := byPort[t.Port]; ok {
			t.Over = over
		}
	}
	if t.Name == "" {
		t.Name = t.Host
	} else if !plausible(t.Name) {
		return fail("the name before the @ cannot be read")
	}
	return t, nil
}

func nearScheme(word string) string {
	var names []string
	for _, s := range schemes {
		names = append(names, s.name)
	}
	if near := strict.Nearest(word, names); near != "" {
		return fmt.Sprintf(" (did you mean %s?)", near)
	}
	return ""
}

// asServed writes a name with letters of any script as it stands in certificates (RFC 5891); every other stays
// as it was typed.
func asServed(typed string) string {
	if !strings.ContainsFunc(typed, func(r rune) bool { return r >= 0x80 }) {
		return typed
	}
	if n, err := san.ParseTyped(typed); err == nil && n.Kind() == san.DNS {
		return n.Value()
	}
	return typed
}

// place reads HOST, HOST:PORT, an address of either kind, or [ADDRESS]:PORT.
func (t *Target) place(text string) error {
	if a, ok := address(strings.Trim(text, "[]")); ok {
		t.Host = a.String()
		return nil
	}
	t.Host = text
	if strings.Contains(text, ":") {
		host, port, err := net.SplitHostPort(text)
		if err != nil {
			return errors.New("the port cannot be read")
		}
		if n, err := strconv.ParseUint(port, 10, 16); err != nil || n == 0 {
			return errors.New("the port is no number from 1 to 65535")
		}
		t.Host, t.Port = host, port
	}
	t.Host = asServed(t.Host)
	if !plausible(t.Host) {
		return errors.New("the host cannot be read")
	}
	if a, ok := address(t.Host); ok {
		t.Host = a.String()
	}
	t.Host = strings.TrimSuffix(t.Host, ".")
	return nil
}

// address reads an address. Its zone is a word like a host's name: RFC 4007 section 11.2 lets
// it be any text, even one with the brackets and colons that set the port off.
func address(s string) (netip.Addr, bool) {
	a, err := netip.ParseAddr(s)
	return a, err == nil && (a.Zone() == "" || lettered(a.Zone()) && !strings.HasSuffix(a.Zone(), "."))
}

// plausible reports whether a text may be a host's name or address.
func plausible(s string) bool {
	if _, ok := address(s); ok {
		return true
	}
	return len(s) <= 253 && strings.Trim(s, ".") != "" && !strings.Contains(s, "..") && lettered(s)
}

// lettered reports whether a text holds only what hosts' names are written with.
func lettered(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '-' && r != '.' &&
			r != '_'
	})
}

// ReadList reads endpoints: one a line, with remarks after #, or a table whose column
// endpoint names them, with name and others beside. Wrong lines are reported and do not spoil the
// rest; one that stands twice is taken once.
func ReadList(data []byte) (list []Target, faults []error) {
	data = bytes.TrimPrefix(data, []byte{0xef, 0xbb, 0xbf})
	first, _, _ := bytes.Cut(bytes.TrimSpace(data), []byte("\n"))
	head := strings.FieldsFunc(strings.ToLower(string(first)),
		func(r rune) bool { return strings.ContainsRune(",;\t\r \"", r) })
	seen := map[Target]bool{}
	take := func(line int, name, typed string) {
		t, err := ParseTarget(typed)
		if err == nil && name != "" {
			t.Name = name
			if !plausible(name) {
				err = fmt.Errorf("endpoint %q: the name %q cannot be read", typed, name)
			}
		}
		switch {
		case err != nil:
			faults = append(faults, fmt.Errorf("line %d: %w", line, err))
		case !seen[t]:
			seen[t] = true
			t.Line = line
			list = append(list, t)
		}
	}
	if slices.Contains(head, "endpoint") {
		rows, err := sheet.Read("list of endpoints", data, []string{"endpoint", "name", "note", "owner", "party"})
		if err != nil {
			return nil, []error{err}
		}
		for _, r := range rows {
			if r.Err != nil {
				faults = append(faults, fmt.Errorf("line %d: %w", r.Line, r.Err))
				continue
			}
			take(r.Line, r.Cell("name"), r.Cell("endpoint"))
		}
		return list, faults
	}
	for n, line := range strings.Split(string(data), "\n") {
		if n == sheet.MostRows {
			return list, append(faults, fmt.Errorf("more than %d lines: the rest is left out", sheet.MostRows))
		}
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); line != "" {
			take(n+1, "", line)
		}
	}
	return list, faults
}
