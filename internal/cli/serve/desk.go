package serve

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/requests/desk"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

// Desk is ironseal desk.
func Desk(s *session.Session) *cobra.Command {
	return session.Group("desk", "Invitations to hand in requests at the desk of ironseal serve",
		invite(s), session.Reading(list(s)), end(s))
}

func invite(s *session.Session) *cobra.Command {
	var ask desk.InviteAsk
	var until string
	c := &cobra.Command{
		Use:   "invite NAME",
		Short: "Invite a person to hand in requests",
		Long: `Invite a person to hand in requests at the desk. An address is printed once: whoever has it can hand
in requests until the invitation ends. Send it in a way that others cannot read.

The invitation can be limited to templates, to names within trees (a domain, a network), and to a
number of requests. What is handed in waits for you as every other request.`,
		Example: "  ironseal desk invite \"Ana Tide\" --template web-server --names quay.ternbay.example --count 3 --until 30d",
		Args:    session.Exactly(1, "the name of a person"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			ask.Name = args[0]
			if ask.Until, err = lastDay(s, until); err != nil {
				return err
			}
			i, secret, err := desk.Invite(cmd.Context(), e, ask)
			if err != nil {
				return err
			}
			address := e.Settings.Serve.Where() + "/invited/" + secret
			if s.JSON {
				return s.PrintJSON(api.Invitation{Invitation: i, Address: address})
			}
			s.Out.Say("%s %s, until %s", s.Out.Paint(term.Good, "✓ invited"), term.Safe(i.Name),
				i.Until.Format("2006-01-02"))
			s.Out.Say("  %s", address)
			s.Out.Say("  %s", s.Out.Paint(term.Quiet, "This address is shown once. Send it so that only this "+
				"person reads it."))
			return nil
		},
	}
	fl := c.Flags()
	fl.StringSliceVar(&ask.Templates, "template", nil, "a `TEMPLATE` that may be asked for; may be repeated; any "+
		"when left "+
		"out")
	fl.StringSliceVar(&ask.Names, "names", nil, "names within this `TREE` may be asked for: a domain or a network; "+
		"may be "+
		"repeated; any when left out")
	fl.IntVar(&ask.Count, "count", 0, "how many requests may be handed in; any number when left out")
	fl.StringVar(&until, "until", "30d", "the last `DAY`, or how long from now (30d)")
	s.CompleteTemplates(c, "template")
	return c
}

// lastDay reads a day, to its end, or a span from now.
func lastDay(s *session.Session, typed string) (time.Time, error) {
	if life, err := span.Parse(typed); err == nil {
		return life.After(s.Moment()), nil
	}
	t, err := session.ParseTime(typed)
	if err != nil {
		return t, session.Misused("--until %q: write a day such as 2030-01-31, or a time from now such as 30d", typed)
	}
	if t.Equal(t.Truncate(24 * time.Hour)) {
		t = t.Add(24*time.Hour - time.Second)
	}
	return t, nil
}

func list(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List invitations",
		Example: "  ironseal desk list",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			all, err := desk.Invitations(cmd.Context(), e)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(append([]desk.Invitation{}, all...))
			}
			if len(all) == 0 {
				s.Out.Say("There is no invitation.")
				s.Next(session.Hint{Why: "invite a person", Command: "ironseal desk invite NAME"})
				return nil
			}
			var rows [][]term.Cell
			for _, i := range all {
				state, tone := "open", term.Good
				if i.Ended != "" {
					state, tone = i.Ended, term.Quiet
				}
				used := fmt.Sprint(i.Used)
				if i.Count > 0 {
					used = fmt.Sprintf("%d of %d", i.Used, i.Count)
				}
				rows = append(rows, []term.Cell{{Text: i.Name, Tone: term.Strong}, {Text: state, Tone: tone},
					{Text: i.Until.Format("2006-01-02")}, {Text: used}, {Text: strings.Join(i.Templates, ", ")},
					{Text: strings.Join(i.Names, ", ")}})
			}
			s.Out.Table([]string{"invitation", "state", "until", "requests", "templates", "names"}, rows,
				"templates", "names")
			return nil
		},
	}
}

func end(s *session.Session) *cobra.Command {
	var because string
	c := &cobra.Command{
		Use:     "end NAME",
		Short:   "End an invitation",
		Example: "  ironseal desk end \"Ana Tide\" --because \"she left the harbour\"",
		Args:    session.Exactly(1, "the name of an invitation"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if strings.TrimSpace(because) == "" {
				because = "it was ended"
			}
			if _, err := desk.End(cmd.Context(), e, args[0], because); err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]string{"ended": args[0]})
			}
			s.Out.Say("%s the invitation of %s; requests that were handed in stay", s.Out.Paint(term.Good, "✓ ended"),
				term.Safe(args[0]))
			return nil
		},
	}
	c.Flags().StringVar(&because, "because", "", "why, for the records")
	return c
}
