package revocation

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/revoke/importing"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/responding"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/span"
)

// Command is ironseal revocations.
func Command(s *session.Session) *cobra.Command {
	return session.Group("revocations", "Sign and publish revocation lists, and look at them",
		publish(s), session.Reading(list(s)), session.Reading(show(s)), session.Reading(check(s)), takeIn(s))
}

const aboutPublish = `Sign every revocation list that is due, and write all that clients fetch into a folder that any
web server can serve: lists (DER and PEM), authorities' certificates, and for every authority
one file with the lists of its whole path.

A list is due when something changed since the last one, when its time is up (list-each in
ironseal.toml; for a root when two thirds of its life are over), or when it is missing. A list
that is not due stays, and its key is not needed. The folder is replaced in one step. If a run
is interrupted the old folder stays whole, and the next run finishes.

The key of each generation signs its own list. An authority whose key is locked away can sign
--ahead: lists for the coming weeks, each for its time. Run the command again when the time of
one has come; it needs no key for that. Import the lists of an authority in another estate with
revocations import.

With --ocsp it also prepares an OCSP answer about every certificate, one file each, named by
issuer and serial. A key made for this run signs them; each authority certifies that key, and
it is thrown away.

--skip leaves out authorities whose keys are not here. Their current lists stay.`

func publish(s *session.Session) *cobra.Command {
	var ask publishing.Ask
	var to, answers, life, step string
	c := &cobra.Command{
		Use:   "publish [HANDLE...]",
		Short: "Sign the lists that are due, and write the folder to be served",
		Long:  aboutPublish,
		Example: `  ironseal revocations publish --to ../public
  ironseal revocations publish services --all
  ironseal revocations publish root --ahead 4 --life 90d`,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			ask.Only = args
			if ask.Ahead < 0 || ask.Ahead > 520 {
				return session.Misused("--ahead %d: from 0 to 520 lists", ask.Ahead)
			}
			if ask.Life, err = session.SpanAsked(life); err != nil {
				return err
			}
			if ask.Step, err = session.SpanAsked(step); err != nil {
				return err
			}
			if ask.Ahead == 0 && !ask.Step.IsZero() {
				return session.Misused("--step is from one list to the next of those that are signed --ahead")
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			return published(cmd.Context(), s, e, ask, s.Path(to), s.Path(answers))
		},
		ValidArgsFunction: s.Handles,
	}
	fl := c.Flags()
	fl.StringVar(&to, "to", "", "the folder that is served, a `DIR`; only signed when left out")
	fl.StringVar(&answers, "ocsp", "", "a folder of prepared OCSP answers, a `DIR`: one about every certificate")
	fl.BoolVar(&ask.All, "all", false, "sign those too that are not due")
	fl.StringArrayVar(&ask.Skip, "skip", nil, "leave this `HANDLE`'s lists as they are; may be repeated")
	fl.IntVar(&ask.Ahead, "ahead", 0, "sign `N` more in advance, each for its time")
	fl.StringVar(&life, "life", "", "how long each is fresh, a `SPAN`, in place of what the settings say")
	fl.StringVar(&step, "step", "", "from one list signed ahead to the next, a `SPAN`; three quarters of a life when "+
		"left out")
	s.CompleteHandles(c, "skip")
	return c
}

func published(ctx context.Context, s *session.Session, e *estate.Estate, ask publishing.Ask, to,
	answers string) error {
	if to != "" { // before anything is signed
		if err := publishing.Untouched(ctx, e, to); err != nil {
			return err
		}
	}
	p, err := publishing.PlanLists(ctx, e, ask)
	if err != nil {
		return err
	}
	if !s.JSON {
		drawDue(s, p)
	}
	done, err := publishing.Sign(ctx, e, p)
	if err != nil {
		return err
	}
	if !s.JSON {
		if n := len(done.Lists); n > 0 {
			s.Out.Say("%s %s   %s", s.Out.Paint(term.Good, "✓ signed"), span.Count(n, "list"),
				s.Out.Paint(term.Quiet, "journal "+done.Head.String()))
		} else {
			s.Out.Say("%s No list is due.", s.Out.Paint(term.Good, "✓"))
		}
	}
	out := map[string]any{"signed": append([]event.List{}, done.Lists...)}
	var missing error
	if to != "" {
		if missing, err = released(ctx, s, e, to, len(done.Lists) > 0, out); err != nil {
			return err
		}
	} else if !s.JSON && len(done.Lists) > 0 {
		s.Next(session.Hint{Why: "bring them where clients look", Command: "ironseal revocations publish --to DIR"})
	}
	if answers != "" {
		b, err := responding.Prepare(ctx, e, answers, ask, nil)
		if err != nil {
			return err
		}
		out["ocsp"] = b
		if !s.JSON {
			drawAnswers(s, b)
		}
	}
	if s.JSON {
		return errors.Join(s.PrintJSON(out), missing)
	}
	return missing
}

// released writes the folder and tells what is in it. What certificates name and it lacks is an error, that is
// told at the end.
func released(ctx context.Context, s *session.Session, e *estate.Estate, to string, signed bool,
	out map[string]any) (missing, err error) {
	r, err := publishing.Release(ctx, e, to)
	if err != nil && signed {
		err = fmt.Errorf("the lists are signed and on record, and %s was left as it was: %w: run it again", to, err)
	}
	if err != nil {
		return nil, err
	}
	out["to"], out["files"] = to, r.Files
	out["stale"], out["absent"] = append([]string{}, r.Stale...), append([]string{}, r.Absent...)
	out["missing"] = append([]string{}, r.Missing...)
	if len(r.Missing) > 0 {
		missing = fault.New(fault.NotFound, "%s is written, and lacks what certificates name: %s", to,
			strings.Join(r.Missing, ", ")).
			Then(advice.To("sign it, or import it from where its key is", advice.ImportLists))
	}
	if !s.JSON {
		drawReleased(s, r)
	}
	return missing, nil
}

func drawAnswers(s *session.Session, b responding.Batch) {
	s.Out.Say("%s %s: %s, fresh until %s", s.Out.Paint(term.Good, "✓ written"), term.Safe(b.Dir),
		span.Count(b.Answers, "OCSP answer"), b.Next.Format("2006-01-02 15:04 UTC"))
	for _, why := range b.Skipped {
		s.Out.Hung("  !", term.Careful, "none about what was signed by "+term.Safe(why))
	}
}

// drawDue says what will be signed and why, and what cannot be.
func drawDue(s *session.Session, p publishing.Plan) {
	var rows [][]term.Cell
	for _, d := range p.Due {
		switch {
		case d.Unable != "" && d.Now.Number == 0:
			rows = append(rows, []term.Cell{{Text: "!", Tone: term.Careful}, {Text: d.Title(), Tone: term.Strong},
				{Text: d.Unable, Prose: true}})
		case d.Why != "" && d.Unable == "" && len(rows) < mostShown:
			rows = append(rows, []term.Cell{{Text: "+", Tone: term.Accent}, {Text: d.Title(), Tone: term.Strong},
				{Text: d.Why, Prose: true}})
		}
	}
	if len(rows) > 0 {
		s.Out.Table([]string{"", "", ""}, rows)
		more(s, len(p.Signs()), len(rows), "list")
	}
}

func drawReleased(s *session.Session, r publishing.Released) {
	word := "✓ written"
	if r.Same {
		word = "✓ unchanged"
	}
	s.Out.Say("%s %s: %s, %s", s.Out.Paint(term.Good, word), term.Safe(r.Dir), span.Count(len(r.Lists), "list"),
		span.Count(len(r.Files), "file"))
	for _, title := range r.Stale {
		s.Out.Say("  %s", s.Out.Paint(term.Bad, "✗ "+title+" is stale: clients refuse what it is about"))
	}
	if len(r.Absent) > 0 {
		s.Out.Hung("  !", term.Careful, "no list is there of "+term.Safe(strings.Join(r.Absent, ", "))+
			": servers that check a whole path by a file need one of every authority in it")
	}
}

func list(s *session.Session) *cobra.Command {
	var alarm bool
	c := &cobra.Command{
		Use:   "list",
		Short: "Show each list: until when it is fresh, and what is due",
		Example: `  ironseal revocations list
  ironseal revocations list --alarm`,
		Args: session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			p, err := publishing.PlanLists(cmd.Context(), e, publishing.Ask{})
			if err != nil {
				return err
			}
			due, err := drawLists(s, p)
			if err != nil {
				return err
			}
			if alarm && due > 0 {
				return &session.Status{Code: session.Attention, Err: nil}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&alarm, "alarm", false, "exit with status 5 when any is due")
	s.QuietFlag(c, "print titles only")
	return c
}

// drawLists prints the lists, and returns how many are to be signed.
func drawLists(s *session.Session, p publishing.Plan) (due int, err error) {
	rows := []api.RevocationList{}
	var cells [][]term.Cell
	for _, d := range p.Due {
		v := api.RevocationListOf(d, s.Moment())
		rows = append(rows, v)
		if d.Why != "" && d.Unable == "" || v.State == api.ListStale {
			due++
		}
		if s.Quiet && !s.JSON {
			s.Out.Say("%s", v.Title)
		}
		cells = append(cells, listCells(s, d, v))
	}
	switch {
	case s.JSON:
		return due, s.PrintJSON(rows)
	case s.Quiet:
		return due, nil
	case len(rows) == 0:
		s.Out.Say("There are no authorities whose lists could be signed.")
		return due, nil
	}
	s.Out.Table([]string{"", "list", "number", "dated", "next by", "", "revoked", ""}, cells, "number", "dated")
	if due > 0 {
		s.Next(session.Hint{Why: "sign what is due", Command: "ironseal revocations publish --to DIR"})
	}
	return due, nil
}

func listCells(s *session.Session, d publishing.Due, v api.RevocationList) []term.Cell {
	mark := term.Cell{Text: "✓ " + v.State, Tone: term.Good}
	switch {
	case v.State == api.ListStale || v.State == api.ListMissing && d.Unable == "":
		mark = term.Cell{Text: "✗ " + v.State, Tone: term.Bad}
	case v.State == api.ListMissing:
		mark = term.Cell{Text: "· " + v.State, Tone: term.Quiet}
	case d.Why != "":
		mark = term.Cell{Text: "! due", Tone: term.Careful}
	}
	words := strings.TrimPrefix(d.Why+"; "+d.Unable, "; ")
	if words = strings.TrimSuffix(words, "; "); d.Now.Number == 0 {
		return []term.Cell{mark, {Text: v.Title, Tone: term.Strong}, {}, {}, {}, {}, {}, {Text: words, Prose: true}}
	}
	if n := d.Until.Sub(d.Now.Next); n > 0 {
		words = strings.TrimPrefix(words+"; signed ahead until "+d.Until.Format("2006-01-02"), "; ")
	}
	return []term.Cell{mark, {Text: v.Title, Tone: term.Strong}, {Text: fmt.Sprint(v.Number)},
		{Text: d.Now.This.Format("2006-01-02 15:04")}, {Text: d.Now.Next.Format("2006-01-02 15:04")},
		{Text: span.Distance(s.Moment(), d.Now.Next), Tone: term.Quiet}, {Text: fmt.Sprint(v.Entries)},
		{Text: words, Prose: true}}
}

func takeIn(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "import FILE|DIR...",
		Aliases: []string{"take-in"}, // as it was called before
		Short:   "Import lists that were signed elsewhere, or before a backup was restored",
		Long: `Import lists of authorities whose keys are in another estate, such as an offline root. Each must
be signed by its authority, complete, fresh, and newer than the known one. Several that were
signed ahead can come together or one by one: each is served at its time.

After you restored a backup, also import the lists of the authorities whose keys are here. They
tell which certificates were revoked since the backup. All lists of a folder are imported.

What a list revokes is recorded, whatever its number is.`,
		Example: `  ironseal revocations import ../from-the-safe/root.g1.crl
  ironseal revocations import ../public`,
		Args: session.AtLeast(1, "a file or a folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := listFiles(s, args)
			if err != nil {
				return err
			}
			lists, err := s.ListsIn(files)
			if err != nil {
				return err
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			done, err := importing.Lists(cmd.Context(), e, lists)
			if err != nil {
				return err
			}
			return drawTaken(s, done)
		},
	}
}

// listFiles are the files that were named, and the lists of folders: those of a folder that is served lie
// there under several names, as text too, and each is wanted once.
func listFiles(s *session.Session, args []string) (out []string, err error) {
	for _, a := range args {
		a = s.Path(a)
		info, err := os.Stat(a)
		if err != nil || !info.IsDir() {
			out = append(out, a)
			continue
		}
		found, err := filepath.Glob(filepath.Join(estate.EscapeGlob(a), "*.crl"))
		if err != nil {
			return nil, err
		}
		found = slices.DeleteFunc(found, func(f string) bool { return strings.HasSuffix(f, ".delta.crl") })
		if len(found) == 0 {
			return nil, fmt.Errorf("%s: there is no list in it (*.crl)", a)
		}
		out = append(out, found...)
	}
	return out, nil
}

func drawTaken(s *session.Session, done importing.Taken) error {
	if s.JSON {
		head := ""
		if done.Head.Seq > 0 {
			head = done.Head.String()
		}
		return s.PrintJSON(map[string]any{"taken_in": append([]event.List{}, done.Lists...), "journal_head": head,
			"known": append([]event.List{}, done.Known...), "passed_over": append([]string{}, done.Passed...),
			"learned": append([]string{}, done.News...)})
	}
	for _, i := range done.Lists {
		s.Out.Say("%s %s, number %d, %s, next by %s", s.Out.Paint(term.Good, "✓ imported"), i.Title(), i.Number,
			span.Count(i.Entries, "certificate")+" revoked", i.Next.Format("2006-01-02 15:04 UTC"))
	}
	for _, i := range done.Known {
		s.Out.Say("%s %s, number %d, was known already", s.Out.Paint(term.Good, "✓"), i.Title(), i.Number)
	}
	s.PassedOver(done.Passed)
	s.News(done.News)
	s.Next(session.Hint{Why: "bring them where clients look", Command: "ironseal revocations publish --to DIR"})
	return nil
}
