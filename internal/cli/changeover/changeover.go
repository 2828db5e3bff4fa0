// Package changeover has the commands that move what an authority signed to its next
// generation, all on one day.
package changeover

import (
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ca/rollover"
	"ironseal/internal/cli/session"
	"ironseal/internal/cli/sign"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

// Command is ironseal changeover.
func Command(s *session.Session) *cobra.Command {
	return session.Group("changeover", "Prepare a new authority while the old one serves, and switch on a day",
		changeoverPlan(s), changeoverPrepare(s), changeoverRecord(s), session.Reading(changeoverProgress(s)),
		changeoverSwitch(s), changeoverBack(s), changeoverFinish(s))
}

func changeoverPrepare(s *session.Session) *cobra.Command {
	var waive []string
	var because string
	c := &cobra.Command{
		Use:   "prepare HANDLE",
		Short: "Sign the certificates that will be used from the switch day on",
		Long: `Sign a certificate under the prepared generation for every valid certificate under the current
one. They stay unused until the switch day. You can repeat the command: what is prepared
already stays as it is.`,
		Example: "  ironseal changeover prepare services",
		Args:    session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := session.Waivers(waive, because)
			if err != nil {
				return err
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			list, err := renewals.PlanChange(cmd.Context(), e, args[0], w)
			if err != nil {
				return err
			}
			if len(list) == 0 {
				return s.Nothing(s.Out.Paint(term.Good, "✓") + " Everything is prepared.")
			}
			return sign.SignPlanned(cmd.Context(), s, e, list)
		},
		ValidArgsFunction: s.Handles,
	}
	s.WaiverFlags(c, &waive, &because)
	return c
}

func changeoverProgress(s *session.Session) *cobra.Command {
	var plot string
	cmd := &cobra.Command{
		Use:     "progress HANDLE|SET",
		Short:   "Show how far a change-over is",
		Example: "  ironseal changeover progress services",
		Args:    session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			c, err := rollover.Of(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			if plot != "" {
				if err := draw(s, e, c, plot); err != nil {
					return err
				}
			}
			if s.JSON {
				return s.PrintJSON(c)
			}
			if c.Sets != nil {
				drawSets(s, c)
				return nil
			}
			s.Out.Say("%s serves until the switch day, %s, %s; it ends on %s", s.Out.Paint(term.Strong, c.Old),
				c.Day.Format("2006-01-02"), span.Distance(s.Moment(), c.Day), c.OldEnds.Format("2006-01-02"))
			s.Out.Say("%s is prepared, with a certificate for %d of %d holders", s.Out.Paint(term.Strong, c.New),
				len(c.Prepared), len(c.Prepared)+len(c.Missing))
			for _, m := range c.Missing {
				s.Out.Say("  %s %s", s.Out.Paint(term.Careful, "! nothing is prepared for"), term.Safe(m))
			}
			for _, l := range c.Losing {
				s.Out.Say("  %s %s", s.Out.Paint(term.Careful, "! "+l.Kind+" would refuse"),
					term.Safe(l.Certificate+": "+l.Because[0]))
			}
			drawParties(s, c)
			s.Next(next(c))
			return nil
		},
		ValidArgsFunction: s.Handles,
	}
	cmd.Flags().StringVar(&plot, "plot", "", "draw how many parties were ready on which day in this `FILE`, .png "+
		"or .svg")
	return cmd
}

func changeoverSwitch(s *session.Session) *cobra.Command {
	var early bool
	var waive []string
	var because string
	c := &cobra.Command{
		Use:     "switch HANDLE|SET",
		Short:   "Switch to the prepared generation",
		Example: "  ironseal changeover switch services --early",
		Args:    session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			w, err := session.Waivers(waive, because)
			if err != nil {
				return err
			}
			c, err := rollover.Of(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			if bad, err := c.Findings().Waive(0, w); err != nil {
				return err
			} else if len(bad.Refusing()) > 0 {
				if !s.JSON {
					s.Out.Findings(bad)
				}
				return session.Refusal("authority "+args[0], "nothing was switched", bad.Refusing())
			}
			if c.Sets != nil {
				return switchSets(cmd.Context(), s, e, c, early, w)
			}
			if err := s.Agree(cmd.Context(), fmt.Sprintf("Switch from %s to %s, with %s prepared and %d not?",
				c.Old, c.New, span.Count(len(c.Prepared), "certificate"), len(c.Missing))); err != nil {
				return err
			}
			g, head, err := rollover.Switch(cmd.Context(), e, args[0], early, w)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"authority": args[0], "signs": g.Name(),
					"journal_head": head.String()})
			}
			s.Out.Say("%s %s signs from now on   journal %s", s.Out.Paint(term.Good, "✓ switched:"), g.Name(), head)
			s.Next(session.Hint{Why: "hand the new certificates over",
				Command: "ironseal certificate handover --new"},
				session.Hint{Why: "to undo this",
					Command: "ironseal changeover back " + args[0] + " --switch-day DAY"})
			return nil
		},
		ValidArgsFunction: s.Handles,
	}
	c.Flags().BoolVar(&early, "early", false, "before the switch day")
	s.WaiverFlags(c, &waive, &because)
	return c
}

func changeoverBack(s *session.Session) *cobra.Command {
	var day string
	c := &cobra.Command{
		Use:     "back HANDLE|SET",
		Short:   "Go back to the generation before",
		Example: "  ironseal changeover back services --switch-day 2031-01-01",
		Args:    session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if c, err := rollover.Of(cmd.Context(), e, args[0]); err == nil && c.Sets != nil {
				return backSets(cmd.Context(), s, e, c)
			}
			if day == "" {
				return session.Misused("changeover back needs the new switch day: --switch-day DAY")
			}
			t, err := session.ParseTime(day)
			if err != nil {
				return &session.Status{Code: session.Usage, Err: err}
			}
			if err := s.Agree(cmd.Context(), fmt.Sprintf("Let %s sign by its earlier generation again?",
				args[0])); err != nil {
				return err
			}
			g, head, err := renewals.SwitchBack(cmd.Context(), e, args[0], t)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"authority": args[0], "signs": g.Name(),
					"journal_head": head.String()})
			}
			s.Out.Say("%s %s signs again   journal %s", s.Out.Paint(term.Good, "✓"), g.Name(), head)
			return nil
		},
		ValidArgsFunction: s.Handles,
	}
	c.Flags().StringVar(&day, "switch-day", "", "the new switch `DAY`")
	return c
}
