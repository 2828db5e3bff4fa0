// Package demo plays the Tern Bay Ferries scenario: a ferry company, all made
// up, that sets up its certificate authority from nothing.
//
// The scenario is a list of scenes. Each scene says something and types
// commands, which run exactly as if a person had typed them. It ends with a live
// proof, and leaves an estate behind with which the reader can continue.
package demo

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/probe"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/request"
	"ironseal/pki/san"
	"ironseal/pki/span"
)

// Stage is where the scenario is played.
type Stage struct {
	Dir      string // a missing or empty directory
	FullKeys bool   // the keys that a real authority would have
	Type     func(line string, args []string) error
	// Catch is Type for a command whose output is needed further on.
	Catch func(line string, args []string) (string, error)
	// Serve types a command that runs on until it is stopped, and returns once it has begun.
	Serve   func(line string) (stop func(), err error)
	Narrate func(text string)
	Answer  func(good bool, text string)
}

// Play plays the scenario. The process's working directory is moved into the
// estate, as the commands that it types expect.
func Play(ctx context.Context, s Stage) error {
	if err := s.setUp(); err != nil {
		return err
	}
	if err := s.play(s.scenes()); err != nil {
		return err
	}
	return s.liveProof(ctx)
}

func (s Stage) play(scenes []scene) error {
	for _, scene := range scenes {
		if scene.say != "" {
			s.Narrate(scene.say)
		}
		for _, line := range scene.typed {
			if err := s.Type("ironseal "+line, Split(line)); err != nil && !scene.mayFail {
				return fmt.Errorf("demo: %s: %w", line, err)
			}
		}
		if scene.then != nil {
			if err := scene.then(); err != nil {
				return err
			}
		}
	}
	return nil
}

type scene struct {
	say     string
	typed   []string
	mayFail bool // the command is meant to answer no
	then    func() error
}

// PassphraseFile is where the demo keeps the passphrase of its authorities.
const PassphraseFile = "../passphrase.txt"

func (s Stage) scenes() []scene {
	keys := " --key ecdsa-p384"
	note := "The keys are quick ones here, to save time; --full-keys makes rsa-4096,\nas a real authority " +
		"would have."
	if s.FullKeys {
		keys, note = "", "Keys of kind rsa-4096 take a few seconds each."
	}
	return []scene{
		{say: "Tern Bay Ferries sets up its own certificate authority.\nFirst the estate: the directory that holds " +
			"settings, templates, keys and records.",
			typed: []string{`estate create harbour --organisation "Tern Bay Ferries" --country NO ` +
				`--publish-at http://pki.ternbay.example`},
			then: func() error { return os.Chdir("harbour") }},
		{say: "From here on we stand in harbour/. The passphrase is in " + PassphraseFile +
			"\n(IRONSEAL_PASSPHRASE_FILE names it), so no command asks for it.\n\nThe root: the anchor that every " +
			"machine will trust.\n" + note,
			typed: []string{"authority create root --yes" + keys}},
		{say: "Below it an authority for everyday work, so that the root can stay locked away.",
			typed: []string{"authority create services --under root --yes" + keys, "authority tree"}},
		{say: "The booking site cannot make a request itself, so we draft one and sign it.",
			typed: []string{"request draft booking.ternbay.example www.booking.ternbay.example --out ../drafts",
				"request receive ../drafts/booking.ternbay.example.request.pem",
				"sign R1 --template web-server --yes"}},
		{say: "The mail team sent theirs inside a quoted mail, in Windows line ends. It is read\nall the same. They " +
			"forgot one name; we add it at signing.",
			typed: []string{`request receive ../inbox/mail.txt --from "harbour mail team"`,
				"sign R2 --template web-server --add-name imap.ternbay.example --yes"}},
		{say: "A quay gate controller knows only its common name. People reach it by address too.",
			typed: []string{"request receive ../inbox/quay-gate-3.der",
				"sign R3 --template web-server --add-name 192.0.2.43 --yes"}},
		{say: "The gateway on the ship Sandpiper is server to some peers and client to others.\nWhich templates fit?",
			typed: []string{"request receive ../inbox/sandpiper.pem", "sign R4"}, mayFail: true},
		{say: "It needs both usages.", typed: []string{"sign R4 --template mutual-peer --yes"}},
		{say: "Hand out: the chain for the booking site, and the root for everyone.",
			typed: []string{"certificate export booking.ternbay.example --with issuers --out ../handed-out/",
				"authority export root --out ../handed-out/root.pem"}},
		{say: "Would a client accept it? By the right name, then by a short one.",
			typed: []string{"verify ../handed-out/booking.ternbay.example.with-issuers.pem --name " +
				"booking.ternbay.example --anchor ../handed-out/root.pem",
				"verify ../handed-out/booking.ternbay.example.with-issuers.pem --name booking --anchor " +
					"../handed-out/root.pem"}, mayFail: true},
		{say: "One more request came in; it waits for you.",
			typed: []string{"request receive ../inbox/pier.pem", "journal verify", "estate status"}},
	}
}

// Split cuts a command line at blanks, keeping what is in quotes together.
func Split(line string) []string {
	var out []string
	var b strings.Builder
	quoted, any := false, false // an argument in quotes may be empty
	for _, r := range line + " " {
		switch {
		case r == '"':
			quoted, any = !quoted, true
		case r == ' ' && !quoted:
			if b.Len() > 0 || any {
				out = append(out, b.String())
				b.Reset()
				any = false
			}
		default:
			b.WriteRune(r)
		}
	}
	return out
}

// FreeDir is the directory the demo plays in when none is given.
func FreeDir() string {
	for n := 1; ; n++ {
		dir := "ternbay"
		if n > 1 {
			dir = fmt.Sprintf("ternbay-%d", n)
		}
		if _, err := os.Lstat(dir); errors.Is(err, os.ErrNotExist) {
			return dir
		}
	}
}

// setUp makes the directory and what others have sent.
func (s Stage) setUp() error {
	if entries, err := os.ReadDir(s.Dir); err == nil && len(entries) > 0 {
		return fmt.Errorf("demo: %s is not empty: give another directory", s.Dir)
	}
	if err := os.MkdirAll(filepath.Join(s.Dir, "inbox"), 0o755); err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	if err := os.Chdir(s.Dir); err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	secret := make([]byte, 15)
	if _, err := rand.Read(secret); err != nil {
		return err
	}
	d := disk.Disk{}
	if err := d.New("passphrase.txt", []byte(base64.RawURLEncoding.EncodeToString(secret)+"\n"), 0o600); err != nil {
		return err
	}
	if err := s.inbox(d); err != nil {
		return err
	}
	return partner(d)
}

// inbox makes the requests that other people's devices sent.
func (s Stage) inbox(d disk.Disk) error {
	mail, err := made(key.RSA2048, "mail.ternbay.example", "mail.ternbay.example", "smtp.ternbay.example")
	if err != nil {
		return err
	}
	gate, err := made(key.P256, "quay-gate-3.ternbay.example")
	if err != nil {
		return err
	}
	ship, err := made(key.P256, "gw.sandpiper.ternbay.example", "gw.sandpiper.ternbay.example")
	if err != nil {
		return err
	}
	pier, err := made(key.P256, "pier", "pier")
	if err != nil {
		return err
	}
	letter := "From: harbour mail team\nSubject: Fwd: the new mail host\n\nHere is the request again, please sign " +
		"it.\n\n> Hello,\n>\n> " +
		strings.ReplaceAll(strings.TrimSpace(string(bundle.PEM(bundle.Request, mail))), "\n", "\n> ") +
		"\n>\n> Regards\n"
	for _, f := range []struct {
		name string
		data []byte
	}{
		{"mail.txt", []byte(strings.ReplaceAll(letter, "\n", "\r\n"))},
		{"quay-gate-3.der", gate},
		{"sandpiper.pem", bundle.PEM(bundle.Request, ship)},
		{"pier.pem", bundle.PEM(bundle.Request, pier)},
	} {
		if err := d.New(filepath.Join("inbox", f.name), f.data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// made makes a request of a device; its key is thrown away.
func made(kind key.Kind, commonName string, names ...string) ([]byte, error) {
	signer, err := key.Generate(kind, rand.Reader)
	if err != nil {
		return nil, err
	}
	subject, err := dn.New(dn.Pair{Type: "O", Value: "Tern Bay Ferries"}, dn.Pair{Type: "CN", Value: commonName})
	if err != nil {
		return nil, err
	}
	var list []san.Name
	for _, n := range names {
		name, err := san.ParseTyped(n)
		if err != nil {
			return nil, err
		}
		list = append(list, name)
	}
	var set ext.Set
	if len(list) > 0 {
		e, err := ext.NamesExtension(list, false)
		if err != nil {
			return nil, err
		}
		set = ext.Set{e}
	}
	return request.Draft(subject, set, signer, rand.Reader)
}

// liveProof starts a TLS server with what was handed out, and connects to it as
// a client that trusts the root alone.
func (s Stage) liveProof(ctx context.Context) error {
	s.Narrate("A live proof. A TLS server in this process presents the chain that was\nhanded out; a client that " +
		"trusts only the exported root connects to it.")
	pair, err := tls.LoadX509KeyPair("../handed-out/booking.ternbay.example.with-issuers.pem",
		"../drafts/booking.ternbay.example.key.pem")
	if err != nil {
		return fmt.Errorf("demo: the server does not take its files: %w", err)
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	defer listener.Close()
	go serve(listener, pair)
	data, err := disk.Read("../handed-out/root.pem", 1<<20)
	if err != nil {
		return err
	}
	found, err := bundle.Read(data)
	if err != nil {
		return err
	}
	root, err := cert.Read(found.Objects[0].DER)
	if err != nil {
		return err
	}
	for _, try := range []struct {
		name string
		want bool
	}{{"booking.ternbay.example", true}, {"tickets.ternbay.example", false}} {
		r, err := probe.Connect(ctx, listener.Addr().String(), try.name, []*cert.Certificate{root}, time.Now())
		if err != nil {
			return fmt.Errorf("demo: %w", err)
		}
		if r.Trusted != try.want || r.Verdict.Valid != try.want {
			return fmt.Errorf("demo: the live proof failed for %s: trusted %v, our verdict %v: %w", try.name, r.Trusted,
				r.Verdict.Valid, r.Refusal)
		}
		if r.Trusted {
			s.Answer(true, fmt.Sprintf("as %s: trusted, %s, %s presented", try.name, r.Protocol,
				span.Count(len(r.Presented), "certificate")))
		} else {
			s.Answer(false, fmt.Sprintf("as %s: refused: %s", try.name, r.Verdict.Reasons()[0].Message))
		}
	}
	return nil
}

func serve(l net.Listener, pair tls.Certificate) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		conn := tls.Server(c, &tls.Config{Certificates: []tls.Certificate{pair}})
		_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
		_ = conn.Handshake() // the client's side of it is what is judged
		conn.Close()
	}
}
