// Package incident has the commands that lead through the loss of a key.
package incident

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/revoke/incidents"
	"ironseal/internal/cli/session"
	"ironseal/internal/cli/sign"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

// Command is ironseal incident.
func Command(s *session.Session) *cobra.Command {
	return session.Group("incident", "Deal with a lost or stolen key, step by step",
		open(s), session.Reading(show(s)), session.Reading(list(s)), replace(s), closing(s))
}

const aboutOpen = `Open an incident: someone else has, or may have, the key of an authority or of a certificate.
From then on the authority grants nothing, and nothing is signed for the key. It lists what
depends on the key, and who holds it. Then, in this order: sign replacements under another
key, hand them over, revoke, publish, and prove by probing that no server presents the old
certificates.

ironseal incident show says what is done and which command is next. You can change the order:
if you know that the key is lost, revoke at once.`

func open(s *session.Session) *cobra.Command {
	var because string
	c := &cobra.Command{
		Use:     "open AUTHORITY|CERTIFICATE",
		Short:   "Open an incident: a key is lost or stolen, or may be",
		Long:    aboutOpen,
		Example: `  ironseal incident open services --because "the safe was found open"`,
		Args:    session.Exactly(1, "an authority or a certificate"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if strings.TrimSpace(because) == "" {
				return session.Misused("incident open: say what is suspected: --because TEXT")
			}
			i, head, err := incidents.Open(cmd.Context(), e, args[0], because)
			if err != nil {
				return err
			}
			p, err := incidents.Of(cmd.Context(), e, i.Name)
			if err != nil {
				return err
			}
			if !s.JSON {
				s.Out.Say("%s %s about %s   %s", s.Out.Paint(term.Good, "✓ opened"), i.Name, term.Safe(i.About),
					s.Out.Paint(term.Quiet, "journal "+head.String()))
			}
			return draw(s, p)
		},
		ValidArgsFunction: s.Certificates,
	}
	c.Flags().StringVar(&because, "because", "", "what is suspected")
	return c
}

func show(s *session.Session) *cobra.Command {
	var report string
	c := &cobra.Command{
		Use:   "show INCIDENT",
		Short: "Show what is done, and the next step",
		Example: `  ironseal incident show I1
  ironseal incident show I1 --report ../incident-1.txt`,
		Args: session.Exactly(1, "an incident, such as I1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, p, err := found(cmd.Context(), s, args[0])
			if err != nil {
				return err
			}
			if report != "" {
				data, err := incidents.Report(cmd.Context(), e, p)
				if err != nil {
					return err
				}
				if err := delivery.WriteFile(e, s.Path(report), data); err != nil {
					return err
				}
			}
			if err := draw(s, p); err != nil || s.JSON || report == "" {
				return err
			}
			s.Out.Say("%s %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(s.Path(report)))
			return nil
		},
	}
	c.Flags().StringVar(&report, "report", "", "write all of it into this `FILE`, as text for the file")
	return c
}

func found(ctx context.Context, s *session.Session, name string) (*estate.Estate, incidents.Progress, error) {
	e, err := s.Estate(ctx)
	if err != nil {
		return nil, incidents.Progress{}, err
	}
	p, err := incidents.Of(ctx, e, name)
	return e, p, err
}

func list(s *session.Session) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Example: "  ironseal incident list",
		Short:   "List incidents",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			list, err := compromise.Incidents(cmd.Context(), e.Records)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(append([]compromise.Incident{}, list...))
			}
			var rows [][]term.Cell
			for _, i := range list {
				state := term.Cell{Text: "! open", Tone: term.Careful}
				if !i.Open() {
					state = term.Cell{Text: "✓ closed", Tone: term.Good}
					if i.FalseAlarm {
						state.Text = "✓ false alarm"
					}
				}
				if s.Quiet {
					s.Out.Say("%s", i.Name)
				}
				rows = append(rows, []term.Cell{{Text: i.Name, Tone: term.Strong}, state, {Text: i.About},
					{Text: i.Opened.Format("2006-01-02")}, {Text: i.Because, Prose: true}})
			}
			switch {
			case s.Quiet:
			case len(rows) == 0:
				s.Out.Say("There was no incident.")
			default:
				s.Out.Table([]string{"", "", "about", "opened", ""}, rows)
			}
			return nil
		},
	}
	s.QuietFlag(c, "print numbers only")
	return c
}

func replace(s *session.Session) *cobra.Command {
	var waive []string
	var because string
	c := &cobra.Command{
		Use:   "replace INCIDENT",
		Short: "Sign the replacements that are missing",
		Long: `Sign replacements under the newest generation of each authority, whether it is in use already or
prepared. You can repeat the command: what has a replacement is left alone.`,
		Example: `  ironseal incident replace I1`,
		Args:    session.Exactly(1, "an incident, such as I1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := session.Waivers(waive, because)
			if err != nil {
				return err
			}
			e, p, err := found(cmd.Context(), s, args[0])
			if err != nil {
				return err
			}
			list, err := incidents.Replace(cmd.Context(), e, p, w)
			if err != nil {
				return err
			}
			if len(list) == 0 {
				return s.Nothing(s.Out.Paint(term.Good, "✓") + " Everything has a replacement.")
			}
			return sign.SignPlanned(cmd.Context(), s, e, list)
		},
	}
	s.WaiverFlags(c, &waive, &because)
	return c
}

func closing(s *session.Session) *cobra.Command {
	var how incidents.Ending
	c := &cobra.Command{
		Use:   "close INCIDENT",
		Short: "Close an incident",
		Long: `An incident closes when every step is done. --unfinished closes it with steps left over.

The key stays suspected: nothing is signed for it, and an authority with this key grants nothing
any more. Only --false-alarm lets the key be used again. Say so only if you know that the key
was never lost. It has no effect on what was revoked, or while another incident about the same
key is open or was closed otherwise.`,
		Example: `  ironseal incident close I1 --because "all replaced, seen on the quay"
  ironseal incident close I1 --false-alarm --because "the key never left the safe"`,
		Args: session.Exactly(1, "an incident, such as I1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.TrimSpace(how.Because) == "" {
				return session.Misused("incident close: say how it ended: --because TEXT")
			}
			e, p, err := found(cmd.Context(), s, args[0])
			if err != nil {
				return err
			}
			head, err := incidents.Close(cmd.Context(), e, p, how)
			var left *incidents.Unfinished
			if errors.As(err, &left) {
				return &session.Status{Code: session.Refused, Err: err}
			}
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"incident": p.Name, "journal_head": head.String()})
			}
			s.Out.Say("%s %s: %s   %s", s.Out.Paint(term.Good, "✓ closed"), p.Name, term.Safe(how.Because),
				s.Out.Paint(term.Quiet, "journal "+head.String()))
			s.Next(session.Hint{Why: "a report for the file",
				Command: "ironseal incident show " + p.Name + " --report FILE"})
			return nil
		},
	}
	c.Flags().StringVar(&how.Because, "because", "", "how it ended")
	c.Flags().BoolVar(&how.Unfinished, "unfinished", false, "though steps are left")
	c.Flags().BoolVar(&how.FalseAlarm, "false-alarm", false, "the key was never lost: it may be used again")
	return c
}

func draw(s *session.Session, p incidents.Progress) error {
	if s.JSON {
		return s.PrintJSON(api.IncidentOf(p, s.Speller()))
	}
	s.Out.Hung("Incident "+p.Name, term.Strong, fmt.Sprintf("about %s, serial %s: %s", term.Safe(p.About),
		p.Serial[:min(8, len(p.Serial))], term.Safe(p.Because)))
	s.Out.Say("%s", s.Out.Paint(term.Quiet, fmt.Sprintf("opened %s by %s", span.Distance(s.Moment(), p.Opened),
		term.Safe(p.Who))))
	if p.FalseAlarm {
		s.Out.Say("%s on %s: %s", s.Out.Paint(term.Good, "✓ closed as a false alarm"), p.Closed.Format("2006-01-02"),
			term.Safe(p.Outcome))
		return nil // what depends on the key need not be replaced
	}
	var rows [][]term.Cell
	var next session.Hint
	for i, st := range p.Steps {
		mark := term.Cell{Text: "✓", Tone: term.Good}
		if !st.Done {
			mark = term.Cell{Text: "·", Tone: term.Careful}
			if next.Command == "" && !st.Next.IsZero() {
				next = session.Hint{Why: st.Name, Command: s.Speller().Command(st.Next)}
			}
		}
		rows = append(rows, []term.Cell{mark, {Text: fmt.Sprint(i + 1), Tone: term.Quiet}, {Text: st.Name,
			Tone: term.Strong},
			{Text: st.Words, Prose: true}})
	}
	s.Out.Table([]string{"", "", "", ""}, rows)
	drawAffected(s, p.Affected)
	switch {
	case !p.Open():
		s.Out.Say("%s on %s: %s", s.Out.Paint(term.Good, "✓ closed"), p.Closed.Format("2006-01-02"),
			term.Safe(p.Outcome))
	case next.Command != "":
		s.Next(next)
	case len(p.Undone()) == 0:
		s.Next(session.Hint{Why: "nothing is left to do", Command: "ironseal incident close " + p.Name +
			" --because TEXT"})
	}
	return nil
}

// mostAffected is how many rows are shown; JSON and the report have all.
const mostAffected = 20

func drawAffected(s *session.Session, list []incidents.Affected) {
	var rows [][]term.Cell
	for i, a := range list {
		if i == mostAffected {
			break
		}
		seen := map[string]term.Cell{"old": {Text: "✗ old seen", Tone: term.Bad},
			"replacement": {Text: "✓ seen", Tone: term.Good}}[a.Seen]
		instead := term.Cell{Text: "–", Tone: term.Careful}
		if a.Replacement != "" {
			instead = term.Cell{Text: a.Replacement[:min(8, len(a.Replacement))], Tone: term.Good}
		}
		handed := term.Cell{Text: "–", Tone: term.Careful}
		if a.Handed {
			handed = term.Cell{Text: "✓", Tone: term.Good}
		}
		rows = append(rows, []term.Cell{{Text: a.Title, Tone: term.Strong}, {Text: a.Serial[:min(8, len(a.Serial))]},
			instead,
			handed, seen, {Text: strings.Join(a.Holders, ", ")}})
	}
	if len(rows) == 0 {
		return
	}
	s.Out.Gap()
	s.Out.Table([]string{"affected", "serial", "in its place", "handed over", "", "held by"}, rows, "held by")
	if n := len(list) - len(rows); n > 0 {
		s.Out.Say("  %s", s.Out.Paint(term.Quiet, fmt.Sprintf("and %s more: --json, or --report FILE",
			span.Count(n, "certificate"))))
	}
}
