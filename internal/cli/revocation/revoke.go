// Package revocation has the commands that take certificates back and tell the world.
package revocation

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/cli/session"
	"ironseal/internal/disk"
	"ironseal/internal/event"
	"ironseal/internal/term"
	"ironseal/pki/cert"
	"ironseal/pki/revocation"
	"ironseal/pki/runes"
	"ironseal/pki/span"
)

// aboutRevoke is the help text.
func aboutRevoke() string {
	return `Revoke certificates before they end. Name a certificate by its serial or the beginning of it, its
request, its name, an authority's handle, its fingerprint, or a file that holds it. --party
revokes all that a party holds.

If it is an authority's, everything below becomes invalid as well. The sheet shows what that is
and who holds it, in the order in which to replace it.

Clients learn of it from the next list: ironseal revocations publish. Revocation is final, except
for reason hold: ironseal unhold.

` + revocation.Advice() + `
FILE of --file: one certificate a line, with remarks after #.`
}

// Revoke is ironseal revoke.
func Revoke(s *session.Session) *cobra.Command {
	var reason, since, file string
	var waive []string
	var all, replaced bool
	var ask revoking.Ask
	c := &cobra.Command{
		Use:   "revoke CERTIFICATE...",
		Short: "Revoke certificates",
		Long:  aboutRevoke(),
		Example: `  ironseal revoke booking.ternbay.example --reason superseded --because "moved to the new host"
  ironseal revoke services --reason ca-compromise --since 2026-11-20 --because "the safe was open"
  ironseal revoke mail.ternbay.example --reason hold --because "the machine is missing"
  ironseal revoke --replaced`,
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if replaced {
				if err := session.OnlyFlags(cmd, "with --replaced", "replaced", "because", "all"); err != nil {
					return err
				}
				return revokeReplaced(cmd.Context(), s, ask, all)
			}
			if ask.Names, err = namesIn(s, args, file); err != nil {
				return err
			}
			if err := asked(&ask, reason, since); err != nil {
				return err
			}
			if len(waive) > 0 { // --because tells why it is revoked, too
				if ask.Waivers, err = session.Waivers(waive, ask.Because); err != nil {
					return err
				}
			}
			return revoke(cmd.Context(), s, ask, all)
		},
		ValidArgsFunction: s.Certificates,
	}
	fl := c.Flags()
	fl.StringVar(&reason, "reason", "", "why, in a `WORD`: "+strings.Join(revocation.ReasonWords(), ", "))
	fl.StringVar(&since, "since", "", "since when it is to be taken as bad, where that is known: a `TIME`")
	fl.StringVar(&file, "file", "", "a `FILE` that names certificates, one a line")
	fl.StringArrayVar(&ask.Parties, "party", nil, "all that this `PARTY` holds; may be repeated")
	fl.BoolVar(&replaced, "replaced", false,
		"those that certificate renew --revoke-when-replaced noted, and whose successors are in use")
	fl.BoolVar(&all, "all", false, "show all that falls with it, however much")
	s.WaiverFlags(c, &waive, &ask.Because)
	fl.Lookup("because").Usage = "why, in words; also for what is waived"
	session.CompleteWords(c, "reason", revocation.ReasonWords()...)
	session.Register(c, "party", s.Parties)
	return c
}

// revokeReplaced takes back what was to be revoked once its successor is in use.
func revokeReplaced(ctx context.Context, s *session.Session, ask revoking.Ask, all bool) error {
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	list, err := revoking.Scheduled(ctx, e)
	if err != nil {
		return err
	}
	for _, l := range list {
		if l.Waits == "" {
			ask.Names = append(ask.Names, l.Serial)
		} else if !s.JSON {
			s.Out.Say("%s %s, serial %s: %s", s.Out.Paint(term.Quiet, "· waits"), term.Safe(l.Title),
				cert.ShortSerial(l.Serial),
				term.Safe(waits(s, l)))
		}
	}
	if len(ask.Names) == 0 {
		if s.JSON {
			return s.PrintJSON(map[string]any{"certificates": []string{}, "waiting": api.LaterOf(list, s.Speller())})
		}
		s.Out.Say("%s Nothing is to be revoked now.", s.Out.Paint(term.Good, "✓"))
		return nil
	}
	if ask.Reason = revocation.Superseded; ask.Because == "" {
		ask.Because = "its successor is in use"
	}
	return revoke(ctx, s, ask, all)
}

// mostLines is how many certificates a file of --file may name.
const mostLines = 100_000

// namesIn are the certificates that were typed, and those that a file names.
func namesIn(s *session.Session, args []string, file string) ([]string, error) {
	if file == "" {
		return args, nil
	}
	data, err := disk.Read(s.Path(file), 16<<20)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(data)) {
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); line != "" {
			args = append(args, line)
		}
		if len(args) > mostLines {
			return nil, fmt.Errorf("%s: more than %d certificates", file, mostLines)
		}
	}
	if len(args) == 0 {
		return nil, fmt.Errorf("%s: it names no certificate", file)
	}
	return args, nil
}

func asked(ask *revoking.Ask, reason, since string) (err error) {
	if len(ask.Names)+len(ask.Parties) == 0 {
		return session.Misused("revoke needs a certificate, or --party or --file")
	}
	if reason == "" {
		return session.Misused("revoke needs a reason: --reason WORD; ironseal revoke --help tells when each fits: %s",
			strings.Join(revocation.ReasonWords(), ", "))
	}
	if ask.Reason, err = revocation.ParseReason(reason); err != nil {
		return &session.Status{Code: session.Usage, Err: err}
	}
	if since != "" {
		if ask.Since, err = session.ParseTime(since); err != nil {
			return &session.Status{Code: session.Usage, Err: fmt.Errorf("--since %w", err)}
		}
	}
	return nil
}

func revoke(ctx context.Context, s *session.Session, ask revoking.Ask, all bool) error {
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	p, err := revoking.PlanRevoke(ctx, e, ask)
	if err != nil {
		return err
	}
	if !s.JSON {
		drawRevoke(s, p, all)
	}
	about := p.About()
	if r := p.Findings.Refusing(); len(r) > 0 {
		return session.Refusal(runes.Escape(about), "nothing was revoked", r)
	}
	question := "Revoke " + about + "?"
	if n := len(p.Dependents); n > 0 {
		question = fmt.Sprintf("Revoke %s, and make %s below it invalid?", about, span.Count(n, "certificate"))
	}
	if err := s.AgreeTo(ctx, e, session.Agreement{Act: event.Revoked{}, Need: p.Needs(e), Digest: p.Digest(),
		Title: "revoke " + about, Question: term.Safe(question)}); err != nil {
		return err
	}
	head, err := revoking.Revoke(ctx, e, p)
	if err != nil {
		return err
	}
	if s.JSON {
		return s.PrintJSON(api.RevokedOf(p, head.String(), s.Speller()))
	}
	word := "✓ revoked"
	if ask.Reason == revocation.CertificateHold {
		word = "✓ on hold"
	}
	s.Out.Gap()
	s.Out.Say("%s %s: %s   %s", s.Out.Paint(term.Good, word), term.Safe(about), ask.Reason.Word(),
		s.Out.Paint(term.Quiet, "journal "+head.String()))
	next := []session.Hint{{Why: "clients learn of it from the next list",
		Command: "ironseal revocations publish --to DIR"}}
	if ask.Reason == revocation.CertificateHold {
		next = append(next, session.Hint{Why: "when it turned up", Command: "ironseal unhold " +
			p.Targets[0].Serial.Short()})
	}
	s.Next(next...)
	return nil
}

// mostShown is how many rows a sheet shows unless it is asked for all.
const mostShown = 15

func drawRevoke(s *session.Session, p revoking.Plan, all bool) {
	s.Out.Say("%s", s.Out.Paint(term.Strong, "To be revoked"))
	var rows [][]term.Cell
	for i, t := range p.Targets {
		if i == mostShown && !all {
			break
		}
		kind := t.Record.Template
		if t.Generation != nil {
			kind = "authority " + t.Generation.Name()
		}
		rows = append(rows, []term.Cell{{Text: t.Title(), Tone: term.Strong}, {Text: t.Serial.Short()}, {Text: kind},
			{Text: "by " + t.By.Label()}, {Text: "until " + t.NotAfter.Format("2006-01-02"), Tone: term.Quiet}})
	}
	s.Out.Table([]string{"", "", "", "", ""}, rows)
	more(s, len(p.Targets), len(rows), "certificate")
	s.Out.Say("  reason       %s", p.Ask.Reason.Word())
	if !p.Ask.Since.IsZero() {
		s.Out.Say("  bad since    %s, %s", p.Ask.Since.Format("2006-01-02 15:04 UTC"), span.Distance(s.Moment(),
			p.Ask.Since))
	}
	if p.Ask.Because != "" {
		s.Out.Say("  because      %s", term.Safe(p.Ask.Because))
	}
	if len(p.Parties) > 0 {
		s.Out.Hung("  held by     ", term.Normal, term.Safe(strings.Join(p.Parties, ", ")))
	}
	drawDependents(s, p.Dependents, all)
	s.Out.Findings(p.Findings)
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Quiet, "  journal head "+p.Head.String()))
}

func more(s *session.Session, all, shown int, what string) {
	if all > shown {
		s.Out.Say("  %s", s.Out.Paint(term.Quiet, fmt.Sprintf("and %s more: --all", span.Count(all-shown, what))))
	}
}

// drawDependents shows what becomes invalid, in the order in which to replace it.
func drawDependents(s *session.Session, list []revoking.Dependent, all bool) {
	if len(list) == 0 {
		return
	}
	authorities := 0
	for _, f := range list {
		if f.Authority {
			authorities++
		}
	}
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Strong, fmt.Sprintf("Becomes invalid with it, in the order in which to replace "+
		"it: %s, %s",
		span.Count(authorities, "authority"), span.Count(len(list)-authorities, "certificate"))))
	var rows [][]term.Cell
	for i, f := range list {
		if i == mostShown && !all {
			break
		}
		kind := f.Record.Template
		if f.Authority {
			kind = "authority"
		}
		rows = append(rows, []term.Cell{{Text: fmt.Sprint(i + 1), Tone: term.Quiet}, {Text: f.Title(),
			Tone: term.Strong},
			{Text: f.Serial.Short()}, {Text: kind}, {Text: f.Under}, {Text: f.NotAfter.Format("2006-01-02"),
				Tone: term.Quiet},
			{Text: strings.Join(f.Holders, ", ")}})
	}
	s.Out.Table([]string{"", "", "serial", "", "signed by", "until", "held by"}, rows, "held by", "until", "serial")
	more(s, len(list), len(rows), "certificate")
}

// Unhold is ironseal unhold.
func Unhold(s *session.Session) *cobra.Command {
	var because string
	c := &cobra.Command{
		Use:   "unhold CERTIFICATE...",
		Short: "Take certificates off hold",
		Long: `Release certificates from hold. They are valid again, and the next revocation lists leave them out. A
certificate that was revoked for another reason stays revoked.`,
		Example: `  ironseal unhold mail.ternbay.example --because "it was found"`,
		Args:    session.AtLeast(1, "a certificate"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.TrimSpace(because) == "" {
				return session.Misused("unhold: say why: --because TEXT")
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			list, head, err := revoking.Release(cmd.Context(), e, args, because)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(api.OffHoldOf(list, head.String()))
			}
			for _, t := range list {
				s.Out.Say("%s %s, serial %s (was on hold since %s)", s.Out.Paint(term.Good, "✓ off hold"),
					term.Safe(t.Title()),
					t.Serial.Short(), t.Was.At.Format("2006-01-02"))
			}
			s.Next(session.Hint{Why: "clients learn of it from the next list",
				Command: "ironseal revocations publish --to DIR"})
			return nil
		},
		ValidArgsFunction: s.Certificates,
	}
	c.Flags().StringVar(&because, "because", "", "why")
	return c
}

// waits says what a revocation waits for, and how to find out.
func waits(s *session.Session, l revoking.Later) string {
	if command := s.Speller().Command(l.Next); command != "" {
		return l.Waits + ": " + command
	}
	return l.Waits
}
