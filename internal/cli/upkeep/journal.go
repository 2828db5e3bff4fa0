package upkeep

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/operators"
	"ironseal/internal/app/ops/backup"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/term"
	"ironseal/pki/describe"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/span"
)

// Journal is ironseal journal.
func Journal(s *session.Session) *cobra.Command {
	return session.Group("journal", "The record of every change, each entry linked to the one before",
		session.Reading(journalList(s)), session.Reading(journalShow(s)), session.Reading(journalVerify(s)),
		journalClock(s))
}

func journalList(s *session.Session) *cobra.Command {
	var count int
	var f journal.Filter
	var since, before string
	c := &cobra.Command{
		Use:   "list",
		Short: "List the newest entries, or those that match",
		Long: `Show the newest entries. With --act, --object, --who, --since or --before, show all entries
that fit, oldest first. Case is ignored. Entries that only say that an operator signed those before
them are shown with --act vouch; journal verify proves them.`,
		Example: `  ironseal journal list
  ironseal journal list --object booking.ternbay.example
  ironseal journal list --act revoke --since 2026-01-01`,
		Args: session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			head, _, err := e.Journal().Newest(cmd.Context())
			if err != nil {
				return err
			}
			if err := filterTimes(&f, since, before); err != nil {
				return err
			}
			from := int64(0)
			if count > 0 && (f.IsZero() || cmd.Flags().Changed("count")) {
				from = head.Seq - int64(count) + 1
			}
			rows, err := fitting(cmd.Context(), e, from, f)
			if err != nil {
				return err
			}
			return printEntries(s, rows, head, f.Act != "")
		},
	}
	c.Flags().IntVar(&count, "count", 30, "how many entries; 0 for all")
	c.Flags().StringVar(&f.Act, "act", "", "only acts with this `TEXT` in their name")
	c.Flags().StringVar(&f.Object, "object", "", "only entries with this `TEXT` in their object or detail")
	c.Flags().StringVar(&f.Who, "who", "", "only what this `PERSON` did")
	c.Flags().StringVar(&since, "since", "", "only from this `DAY` on")
	c.Flags().StringVar(&before, "before", "", "only before this `DAY`")
	return c
}

// fitting are the entries that fit, from one on.
func fitting(ctx context.Context, e *estate.Estate, from int64, f journal.Filter) ([]journal.Entry, error) {
	rows := []journal.Entry{}
	err := e.Journal().Entries(ctx, from, 0, func(en journal.Entry) error {
		if f.Fits(en) {
			rows = append(rows, en)
		}
		return nil
	})
	return rows, err
}

func printEntries(s *session.Session, rows []journal.Entry, head journal.Head, asked bool) error {
	if s.JSON {
		shown := []api.Entry{}
		for _, en := range rows {
			shown = append(shown, api.EntryOf(en))
		}
		return s.PrintJSON(shown)
	}
	var cells [][]term.Cell
	for _, en := range rows {
		if en.Act == event.VouchAct && !asked { // it says nothing but that those before it are signed
			continue
		}
		cells = append(cells, []term.Cell{{Text: fmt.Sprintf("J%d", en.Seq), Tone: term.Strong},
			{Text: en.At.Format("2006-01-02 15:04:05")}, {Text: en.Actor}, {Text: en.Act}, {Text: en.Object}})
	}
	if len(rows) == 0 {
		s.Out.Say("No entry fits.")
	} else {
		s.Out.Table([]string{"", "time (UTC)", "who", "act", "object"}, cells, "object")
	}
	s.Out.Say("%s", s.Out.Paint(term.Quiet, "head "+head.String()))
	return nil
}

func filterTimes(f *journal.Filter, since, before string) (err error) {
	for _, one := range []struct {
		typed string
		into  *time.Time
	}{{since, &f.Since}, {before, &f.Before}} {
		if one.typed == "" {
			continue
		}
		if *one.into, err = session.ParseTime(one.typed); err != nil {
			return &session.Status{Code: session.Usage, Err: err}
		}
	}
	return nil
}

func journalShow(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "show ENTRY",
		Short:   "Show one entry in full",
		Example: "  ironseal journal show J3",
		Args:    session.Exactly(1, "an entry, such as J3"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			n, err := strconv.ParseInt(strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(args[0])), "J"), 10, 64)
			if err != nil || n < 1 {
				return session.Misused("%q is not an entry: entries are numbered J1, J2 …", args[0])
			}
			found := false
			err = e.Journal().Entries(cmd.Context(), n, 1, func(en journal.Entry) error {
				found = en.Seq == n
				if !found {
					return nil
				}
				if s.JSON {
					return s.PrintJSON(api.EntryOf(en))
				}
				o := describe.Object{Kind: "entry", Title: fmt.Sprintf("J%d", en.Seq)}
				o.Add("time", "Time", en.At.Format("2006-01-02 15:04:05 UTC"))
				o.Add("actor", "Who", en.Actor)
				o.Add("act", "Act", en.Act)
				o.Add("object", "Object", en.Object)
				o.Add("detail", "Detail", en.Detail)
				o.Add("hash", "Hash", describe.Grouped(en.Hash))
				o.Add("previous", "Hash before", describe.Grouped(en.Prev))
				s.Out.Describe(o, true)
				return nil
			})
			if err == nil && !found {
				err = fmt.Errorf("J%d: there is no such entry", n)
			}
			return err
		},
	}
}

func journalVerify(s *session.Session) *cobra.Command {
	var against string
	c := &cobra.Command{
		Use:   "verify",
		Short: "Prove that no entry was changed, removed or inserted",
		Long: `Check every link of the journal, and, where there are operators, that each entry since the first
is signed by an operator of that time, in a role that allows it. With --against HEAD, where
HEAD was printed on a sheet or kept elsewhere, also prove that the journal was not rewritten since.`,
		Example: "  ironseal journal verify",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			s.Inspecting = true
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			var known *journal.Head
			if against != "" {
				h, err := journal.ParseHead(against)
				if err != nil {
					return &session.Status{Code: session.Usage, Err: err}
				}
				known = &h
			}
			head, err := e.Journal().VerifyJournal(cmd.Context(), known)
			var b *journal.Break
			if err != nil && !errors.As(err, &b) {
				return err
			}
			var witness *event.Witness
			var forged error
			if b == nil {
				if witness, forged = operators.Witnessed(cmd.Context(), e); forged != nil && !errors.Is(forged,
					fault.Refused) {
					return forged
				}
			}
			back, backErr := e.Journal().Backwards(cmd.Context())
			if backErr != nil {
				return backErr
			}
			if err := drawVerified(s, verified{head, b, witness, forged, back}); err != nil {
				return err
			}
			if b != nil || forged != nil {
				return &session.Status{Code: session.No, Err: nil}
			}
			return nil
		},
	}
	c.Flags().StringVar(&against, "against", "", "a journal `HEAD` noted earlier, such as J12:7K2M-9QXT-04HB-W3ZE")
	return c
}

// verified is what came of verifying the journal.
type verified struct {
	head    journal.Head
	broken  *journal.Break
	witness *event.Witness
	forged  error
	back    []journal.Backwards
}

func drawVerified(s *session.Session, v verified) error {
	if s.JSON {
		shown := map[string]any{"whole": v.forged == nil, "head": v.head,
			"times_backwards": append([]journal.Backwards{}, v.back...)}
		switch {
		case v.broken != nil:
			shown = map[string]any{"whole": false, "entry": v.broken.Seq, "why": v.broken.Why}
		case v.forged != nil:
			shown["why"] = v.forged.Error()
		default:
			shown["vouched_for"] = v.witness.Vouched
		}
		return s.PrintJSON(shown)
	}
	switch {
	case v.broken != nil:
		s.Out.Say("%s at entry J%d: %s", s.Out.Paint(term.Bad, "✗ Journal broken"), v.broken.Seq, v.broken.Why)
	case v.forged != nil:
		s.Out.Say("%s %s", s.Out.Paint(term.Bad, "✗ Not by operators:"), term.Safe(v.forged.Error()))
	default:
		s.Out.Say("%s %s checked   head %s", s.Out.Paint(term.Good, "✓ Journal intact:"),
			span.Count(int(v.head.Seq), "entry"), v.head)
		if n := v.witness.Vouched; n > 0 {
			s.Out.Say("%s %s signed by operators, each in a role that allows it", s.Out.Paint(term.Good, "✓"),
				span.Count(n, "entry"))
		}
	}
	drawBackwards(s, v.back)
	return nil
}

// drawBackwards tells where the journal's times run backwards.
func drawBackwards(s *session.Session, list []journal.Backwards) {
	if s.JSON {
		return
	}
	for _, b := range list {
		settled := ""
		if b.Settled {
			settled = ", which a later entry has settled"
		}
		s.Out.Say("%s J%d is dated %s, before an earlier entry of %s%s",
			s.Out.Paint(term.Careful, "! times run backwards:"), b.Seq, b.At.Format("2006-01-02 15:04:05 UTC"),
			b.Before.Format("2006-01-02 15:04:05 UTC"), settled)
	}
}

func journalClock(s *session.Session) *cobra.Command {
	var because string
	c := &cobra.Command{
		Use:   "clock",
		Short: "Record that the latest entries were dated by a wrong clock",
		Long: `If the clock is behind the latest entry, every change is refused. Use this command if the entry
is wrong, because this machine's clock was ahead when it was written. Time then continues from
this machine's clock; the entry stays. Set the clock first: what is signed now begins and ends
by it.`,
		Example: "  ironseal journal clock --because \"the clock said 2036 after the battery was changed\"",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if because == "" {
				return session.Misused("journal clock needs a reason: add --because TEXT")
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if _, err := backup.ClockAhead(cmd.Context(), e); err != nil {
				return err
			}
			if err := s.Agree(cmd.Context(), fmt.Sprintf("This machine's clock says %s. Is that right, and the "+
				"records ahead?", s.Moment().Format("2006-01-02 15:04:05 UTC"))); err != nil {
				return err
			}
			latest, head, err := backup.SettleClock(cmd.Context(), e, because)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"was_ahead": latest, "now": s.Moment(),
					"journal_head": head.String()})
			}
			s.Out.Say("%s entries up to %s count as dated by a wrong clock; time continues from %s   journal %s",
				s.Out.Paint(term.Good, "✓ on record:"), latest.Format("2006-01-02 15:04 UTC"),
				s.Moment().Format("2006-01-02 15:04 UTC"), head)
			return nil
		},
	}
	c.Flags().StringVar(&because, "because", "", "why")
	return c
}
