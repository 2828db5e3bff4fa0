// Package upkeep has the commands that look after an estate: its status, its journal,
// what is due, backups and checks.
package upkeep

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/audit"
	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/ops/overview"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

// Estate is ironseal estate.
func Estate(s *session.Session) *cobra.Command {
	return session.Group("estate", "The directory that holds settings, templates, keys and records", estateCreate(s),
		session.Reading(estateStatus(s)), estateRehearse(s), estateBackup(s), estateRestore(s),
		session.Reading(estateCheck(s)), estateMove(s), estateJoin(s), estateFiles(s))
}

func estateCreate(s *session.Session) *cobra.Command {
	var f estate.Options
	c := &cobra.Command{
		Use:   "create DIR",
		Short: "Create an estate",
		Long: `Create an estate. With --publish-at, certificates name that address for their revocation lists.
Without it they name none, and clients do not hear of revocations. You can set the address
later in ironseal.toml; it counts for what is signed from then on.

With --single-root the root signs servers and clients directly, without an intermediate.

The records are a file in the directory. With --records, or the environment variable
IRONSEAL_RECORDS, they are in a PostgreSQL database that several machines can share. Put its
password into a password file (PGPASSFILE), not into the address.`,
		Example: `  ironseal estate create laboratory --single-root
  ironseal estate create quay --organisation "Tern Bay Ferries" --publish-at http://pki.ternbay.example
  ironseal estate create harbour --organisation "Tern Bay Ferries" --country NO
  cd harbour && ironseal estate status`,
		Args: session.Exactly(1, "the directory to make"),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := s.Path(args[0])
			f.Records = recordsAsked(s, f.Records)
			e, err := estate.Create(cmd.Context(), dir, f, s.EstateEnv())
			if err != nil {
				return err
			}
			defer e.Close()
			if s.JSON {
				return s.PrintJSON(map[string]any{"directory": dir, "templates": e.TemplateNames()})
			}
			s.Out.Say("%s an estate for %s in %s", s.Out.Paint(term.Good, "✓ made"),
				term.Safe(e.Settings.Organisation.Name), term.Safe(dir))
			s.Out.Say("  settings   %s (every key is explained there)", estate.SettingsFile)
			s.Out.Hung("  templates ", term.Normal, strings.Join(e.TemplateNames(), ", "))
			if f.Address == "" {
				s.Out.Hung("!", term.Careful, "Certificates will name no revocation list. If you want to revoke, set "+
					"publication.address in "+estate.SettingsFile+" before you sign, or use --publish-at.")
			}
			s.Next(session.Hint{Why: "make the root",
				Command: s.Shell.Then(s.Shell.Go(dir), "ironseal authority create root")})
			return nil
		},
	}
	c.Flags().StringVar(&f.Address, "publish-at", "", "the `URL` at which revocation lists will be fetched")
	c.Flags().StringVar(&f.Records, "records", "", "the address of a `DATABASE` for the records, not a file")
	c.Flags().BoolVar(&f.SingleRoot, "single-root", false, "the root signs servers and clients directly")
	c.Flags().StringVar(&f.Organisation, "organisation", "", "the `NAME` from which subjects are built")
	c.Flags().StringVar(&f.Country, "country", "", "two capital `LETTERS` (ISO 3166)")
	return c
}

func estateRehearse(s *session.Session) *cobra.Command {
	var blank bool
	var f estate.Options
	c := session.Reading(&cobra.Command{
		Use:   "rehearse DIR",
		Short: "Make a copy with throwaway keys, to practise on",
		Long: `Make a throwaway copy of the estate: the same authorities, dates, templates and settings, with
throwaway keys that need no passphrase. Only there can --as-of move the clock for changes:
practise the renewal of 2036 today. Everything that a rehearsal makes is marked, and a real
estate refuses it.

With --blank it begins empty, on the day of --as-of.`,
		Example: `  ironseal estate rehearse ../play
  ironseal estate rehearse ../history --blank --organisation "Tern Bay Ferries" --as-of 2012-11-23`,
		Args: session.Exactly(1, "the directory to make"),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := s.Path(args[0])
			made, err := rehearsal(cmd.Context(), s, dir, blank, f)
			if err != nil {
				return err
			}
			defer made.Close()
			if s.JSON {
				return s.PrintJSON(map[string]any{"directory": dir, "rehearsal": true})
			}
			s.Out.Say("%s a rehearsal in %s; no key there needs a passphrase", s.Out.Paint(term.Good, "✓ made"),
				term.Safe(dir))
			s.Next(session.Hint{Why: "move its clock",
				Command: "ironseal forecast --estate " + s.Shell.Word(dir) + " --as-of 2036-01-31"})
			return nil
		},
	})
	c.Flags().BoolVar(&blank, "blank", false, "begin with an empty estate, not with a copy of this one")
	c.Flags().StringVar(&f.Organisation, "organisation", "", "the `NAME` from which subjects are built, with --blank")
	c.Flags().StringVar(&f.Country, "country", "", "two capital `LETTERS`, with --blank")
	return c
}

func rehearsal(ctx context.Context, s *session.Session, dir string, blank bool, f estate.Options) (*estate.Estate,
	error) {
	if blank {
		f.Rehearsal = true
		return estate.Create(ctx, dir, f, s.EstateEnv())
	}
	if f != (estate.Options{}) {
		return nil, session.Misused("--organisation and --country go with --blank; a copy has those of this estate")
	}
	e, err := s.Estate(ctx)
	if err != nil {
		return nil, err
	}
	return backup.Rehearse(ctx, e, dir, s.Moment())
}

func estateStatus(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "status",
		Short:   "Show the state of the estate, and what to do next",
		Example: "  ironseal estate status",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			st, err := overview.Of(cmd.Context(), e)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(api.StatusOf(st, s.Speller()))
			}
			drawStatus(s, st)
			return nil
		},
	}
}

func drawStatus(s *session.Session, st overview.Status) {
	o, now := s.Out, s.Moment()
	o.Say("%s  %s", o.Paint(term.Strong, term.Safe(st.Organisation)), o.Paint(term.Quiet, term.Safe(st.Dir)))
	for _, f := range st.Faults {
		o.Say("%s %s", o.Paint(term.Bad, "✗"), term.Safe(f))
	}
	if st.ClockBehind != "" {
		o.Say("%s %s: nothing can be signed until it is set", o.Paint(term.Bad, "✗ clock"), st.ClockBehind)
	}
	o.Gap()
	if len(st.Authorities) > 0 {
		var rows [][]term.Cell
		for _, a := range st.Authorities {
			kind := "authority"
			if a.Root {
				kind = "root"
			}
			rows = append(rows, []term.Cell{{Text: a.Handle, Tone: term.Strong}, {Text: kind},
				session.StateCell(a.State, false),
				{Text: "until " + a.Until.Format("2006-01-02") + ", " + span.Distance(now, a.Until)},
				{Text: a.Note, Tone: term.Quiet}})
		}
		o.Table([]string{"", "", "", "", ""}, rows)
	}
	for _, a := range st.Sent {
		o.Say("%s %s  %s", o.Paint(term.Careful, "! sent, not answered:"), o.Paint(term.Strong, a.Handle),
			o.Paint(term.Quiet, strings.TrimSpace(a.Parent+" "+span.Distance(now, a.Made))))
	}
	o.Say("%s signed, %s, %d waiting", span.Count(st.Counts.Certificates, "certificate"),
		span.Count(st.Counts.Requests, "request"),
		st.Counts.Waiting)
	for i, w := range st.Waiting {
		if i == 8 {
			o.Say("  … and %d more", len(st.Waiting)-i)
			break
		}
		o.Say("  %s  %s  %s", o.Paint(term.Strong, w.Name), term.Safe(w.Title),
			o.Paint(term.Quiet, "came "+span.Distance(now, w.Received)))
	}
	if len(st.Ending) > 0 {
		o.Gap()
		o.Say("%s", o.Paint(term.Careful, "Ends next"))
		for _, c := range st.Ending {
			o.Say("  %s %s  %s", c.Until.Format("2006-01-02"), term.Safe(c.Title),
				o.Paint(term.Quiet, span.Distance(now, c.Until)))
		}
	}
	drawTrouble(o, st)
	o.Say("%s", o.Paint(term.Quiet, fmt.Sprintf("clock %s   journal %s", now.Format("2006-01-02 15:04 UTC"), st.Head)))
	s.Advise(st.Next...)
}

// drawTrouble shows what is invalid, suspected or late.
func drawTrouble(o *term.Screen, st overview.Status) {
	for _, d := range st.Down {
		o.Say("%s", o.Paint(term.Bad, fmt.Sprintf("✗ %s of %s: invalid, because an authority was revoked",
			span.Count(d.Certificates, "certificate"), d.Generation)))
	}
	for _, i := range st.Incidents {
		o.Say("%s", o.Paint(term.Bad, "✗ the incident "+i+" is open"))
	}
	for _, l := range st.Lists {
		o.Say("%s %s  %s", o.Paint(term.Careful, "! revocation list due:"), o.Paint(term.Strong, l.Title),
			o.Paint(term.Quiet, l.Why))
	}
}

func estateBackup(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "backup FILE",
		Short: "Back up the estate into one file",
		Long: `Write settings, templates, receivers, records and keys into one file. The records in it are one
consistent state, even while others work; keys stay encrypted. Keep the journal's head that is
printed apart from the file: with it you can prove the copy later.`,
		Example: "  ironseal estate backup ../harbour.backup",
		Args:    session.Exactly(1, "the file to write"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			b, err := backup.BackUp(cmd.Context(), e, s.Path(args[0]))
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(b)
			}
			s.Out.Say("%s %s, %d files", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(s.Path(args[0])), len(b.Files))
			s.Out.Say("  journal  %s   keep this apart from the file", s.Out.Paint(term.Accent, b.Head))
			if len(b.NotIn) > 0 {
				s.Out.Say("  %s", s.Out.Paint(term.Careful,
					fmt.Sprintf("! not in it: %s of drafts, which lie elsewhere", span.Count(len(b.NotIn), "key"))))
				for i, f := range b.NotIn {
					if i == 5 {
						s.Out.Say("    … and %d more", len(b.NotIn)-i)
						break
					}
					s.Out.Say("    %s", term.Safe(f))
				}
			}
			s.Next(session.Hint{Why: "where it is needed",
				Command: "ironseal estate restore " + s.Shell.Word(s.Path(args[0])) + " DIR"})
			return nil
		},
	}
}

func estateRestore(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "restore FILE DIR",
		Short: "Restore an estate from a backup",
		Long: `Check every file of a backup and unpack it into a missing or empty directory. Numbers never go
backwards: requests continue at the next thousand, serial numbers are random, and list numbers
follow the time. Certificates that were issued after the backup can be imported from their
files: ironseal certificate import.

Revocations that were published after the backup are learnt from the lists: import the folder
that is served before you publish. Incidents that were opened after the backup are not known:
open them again.`,
		Example: "  ironseal estate restore ../harbour.backup ../again",
		Args:    session.Exactly(2, "the backup and the directory to make"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := backup.Restore(cmd.Context(), s.Path(args[0]), s.Path(args[1]), s.EstateEnv())
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"directory": s.Path(args[1]), "journal_head": r.Backup.Head,
					"next_request": fmt.Sprintf("R%d", r.NextRequest)})
			}
			s.Out.Say("%s %s, as of %s, journal %s", s.Out.Paint(term.Good, "✓ restored"), term.Safe(s.Path(args[1])),
				r.Backup.Made.Format("2006-01-02 15:04 UTC"), r.Backup.Head)
			s.Out.Say("  request numbers continue at R%d", r.NextRequest)
			s.Next(session.Hint{Why: "check it",
				Command: "ironseal estate check --estate " + s.Shell.Word(s.Path(args[1]))},
				session.Hint{Why: "learn what was revoked since, from the folder that is served",
					Command: "ironseal revocations import DIR --estate " + s.Shell.Word(s.Path(args[1]))},
				session.Hint{Why: "open again what was suspected since",
					Command: "ironseal incident open CERTIFICATE --because TEXT --estate " +
						s.Shell.Word(s.Path(args[1]))},
				session.Hint{Why: "import what was issued since",
					Command: "ironseal certificate import FILE... --estate " + s.Shell.Word(s.Path(args[1]))})
			return nil
		},
	}
}

func estateCheck(s *session.Session) *cobra.Command {
	var ask audit.CheckAsk
	c := &cobra.Command{
		Use:   "check",
		Short: "Check records, keys, templates, journal and files against each other",
		Long: `Check the whole estate: the journal, every record against the journal and against its
certificate or request, every signature, the keys on record, unknown key files, templates,
receivers, and file permissions. Each fault comes with what to do. The exit status is 4 if
there is any.

It removes what interrupted runs left behind, and says so. It changes nothing else. With
--move-aside, unknown key files older than an hour are moved into the folder aside. It never
deletes a key.`,
		Example: "  ironseal estate check",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			s.Inspecting = true
			defer session.Roomy()()
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			n, err := overview.Counts(cmd.Context(), e)
			if err != nil {
				return err
			}
			count, stop := s.Counter("checking", n.Certificates)
			ask.Progress = count
			c, err := audit.Check(cmd.Context(), e, ask)
			stop()
			if err != nil {
				return err
			}
			if s.JSON {
				if err := s.PrintJSON(api.CheckOf(c, s.Speller())); err != nil {
					return err
				}
			} else {
				drawCheck(s, c)
			}
			if len(c.Faults) > 0 {
				return &session.Status{Code: session.No, Err: nil}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&ask.MoveAside, "move-aside", false, "move key files that nothing names out of the way")
	return c
}

func drawCheck(s *session.Session, c audit.Checked) {
	for _, r := range c.Removed {
		s.Out.Say("%s left behind by an act that was cut off, and removed: %s", s.Out.Paint(term.Careful, "!"),
			term.Safe(r))
	}
	for _, m := range c.Aside {
		s.Out.Say("%s moved: %s", s.Out.Paint(term.Careful, "!"), term.Safe(m))
	}
	if len(c.Faults) == 0 {
		s.Out.Say("%s %s, %s checked. Journal intact up to %s", s.Out.Paint(term.Good, "✓ No faults:"),
			span.Count(c.Certificates, "certificate"), span.Count(c.Keys, "key"), c.Head)
		return
	}
	s.Out.Say("%s %s", s.Out.Paint(term.Bad, "✗ Not sound:"), span.Count(len(c.Faults), "fault"))
	for _, f := range c.Faults {
		s.Out.Say("  %s %s", s.Out.Paint(term.Bad, "✗"), s.Out.Paint(term.Strong, term.Safe(f.About)))
		s.Out.Wrapped(4, term.Normal, term.Safe(f.What))
		s.Out.Wrapped(4, term.Quiet, "→ "+term.Safe(s.Speller().List(f.Next)))
	}
}
