// Package request has the commands that draft requests, take them in and put them aside.
package request

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/internal/probe"
	"ironseal/internal/store"
	"ironseal/internal/term"
	"ironseal/pki/describe"
	"ironseal/pki/lifecycle"
	"ironseal/pki/span"
)

// Command is ironseal request.
func Command(s *session.Session) *cobra.Command {
	return session.Group("request", "Signing requests: draft, receive and show them",
		requestDraft(s), requestReceive(s), session.Reading(requestList(s)), session.Reading(requestShow(s)),
		requestDecline(s), requestPassphrase(s),
		requestWithdraw(s))
}

const aboutDraft = `Make a key and a signing request for a host that cannot do it itself. The files are named for the
first name. Only the owner can read the key file; with --encrypt it is encrypted under a
passphrase as well.

Names are recognised by their form (a host, an address, a mail address), or typed with their
kind: dns: ip: email: uri: upn:`

func requestDraft(s *session.Session) *cobra.Command {
	var kind, subject, dir, usages, encryptWith, manifest, party string
	var encrypt bool
	c := &cobra.Command{
		Use:   "draft NAME...",
		Short: "Make a key and a request for a server",
		Long:  aboutDraft,
		Example: `  ironseal request draft pier.ternbay.example www.pier.ternbay.example
  ironseal request draft --subject "CN=Ferry Timetable,O=Tern Bay Ferries" --template code-signing --out ../drafts
  ironseal request draft camera-2.ternbay.example 192.0.2.52 --key rsa-2048 --out ../drafts`,
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if args, usages, err = ofParty(s, cmd, party, args, usages); err != nil {
				return err
			}
			ask := intake.DraftAsk{Dir: s.Path(dir), Template: usages}
			if err := draftModes(cmd, args, manifest, encrypt && encryptWith != ""); err != nil {
				return err
			}
			if ask.Names, err = session.TypedNames(args); err != nil {
				return err
			}
			if ask.Key, err = session.KindAsked(kind); err != nil {
				return err
			}
			if ask.Subject, err = session.SubjectAsked(subject); err != nil {
				return err
			}
			s.Tidy(ask.Dir)
			encrypted := encrypt || encryptWith != ""
			if len(args) == 0 && manifest == "" && ask.Subject == nil {
				err = draftAsking(s, cmd, &ask, encrypted)
			}
			if err != nil {
				return err
			}
			if ask.Secret, err = draftSecret(s, cmd, encrypted, encryptWith); err != nil {
				return err
			}
			defer clear(ask.Secret)
			if manifest != "" {
				return draftManifest(s, cmd, ask, manifest)
			}
			return draft(s, cmd, ask)
		},
	}
	fl := c.Flags()
	fl.StringVar(&kind, "key", "", "key `KIND`; the estate's default when left out")
	fl.StringVar(&subject, "subject", "", "the whole subject; built from the estate and the first name when left out")
	fl.StringVar(&usages, "template", "", "ask for the usages of this template")
	fl.StringVar(&dir, "out", ".", "the `DIR` to write to")
	s.CompleteTemplates(c, "template")
	fl.StringVar(&manifest, "manifest", "", "draft for every row of a CSV `FILE` (host, names), and take them in")
	s.PartyFlag(c, &party, "the `PARTY` that it is for: the names of its endpoints and its template, where none are "+
		"given")
	fl.BoolVar(&encrypt, "encrypt", false, "encrypt the key under a passphrase")
	fl.StringVar(&encryptWith, "encrypt-with", "", "encrypt the key under the passphrase in this `FILE`")
	session.CompleteWords(c, "key", session.KindWords()...)
	return c
}

// ofParty takes from a party the names and the template that were not given.
func ofParty(s *session.Session, cmd *cobra.Command, name string, names []string, template string) ([]string, string,
	error) {
	if name == "" {
		return names, template, nil
	}
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return nil, "", err
	}
	p, err := parties.Find(cmd.Context(), e, name)
	if err != nil {
		return nil, "", err
	}
	if len(names) == 0 {
		if names = parties.Names(p); len(names) == 0 {
			return nil, "", fmt.Errorf("party %s has no endpoint on record: name the host", name)
		}
	}
	return names, cmp.Or(template, p.Template), nil
}

// draftModes refuses options that do not go together.
func draftModes(cmd *cobra.Command, args []string, manifest string, encryptedTwice bool) error {
	if manifest != "" {
		if len(args) > 0 {
			return session.Misused("request draft: name hosts, or use --manifest: one of the two")
		}
		if err := session.OnlyFlags(cmd, "with --manifest, where each row has a subject of its own",
			"manifest", "key", "template", "out", "encrypt", "encrypt-with"); err != nil {
			return err
		}
	}
	if encryptedTwice {
		return session.Misused("--encrypt asks for the passphrase, and --encrypt-with takes it from a file: use " +
			"one of the " +
			"two")
	}
	return nil
}

func draftSecret(s *session.Session, cmd *cobra.Command, encrypted bool, file string) ([]byte, error) {
	if !encrypted {
		return nil, nil
	}
	if file != "" {
		return keystore.ReadPassphraseFile(s.Path(file))
	}
	secret, _, err := (*session.Passphrases)(s).Choose(cmd.Context(), "the new key")
	return secret, err
}

func draft(s *session.Session, cmd *cobra.Command, ask intake.DraftAsk) error {
	e, err := s.Estate(cmd.Context())
	if errors.Is(err, estate.ErrNone) && s.EstateDir == "" && s.Env("IRONSEAL_ESTATE") == "" {
		e, err = nil, nil // a draft needs no estate
	}
	if err != nil {
		return err
	}
	d, err := intake.Draft(cmd.Context(), s.EstateEnv(), e, ask)
	if err != nil {
		return err
	}
	o := describe.Request(d.Request)
	o.Add("request_file", "Request file", d.RequestFile)
	o.Add("key_file", "Key file", d.KeyFile)
	if s.JSON {
		return s.PrintJSON(o)
	}
	s.Out.Describe(o, false)
	if d.Loose {
		s.Out.Wrapped(2, term.Careful, "! The file system there knows no permissions: everybody who can read it has "+
			"the key file. Move it to another, or seal it with --encrypt.")
	} else if !d.Encrypted {
		s.Out.Wrapped(2, term.Quiet, "The key file is not encrypted: anyone who reads it has the key. Only its owner "+
			"can read it. --encrypt encrypts it.")
	}
	s.Next(session.Hint{Why: "receive it where it is signed",
		Command: "ironseal request receive " + s.Shell.Word(d.RequestFile)})
	return nil
}

func requestReceive(s *session.Session) *cobra.Command {
	var from string
	c := &cobra.Command{
		Use:   "receive FILE|DIR|-...",
		Short: "Receive requests, from files or a paste",
		Long: `Receive signing requests from files, from every file of a directory, or pasted on standard input
(-). It understands PEM and DER, mail around it, quoting, blank lines, missing BEGIN and END
lines, UTF-16 and invisible characters. A request that cannot be parsed, or whose signature is
wrong, is reported and not recorded.`,
		Example: `  ironseal request receive ../inbox/mail.txt --from "harbour mail team"
  ironseal request receive ../inbox
  ironseal request receive - < ../inbox/mail.txt`,
		Args: session.AtLeast(1, "a file, a directory or -"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if slices.Contains(args, "-") && s.StdinIsTerminal() {
				s.Errs.Say("Paste the request, then end with %s on a line of its own.", term.EndOfInput)
			}
			return receiveAll(cmd.Context(), s, e, args, from)
		},
	}
	c.Flags().StringVar(&from, "from", "", "`WHO` sent it")
	return c
}

func requestList(s *session.Session) *cobra.Command {
	var state string
	c := &cobra.Command{
		Use:     "list",
		Short:   "List the requests that wait; with --state, others too",
		Example: "  ironseal request list\n  ironseal request list --state any\n  ironseal request list --quiet",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if err := session.OneOf("state", state, requestStates...); err != nil {
				return err
			}
			want := lifecycle.RequestState(state)
			if want == "any" {
				want = lifecycle.AnyRequest
			}
			known, err := fleet.Enrolments(cmd.Context(), e.Records)
			if err != nil {
				return err
			}
			defer s.Out.InBlocks()()
			list := requestLister(s, known)
			if err := e.Records.EachRequest(cmd.Context(), want, list.row); err != nil {
				return err
			}
			return list.end(state)
		},
	}
	s.QuietFlag(c, "print numbers only")
	c.Flags().StringVar(&state, "state", string(lifecycle.Waiting),
		"only those in this `STATE`: "+strings.Join(requestStates, ", "))
	session.CompleteWords(c, "state", requestStates...)
	return c
}

// requestStates are the words that request list takes.
var requestStates = append(lifecycle.RequestStateWords(), "any")

// lister prints requests as they come, in whichever form was asked for.
type lister struct {
	s     *session.Session
	known fleet.Fleet
	json  *session.List
	table *term.Rolling
	any   bool
	err   error // the first that printing met
}

func requestLister(s *session.Session, known fleet.Fleet) *lister {
	l := &lister{s: s, known: known}
	switch {
	case s.JSON:
		l.json = s.NewList()
	case !s.Quiet:
		head := []string{"", "state", "for", "by", "from", "came", "check code"}
		if len(known) == 0 {
			head = slices.Delete(head, 3, 4)
		}
		l.table = s.Out.Rolling(head, "came", "from", "check code")
	}
	return l
}

func (l *lister) row(r store.Request) {
	l.any = true
	row := api.RequestOf(r)
	row.By = l.known[row.Name].By
	switch {
	case l.err != nil:
	case l.json != nil:
		l.err = l.json.Add(row)
	case l.table == nil:
		l.err = l.s.Out.Raw([]byte(row.Name + "\n"))
	default:
		cells := []term.Cell{{Text: row.Name, Tone: term.Strong}, {Text: string(row.State)}, {Text: row.Title},
			{Text: row.By}, {Text: row.From}, {Text: span.Distance(l.s.Moment(), r.Received)},
			{Text: row.CheckCode, Tone: term.Accent}}
		if len(l.known) == 0 {
			cells = slices.Delete(cells, 3, 4)
		}
		l.table.Row(cells)
	}
}

func (l *lister) end(state string) error {
	switch {
	case l.err != nil:
		return l.err
	case l.json != nil:
		return l.json.End()
	case l.table == nil:
	case !l.any:
		l.s.Out.Say("There are no requests in the state %q.", state)
	default:
		l.table.End()
	}
	return nil
}

func requestShow(s *session.Session) *cobra.Command {
	var all, resolve bool
	var field string
	c := &cobra.Command{
		Use:   "show REQUEST",
		Short: "Show one request",
		Example: `  ironseal request show R1
  ironseal request show R1 --all
  ironseal request show R1 --field check_code`,
		Args: session.Exactly(1, "a request, such as R1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			rec, r, err := e.Request(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			told, err := signing.HandedIn(cmd.Context(), e.Records, rec)
			if err != nil {
				return err
			}
			o := describeRecord(rec, r, told)
			if err := addMachine(cmd.Context(), e, rec, &o); err != nil {
				return err
			}
			related, err := intake.Related(cmd.Context(), e, r)
			if err != nil {
				return err
			}
			if rec.State == lifecycle.Waiting { // once signed, it is related to its own certificate
				o.Findings = append(o.Findings, related...)
			}
			if resolve {
				o.Findings = append(o.Findings, probe.Unresolved(cmd.Context(), r.Names)...)
			}
			if err := s.PrintObject(o, all, field); err != nil {
				return err
			}
			if !s.JSON && field == "" && rec.State == lifecycle.Waiting {
				s.Out.Gap()
				s.Out.Wrapped(2, term.Quiet, "Ask the sender to read out the check code; without this tool, the "+
					"paste tail: the first and last eight characters between the BEGIN and END lines.")
				s.Next(session.Hint{Why: "sign it", Command: fmt.Sprintf("ironseal sign R%d", rec.Number)})
			}
			return nil
		},
		ValidArgsFunction: s.Requests,
	}
	s.ShowFlags(c, &all, &field)
	c.Flags().BoolVar(&resolve, "resolve", false, "look the names up, and say which do not resolve from here")
	return c
}

func requestDecline(s *session.Session) *cobra.Command {
	return decideCommand(s, "decline", lifecycle.Declined, "Decline a request",
		`  ironseal request decline R5 --because "the host was taken out of service"`)
}

func requestWithdraw(s *session.Session) *cobra.Command {
	return decideCommand(s, "withdraw", lifecycle.Withdrawn, "Withdraw a request that should not have been made",
		`  ironseal request withdraw R5 --because "drafted for the wrong host"`)
}

func decideCommand(s *session.Session, verb string, state lifecycle.RequestState, short,
	example string) *cobra.Command {
	var because string
	var keep bool
	c := &cobra.Command{
		Use:     verb + " REQUEST",
		Short:   short,
		Example: example,
		Args:    session.Exactly(1, "a request, such as R1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.TrimSpace(because) == "" {
				return session.Misused("request %s: say why: --because TEXT", verb)
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			d, err := intake.Decide(cmd.Context(), e, args[0], state, because, keep)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(api.RequestOf(d.Record))
			}
			s.Out.Say("%s R%d, %s: %s   %s", s.Out.Paint(term.Good, "✓ "+string(state)), d.Record.Number,
				term.Safe(d.Record.Title), term.Safe(because), s.Out.Paint(term.Quiet, "journal "+d.Head.String()))
			if d.Destroyed != "" {
				s.Out.Say("  the key of the draft was destroyed: %s", term.Safe(d.Destroyed))
			}
			if d.Kept != "" {
				s.Out.Say("  %s", s.Out.Paint(term.Careful,
					"! the key of the draft was not destroyed: "+term.Safe(d.Kept)))
			}
			return nil
		},
		ValidArgsFunction: s.Requests,
	}
	c.Flags().StringVar(&because, "because", "", "why")
	if state == lifecycle.Withdrawn {
		c.Flags().BoolVar(&keep, "keep-key", false, "keep the key file of a draft of ours; it is destroyed otherwise")
	}
	return c
}
