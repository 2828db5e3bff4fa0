package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/act/overview"
	"ironseal/internal/act/renewing"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

func (s *Session) certificateRenew() *cobra.Command {
	var ask renewing.AgainAsk
	var lifetime, within, because string
	var due bool
	var waive []string
	c := &cobra.Command{
		Use:   "renew [CERTIFICATE]",
		Short: "Sign a certificate in the place of another",
		Long: `Sign a certificate in the place of another: the same names, by the template as it
is today, for the same request or, with --request, for a new one. The sheet shows
what differs from before and who is known to hold it.

With --due, everything that ends within --within is renewed at once.`,
		Example: `  ironseal certificate renew booking.ternbay.example
  ironseal certificate renew --due --within 90d`,
		Args: func(cmd *cobra.Command, args []string) error {
			if due != (len(args) == 0) || len(args) > 1 {
				return usage("certificate renew needs one certificate, or --due")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			var err error
			if ask.Waivers, err = waivers(waive, because); err != nil {
				return err
			}
			if ask.Lifetime, err = spanAsked(lifetime); err != nil {
				return err
			}
			e, err := s.estate(ctx)
			if err != nil {
				return err
			}
			if due {
				if err := onlyFlags(cmd, "with --due", "due", "within", "waive", "because"); err != nil {
					return err
				}
				ahead, err := span.Parse(within)
				if err != nil {
					return &status{Usage, err}
				}
				list, err := renewing.PlanDue(ctx, e, ahead, ask.Waivers)
				if err != nil {
					return err
				}
				if len(list) == 0 {
					return s.nothing(fmt.Sprintf("%s Nothing ends within %s.", s.out.Paint(term.Good, "✓"),
						ahead.Words()))
				}
				return s.signPlanned(ctx, e, list)
			}
			if err := onlyFlags(cmd, "for one certificate", "request", "template", "by", "lifetime", "waive",
				"because"); err != nil {
				return err
			}
			ask.Certificate = args[0]
			sheet, err := renewing.PlanAgain(ctx, e, ask)
			if err != nil {
				return err
			}
			return s.signOne(ctx, e, sheet)
		},
		ValidArgsFunction: s.certificates,
	}
	fl := c.Flags()
	fl.StringVar(&ask.Request, "request", "", "a new `REQUEST` in the place of the one before")
	fl.StringVar(&ask.Template, "template", "", "another template than before")
	fl.StringVar(&ask.By, "by", "", "the `HANDLE` of another authority than before")
	fl.StringVar(&lifetime, "lifetime", "", "how long it lives")
	fl.BoolVar(&due, "due", false, "everything that ends soon")
	fl.StringVar(&within, "within", "60d", "how far ahead --due looks, a `SPAN`")
	s.waiverFlags(c, &waive, &because)
	s.completeTemplates(c, "template")
	s.completeHandles(c, "by")
	return c
}

func (s *Session) changeoverCommand() *cobra.Command {
	return group("changeover", "Prepare a new authority while the old one serves, and switch on a day",
		s.changeoverPrepare(), reading(s.changeoverProgress()), s.changeoverSwitch(), s.changeoverBack())
}

func (s *Session) changeoverPrepare() *cobra.Command {
	var waive []string
	var because string
	c := &cobra.Command{
		Use:   "prepare HANDLE",
		Short: "Sign a certificate for every holder, to be kept unused until the switch day",
		Long: `For every certificate that serves under the current generation, sign one under the
prepared generation. They wait, unused, for the switch day. What was prepared before
is left alone, so that the command can be repeated.`,
		Args: exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := waivers(waive, because)
			if err != nil {
				return err
			}
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			list, err := renewing.PlanChange(cmd.Context(), e, args[0], w)
			if err != nil {
				return err
			}
			if len(list) == 0 {
				return s.nothing(s.out.Paint(term.Good, "✓") + " Everything is prepared.")
			}
			return s.signPlanned(cmd.Context(), e, list)
		},
		ValidArgsFunction: s.handles,
	}
	s.waiverFlags(c, &waive, &because)
	return c
}

func (s *Session) changeoverProgress() *cobra.Command {
	return &cobra.Command{
		Use:   "progress HANDLE",
		Short: "How a change-over stands",
		Args:  exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			c, err := renewing.ChangeOf(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			if s.json {
				return s.printJSON(c)
			}
			s.out.Say("%s serves until the switch day, %s, %s; it ends on %s", s.out.Paint(term.Strong, c.Old),
				c.Day.Format("2006-01-02"), span.Distance(s.now(), c.Day), c.OldEnds.Format("2006-01-02"))
			s.out.Say("%s is prepared, with a certificate for %d of %d holders", s.out.Paint(term.Strong, c.New),
				len(c.Prepared), len(c.Prepared)+len(c.Missing))
			for _, m := range c.Missing {
				s.out.Say("  %s %s", s.out.Paint(term.Careful, "! nothing is prepared for"), term.Safe(m))
			}
			if len(c.Missing) > 0 {
				s.next(overview.Advice{Why: "prepare the rest", Command: "ironseal changeover prepare " + c.Handle})
			} else {
				s.next(overview.Advice{Why: "on the day", Command: "ironseal changeover switch " + c.Handle})
			}
			return nil
		},
		ValidArgsFunction: s.handles,
	}
}

func (s *Session) changeoverSwitch() *cobra.Command {
	var early bool
	c := &cobra.Command{
		Use:   "switch HANDLE",
		Short: "Let the prepared generation, and what it signed, serve from now on",
		Args:  exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			c, err := renewing.ChangeOf(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			if err := s.agree(cmd.Context(), fmt.Sprintf("Switch from %s to %s, with %s prepared and %d not?",
				c.Old, c.New, span.Count(len(c.Prepared), "certificate"), len(c.Missing))); err != nil {
				return err
			}
			g, head, err := renewing.Switch(cmd.Context(), e, args[0], early)
			if err != nil {
				return err
			}
			if s.json {
				return s.printJSON(map[string]any{"authority": args[0], "signs": g.Name(),
					"journal_head": head.String()})
			}
			s.out.Say("%s %s signs from now on   journal %s", s.out.Paint(term.Good, "✓ switched:"), g.Name(), head)
			s.next(overview.Advice{Why: "hand the new certificates over", Command: "ironseal certificate list"},
				overview.Advice{Why: "the way back",
					Command: "ironseal changeover back " + args[0] + " --switch-day DAY"})
			return nil
		},
		ValidArgsFunction: s.handles,
	}
	c.Flags().BoolVar(&early, "early", false, "before the switch day")
	return c
}

func (s *Session) changeoverBack() *cobra.Command {
	var day string
	c := &cobra.Command{
		Use:   "back HANDLE",
		Short: "Go back to the generation before, until another switch day",
		Args:  exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if day == "" {
				return usage("changeover back needs the new switch day: --switch-day DAY")
			}
			t, err := parseTime(day)
			if err != nil {
				return &status{Usage, err}
			}
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			if err := s.agree(cmd.Context(), fmt.Sprintf("Let %s sign by its earlier generation again?",
				args[0])); err != nil {
				return err
			}
			g, head, err := renewing.SwitchBack(cmd.Context(), e, args[0], t)
			if err != nil {
				return err
			}
			if s.json {
				return s.printJSON(map[string]any{"authority": args[0], "signs": g.Name(),
					"journal_head": head.String()})
			}
			s.out.Say("%s %s signs again   journal %s", s.out.Paint(term.Good, "✓"), g.Name(), head)
			return nil
		},
		ValidArgsFunction: s.handles,
	}
	c.Flags().StringVar(&day, "switch-day", "", "the new switch `DAY`")
	return c
}
