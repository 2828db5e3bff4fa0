package upkeep

import (
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/cli/authority"
	"ironseal/internal/cli/session"
	"ironseal/internal/report/chart"
	"ironseal/internal/term"
	"ironseal/pki/cert"
	"ironseal/pki/span"
)

// Forecast is ironseal forecast.
func Forecast(s *session.Session) *cobra.Command {
	var horizon, only, plot string
	c := session.Reading(&cobra.Command{
		Use:   "forecast",
		Short: "Show what each authority can still grant, and what to renew when",
		Long: `Show, for every authority and template, what it should grant, what it can grant today, and the
last day on which it grants the full lifetime. Then list the renewals in order, the root
first, each with the day by which to do it.

With --horizon, play the whole schedule that far into the future.`,
		Example: `  ironseal forecast
  ironseal forecast --horizon 15y
  ironseal forecast --template web-server --as-of 2034-01-01
  ironseal forecast --horizon 15y --plot ../lifetimes.svg`,
		Args: session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			ahead, err := session.SpanAsked(horizon)
			if err != nil {
				return err
			}
			if ahead.Longer(span.Years(500), s.Moment()) {
				return session.Misused("--horizon %s: at most 500y", horizon)
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			r, err := renewals.Forecast(cmd.Context(), e, ahead, only)
			if err != nil {
				return err
			}
			if plot != "" {
				data, err := chart.Lifetimes(r, "Lifetimes: "+e.Settings.Organisation.Name, plot)
				if err != nil {
					return &session.Status{Code: session.Usage, Err: err}
				}
				if err := delivery.WriteFile(e, s.Path(plot), data); err != nil {
					return err
				}
			}
			if s.JSON {
				return s.PrintJSON(r)
			}
			if len(r.Bars) == 0 {
				return authority.PrintAuthorities(s, nil)
			}
			s.Out.Forecast(r)
			if plot != "" {
				s.Out.Say("%s %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(s.Path(plot)))
			}
			return nil
		},
	})
	fl := c.Flags()
	fl.StringVar(&horizon, "horizon", "", "play the schedule for this `SPAN`: 15y")
	fl.StringVar(&only, "template", "", "show what is granted by this template only")
	fl.StringVar(&plot, "plot", "", "draw the lifetimes into this `FILE`, .png or .svg")
	s.CompleteTemplates(c, "template")
	return c
}

// Due is ironseal due.
func Due(s *session.Session) *cobra.Command {
	var within, calendar string
	var alarm bool
	c := session.Reading(&cobra.Command{
		Use:   "due",
		Short: "List what ends or should be renewed soon",
		Long: `List everything that ends or should be renewed within a time, soonest first, with who holds it.
With --alarm the exit status is 5 if there is anything. With --ics it also writes calendar
entries (RFC 5545).`,
		Example: `  ironseal due
  ironseal due --within 400d --ics ../harbour.ics
  ironseal due --within 2w --alarm --quiet`,
		Args: session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			ahead, err := span.Parse(within)
			if err != nil {
				return &session.Status{Code: session.Usage, Err: err}
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			list, err := overview.DueWithin(cmd.Context(), e, ahead)
			if err != nil {
				return err
			}
			if calendar != "" {
				if err := delivery.WriteFile(e, s.Path(calendar), renewals.CalendarOf(list, s.Moment(),
					s.Speller().Command)); err != nil {
					return err
				}
			}
			if err := printDue(s, list, ahead, s.Path(calendar)); err != nil {
				return err
			}
			if alarm && len(list) > 0 {
				return &session.Status{Code: session.Attention, Err: nil}
			}
			return nil
		},
	})
	fl := c.Flags()
	fl.StringVar(&within, "within", "60d", "how far ahead to look, a `SPAN`")
	fl.StringVar(&calendar, "ics", "", "write calendar entries into this `FILE`")
	fl.BoolVar(&alarm, "alarm", false, "exit with status 5 when there is anything")
	s.QuietFlag(c, "print titles only")
	return c
}

func printDue(s *session.Session, list []renewals.Due, ahead span.Span, calendar string) error {
	switch {
	case s.JSON:
		return s.PrintJSON(api.DueOf(list, s.Speller()))
	case s.Quiet:
		for _, d := range list {
			s.Out.Say("%s", term.Safe(d.Title))
		}
		return nil
	case len(list) == 0:
		s.Out.Say("%s Nothing ends and nothing needs to be renewed within %s.", s.Out.Paint(term.Good, "✓"),
			ahead.Words())
	}
	var rows [][]term.Cell
	for _, d := range list {
		tone := term.Normal
		if !d.Day.After(s.Moment()) {
			tone = term.Bad
		}
		serial := cert.ShortSerial(d.Serial)
		rows = append(rows, []term.Cell{{Text: d.Day.Format("2006-01-02"), Tone: tone},
			{Text: span.Distance(s.Moment(), d.Day)}, {Text: d.Title, Tone: term.Strong}, {Text: serial,
				Tone: term.Quiet},
			{Text: d.What, Prose: true}, {Text: strings.Join(d.Holders, ", ")}})
	}
	if len(rows) > 0 {
		s.Out.Table([]string{"day", "in", "for", "serial", "what", "held by"}, rows, "serial", "in")
		s.Next(session.Hint{Why: "the first of them", Command: s.Speller().Command(list[0].Next)})
	}
	if calendar != "" {
		s.Out.Say("%s %s, %d entries", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(calendar), len(list))
	}
	return nil
}
