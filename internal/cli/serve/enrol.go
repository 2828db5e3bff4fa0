package serve

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

// Enrol is ironseal enrol.
func Enrol(s *session.Session) *cobra.Command {
	return session.Group("enrol", "Codes by which machines enrol at ironseal serve",
		makeCode(s), session.Reading(listCodes(s)), endCode(s))
}

func makeCode(s *session.Session) *cobra.Command {
	var ask enrol.CodeAsk
	var until string
	c := &cobra.Command{
		Use:   "code NAME",
		Short: "Make a code by which machines enrol",
		Long: `Make a code by which machines get their first certificate. It is printed once. Put it into the
settings of the machines, as the password; any name will do as the user.

The code is for one template, for names within trees (a domain, a network), and for a number of
machines. What the template lets be signed without a person is signed at once; see [unattended]
in template files. Everything else waits for you.`,
		Example: "  ironseal enrol code gates --template mutual-peer --names quay.ternbay.example --count 20 --until 30d",
		Args:    session.Exactly(1, "a name for the code"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			ask.Name = args[0]
			if ask.Until, err = lastDay(s, until); err != nil {
				return err
			}
			made, code, err := enrol.MakeCode(cmd.Context(), e, ask)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(api.EnrolmentCode{Code: made, Secret: code})
			}
			s.Out.Say("%s %s, for %s, until %s", s.Out.Paint(term.Good, "✓ made"), term.Safe(made.Name),
				span.Count(made.Count, "machine"),
				made.Until.Format("2006-01-02"))
			s.Out.Say("  %s", s.Out.Paint(term.Accent, code))
			s.Out.Say("  %s", s.Out.Paint(term.Quiet, "This code is shown once."))
			return nil
		},
	}
	fl := c.Flags()
	fl.StringVar(&ask.Template, "template", "", "the `TEMPLATE` by which machines enrol")
	fl.StringSliceVar(&ask.Names, "names", nil, "names within this `TREE` may be asked for: a domain or a network; "+
		"may be "+
		"repeated")
	fl.IntVar(&ask.Count, "count", 1, "for how many machines it is")
	fl.StringVar(&until, "until", "7d", "the last `DAY`, or how long from now (30d)")
	s.CompleteTemplates(c, "template")
	return c
}

func listCodes(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List codes",
		Example: "  ironseal enrol list",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			all, err := enrol.Codes(cmd.Context(), e)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(append([]enrol.Code{}, all...))
			}
			if len(all) == 0 {
				s.Out.Say("There is no code.")
				return nil
			}
			var rows [][]term.Cell
			for _, c := range all {
				state, tone := "open", term.Good
				if c.Ended != "" {
					state, tone = c.Ended, term.Quiet
				}
				rows = append(rows, []term.Cell{{Text: c.Name, Tone: term.Strong}, {Text: state, Tone: tone},
					{Text: c.Until.Format("2006-01-02")}, {Text: fmt.Sprintf("%d of %d", c.Used, c.Count)},
					{Text: c.Template}, {Text: strings.Join(c.Names, ", ")}})
			}
			s.Out.Table([]string{"code", "state", "until", "machines", "template", "names"}, rows, "names")
			return nil
		},
	}
}

func endCode(s *session.Session) *cobra.Command {
	var because string
	c := &cobra.Command{
		Use:     "end NAME",
		Short:   "End a code",
		Example: "  ironseal enrol end gates --because \"all gates have theirs\"",
		Args:    session.Exactly(1, "the name of a code"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if strings.TrimSpace(because) == "" {
				because = "it was ended"
			}
			if _, err := enrol.EndCode(cmd.Context(), e, args[0], because); err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]string{"ended": args[0]})
			}
			s.Out.Say("%s the code %s; machines keep their certificates", s.Out.Paint(term.Good, "✓ ended"),
				term.Safe(args[0]))
			return nil
		},
	}
	c.Flags().StringVar(&because, "because", "", "why, for the records")
	return c
}
