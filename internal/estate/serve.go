package estate

import (
	"fmt"
	"net"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Serve says what a server of the estate listens on and does.
type Serve struct {
	Public     string   `toml:"public"`
	Desk       string   `toml:"desk"`
	Health     string   `toml:"health"`
	Machines   string   `toml:"machines"`
	Open       string   `toml:"desk-open-to"`
	Names      []string `toml:"desk-names"`
	Address    string   `toml:"desk-address"`
	Template   string   `toml:"desk-template"`
	Authority  string   `toml:"desk-authority"`
	Publish    []string `toml:"publish"`
	Answer     []string `toml:"answer"`
	AnswerKey  string   `toml:"answer-key"`
	AnswerLife string   `toml:"answer-life"`
	Sign       []string `toml:"sign"`
	Answers    string   `toml:"answers"`
	Notify     []string `toml:"notify"`
	Pace       int      `toml:"pace"`
	Most       int      `toml:"connections"`
	Proxies    []string `toml:"proxies"`

	MachinesAddress string `toml:"machines-address"`
	ACMEOpen        bool   `toml:"acme-open"`
	Resolver        string `toml:"challenge-resolver"`
	HTTPPort        int    `toml:"challenge-http-port"`
	TLSPort         int    `toml:"challenge-tls-port"`
	Local           bool   `toml:"challenge-local"`
}

// Whom the desk is open to.
const (
	DeskToAll     = "all"
	DeskToInvited = "invited"
	DeskToNobody  = "nobody"
)

// ServeText is the part of a new estate's settings about the server; each key is explained in it.
const ServeText = `
# What the server of this estate listens on and does (the command "serve"). An address is
# HOST:PORT, unix:FILE, or empty for "not at all". 127.0.0.1 is reached from this machine only.
[serve]
public         = "127.0.0.1:8085"  # lists, certificates of authorities, OCSP, roots: plain HTTP
desk           = "127.0.0.1:8445"  # where colleagues hand in requests: HTTPS
health         = "127.0.0.1:8095"  # state and metrics, for operators: plain HTTP
machines       = ""     # where machines enrol (EST, ACME, SCEP): HTTPS, such as 127.0.0.1:8446
# Who may hand in requests: "all", "invited" (see "desk invite"), or "nobody".
desk-open-to   = "all"
# Names and addresses in the desk's own certificate, the template, and who signs it (empty: the
# only authority that may).
desk-names     = ["localhost", "127.0.0.1"]
desk-address   = ""     # how colleagues reach the desk, such as https://desk.ternbay.example; empty: by its first name
desk-template  = "serve-tls"
desk-authority = ""
# Authorities whose lists the server signs when they are due, and those about whose certificates
# it signs OCSP answers. Their passphrases are asked for at the start. "all": every one.
publish        = []
answer         = []
# The key that signs OCSP answers. Empty: a new one at each start, in memory alone. Or one that an
# SSH agent holds, such as "agent:SHA256:..."; the authorities certify it at each start.
answer-key     = ""
# Authorities with whose keys it signs what a template lets be signed without a person (see
# [unattended] in templates).
sign           = []
machines-address = ""   # how machines reach it, such as https://enrol.ternbay.example; empty: as they ask
# ACME: whether accounts may be registered without a key from "enrol account", which DNS server is
# asked for names (HOST:PORT; empty: the system's), the ports of challenges, and whether a name may
# lead to loopback and link-local addresses.
acme-open           = false
challenge-resolver  = ""
challenge-http-port = 80
challenge-tls-port  = 443
challenge-local     = false
answer-life    = "1h"   # how long an OCSP answer is fresh
answers        = ""     # a folder of OCSP answers that were prepared, for the others
# A program and its arguments, run with one JSON event on its input: a request that came, was
# signed or declined, an act that failed.
notify         = []
pace           = 600    # requests that one address may send in a minute; 0: any number
connections    = 10000  # open at once
# Addresses or networks of proxies in front, whose X-Forwarded-For is believed.
proxies        = []
`

// serveDefaults are the settings of a server where the file has none.
func serveDefaults() Serve {
	return Serve{Public: "127.0.0.1:8085", Desk: "127.0.0.1:8445", Health: "127.0.0.1:8095", Open: DeskToAll,
		Names: []string{"localhost", "127.0.0.1"}, Template: "serve-tls", AnswerLife: "1h", Pace: 600, Most: 10000,
		HTTPPort: 80, TLSPort: 443}
}

// Check says what is wrong with the settings of a server.
func (s Serve) Check() error {
	for _, x := range []struct{ key, value string }{{"public", s.Public}, {"desk", s.Desk}, {"health", s.Health},
		{"machines", s.Machines}} {
		if err := checkListen(x.value); err != nil {
			return fmt.Errorf("serve.%s = %q: %w", x.key, x.value, err)
		}
	}
	if !slices.Contains([]string{DeskToAll, DeskToInvited, DeskToNobody}, s.Open) {
		return fmt.Errorf("serve.desk-open-to = %q: use %q, %q or %q", s.Open, DeskToAll, DeskToInvited, DeskToNobody)
	}
	if s.Desk != "" && len(s.Names) == 0 {
		return fmt.Errorf("serve.desk-names is empty: name at least one host for the desk's certificate")
	}
	if s.Address != "" && !strings.HasPrefix(s.Address, "https://") {
		return fmt.Errorf("serve.desk-address = %q: write for example \"https://desk.ternbay.example\"", s.Address)
	}
	if d, err := time.ParseDuration(s.AnswerLife); err != nil || d < time.Minute || d > 7*24*time.Hour {
		return fmt.Errorf("serve.answer-life = %q: write for example \"1h\"; from 1m to 168h", s.AnswerLife)
	}
	if s.MachinesAddress != "" && !strings.HasPrefix(s.MachinesAddress, "https://") {
		return fmt.Errorf("serve.machines-address = %q: write for example \"https://enrol.ternbay.example\"",
			s.MachinesAddress)
	}
	if s.Resolver != "" {
		if _, err := netip.ParseAddrPort(s.Resolver); err != nil {
			return fmt.Errorf("serve.challenge-resolver = %q: write for example \"192.0.2.53:53\"", s.Resolver)
		}
	}
	if s.HTTPPort < 1 || s.HTTPPort > 65535 || s.TLSPort < 1 || s.TLSPort > 65535 {
		return fmt.Errorf("serve.challenge-http-port and challenge-tls-port: from 1 to 65535")
	}
	if s.Pace < 0 || s.Pace > 1_000_000 {
		return fmt.Errorf("serve.pace = %d: from 0 to 1000000", s.Pace)
	}
	if s.Most < 10 || s.Most > 1_000_000 {
		return fmt.Errorf("serve.connections = %d: from 10 to 1000000", s.Most)
	}
	_, err := s.Trusted()
	return err
}

// checkListen says what is wrong with an address to listen on.
func checkListen(at string) error {
	if at == "" {
		return nil
	}
	if file, ok := strings.CutPrefix(at, "unix:"); ok {
		if !filepath.IsAbs(file) {
			return fmt.Errorf("give the whole path of the socket")
		}
		return nil
	}
	if _, _, err := net.SplitHostPort(at); err != nil {
		return fmt.Errorf("write HOST:PORT or unix:FILE")
	}
	return nil
}

// Trusted are the networks of the proxies in front.
func (s Serve) Trusted() (out []netip.Prefix, err error) {
	for _, p := range s.Proxies {
		n, err := netip.ParsePrefix(p)
		if a, single := netip.ParseAddr(p); single == nil {
			n, err = a.Prefix(a.BitLen())
		}
		if err != nil {
			return nil, fmt.Errorf("serve.proxies: %q is no address and no network", p)
		}
		out = append(out, n)
	}
	return out, nil
}

// Own are the addresses on which the server listens, as far as they are addresses.
func (s Serve) Own() (out []netip.AddrPort) {
	for _, at := range []string{s.Public, s.Desk, s.Health, s.Machines} {
		host, port, err := net.SplitHostPort(at)
		if err != nil {
			continue
		}
		if host == "" {
			host = "::"
		}
		if host == "localhost" {
			host = "127.0.0.1"
		}
		if a, err := netip.ParseAddrPort(net.JoinHostPort(host, port)); err == nil {
			out = append(out, a)
		}
	}
	return out
}

// Life is how long OCSP answers are fresh.
func (s Serve) Life() time.Duration {
	d, err := time.ParseDuration(s.AnswerLife)
	if err != nil {
		return time.Hour // Check has refused such settings
	}
	return d
}

// Where is how colleagues reach the desk.
func (s Serve) Where() string {
	if s.Address != "" {
		return strings.TrimSuffix(s.Address, "/")
	}
	_, port, err := net.SplitHostPort(s.Desk)
	host := "localhost"
	if len(s.Names) > 0 {
		host = s.Names[0]
	}
	if err != nil || port == "443" {
		return "https://" + host
	}
	return "https://" + net.JoinHostPort(host, port)
}
