package serve

import (
	"encoding/base64"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/machines"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

// Enrol is ironseal enrol.
func Enrol(s *session.Session) *cobra.Command {
	return session.Group("enrol", "Credentials by which machines enrol at ironseal serve",
		makeCode(s), makeAccountKey(s), session.Reading(listCodes(s)), session.Reading(showCode(s)), endCode(s))
}

func makeCode(s *session.Session) *cobra.Command {
	return making(s, &cobra.Command{
		Use:   "code NAME",
		Short: "Make a code by which machines enrol by EST or SCEP",
		Long: `Make a code by which machines get their first certificate by EST or SCEP. It is printed once. Put it
into the settings of the machines: as the password for EST, where any name will do as the user, and as
the challenge password for SCEP.

The code is for one template, for names within trees (a domain, a network), and for a number of
machines. What the template lets be signed without a person is signed at once; see [unattended]
in template files. Everything else waits for you.`,
		Example: "  ironseal enrol code gates --template mutual-peer --names quay.ternbay.example --count 20 --until 30d",
	}, func(cmd *cobra.Command, ask enrol.CodeAsk) (enrol.Code, any, []string, error) {
		e, err := s.Estate(cmd.Context())
		if err != nil {
			return enrol.Code{}, nil, nil, err
		}
		reach, err := enrol.HowToReach(cmd.Context(), e, ask.Template)
		if err != nil {
			return enrol.Code{}, nil, nil, err
		}
		made, code, err := enrol.MakeCode(cmd.Context(), e, ask)
		lines := reached([]string{code}, [][2]string{{"EST", reach.EST}, {"SCEP", reach.SCEP},
			{"fingerprint", reach.Fingerprint}}, reach)
		return made, api.EnrolmentCode{Code: made, Secret: code, Reach: reach}, lines, err
	})
}

func makeAccountKey(s *session.Session) *cobra.Command {
	return making(s, &cobra.Command{
		Use:   "account NAME",
		Short: "Make a key by which machines register ACME accounts",
		Long: `Make a key by which machines register accounts by ACME. A key identifier and a key are printed once.
Put both into the settings of the machines: programs call them external account binding.

The key is for one template, for names within trees (a domain, a network), and for a number of
accounts. What the template lets be signed without a person is signed once the machine has proved
control of its names. Everything else waits for you.`,
		Example: "  ironseal enrol account web --template web-server --names quay.ternbay.example --count 3 --until 30d",
	}, func(cmd *cobra.Command, ask enrol.CodeAsk) (enrol.Code, any, []string, error) {
		e, err := s.Estate(cmd.Context())
		if err != nil {
			return enrol.Code{}, nil, nil, err
		}
		reach, err := enrol.HowToReach(cmd.Context(), e, ask.Template)
		if err != nil {
			return enrol.Code{}, nil, nil, err
		}
		made, secret, err := enrol.MakeAccountKey(cmd.Context(), e, ask)
		text := base64.RawURLEncoding.EncodeToString(secret)
		lines := reached([]string{"key identifier  " + made.KeyID, "key             " + text},
			[][2]string{{"directory", reach.ACME}}, reach)
		return made, api.AccountCredential{Code: made, Secret: text, Reach: reach}, lines, err
	})
}

// reached adds to what is printed once where machines reach the server, and what else they ask for.
func reached(lines []string, more [][2]string, reach enrol.Reach) []string {
	lines = append(lines, "")
	for _, m := range more {
		if m[1] != "" {
			lines = append(lines, fmt.Sprintf("%-11s  %s", m[0], m[1]))
		}
	}
	if reach.EST == "" {
		lines = append(lines, "The settings do not say where machines reach the server: machines-address.")
	}
	if reach.Person {
		lines = append(lines, "By this template a person decides on every request: it has no [unattended].")
	}
	return lines
}

// making completes a command that makes a credential. do returns it, as JSON, and as lines.
func making(s *session.Session, c *cobra.Command,
	do func(*cobra.Command, enrol.CodeAsk) (enrol.Code, any, []string, error)) *cobra.Command {
	var ask enrol.CodeAsk
	var until string
	c.Args = session.Exactly(1, "a name for it")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		var err error
		ask.Name = args[0]
		if ask.Until, err = lastDay(s, until); err != nil {
			return err
		}
		made, asJSON, lines, err := do(cmd, ask)
		if err != nil {
			return err
		}
		if s.JSON {
			return s.PrintJSON(asJSON)
		}
		s.Out.Say("%s %s, for %s, until %s", s.Out.Paint(term.Good, "✓ made"), term.Safe(made.Name),
			span.Count(made.Count, "machine"), made.Until.Format("2006-01-02"))
		shown := true // what is secret comes first
		for _, l := range lines {
			switch {
			case l == "" && shown:
				shown = false
				s.Out.Say("  %s", s.Out.Paint(term.Quiet, "This is shown once."))
			case shown:
				s.Out.Say("  %s", s.Out.Paint(term.Accent, l))
			default:
				s.Out.Wrapped(2, term.Normal, l)
			}
		}
		return nil
	}
	fl := c.Flags()
	fl.StringVar(&ask.Template, "template", "", "the `TEMPLATE` by which machines enrol")
	fl.StringSliceVar(&ask.Names, "names", nil, "names within this `TREE` may be asked for: a domain or a network; "+
		"may be repeated")
	fl.IntVar(&ask.Count, "count", 1, "for how many machines it is")
	fl.StringVar(&until, "until", "7d", "the last `DAY`, or how long from now (30d)")
	s.PartyFlag(c, &ask.Party, "whose machines they are: a `PARTY` on record")
	s.CompleteTemplates(c, "template")
	return c
}

func listCodes(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List credentials",
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
				s.Out.Say("There is no credential.")
				return nil
			}
			var rows [][]term.Cell
			for _, c := range all {
				state, tone := "open", term.Good
				if c.Ended != "" {
					state, tone = "ended: "+c.Ended, term.Quiet
				}
				rows = append(rows, []term.Cell{{Text: c.Name, Tone: term.Strong}, {Text: kindOf(c)},
					{Text: state, Tone: tone}, {Text: c.Until.Format("2006-01-02")},
					{Text: fmt.Sprintf("%d of %d", c.Used, c.Count)}, {Text: c.Template},
					{Text: strings.Join(c.Names, ", ")}})
			}
			s.Out.Table([]string{"credential", "kind", "state", "until", "machines", "template", "names"}, rows,
				"names", "kind")
			s.Next(session.Hint{Why: "see what came of one", Command: "ironseal enrol show NAME"})
			return nil
		},
	}
}

func kindOf(c enrol.Code) string {
	if c.KeyID != "" {
		return "account key"
	}
	return "code"
}

func showCode(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "show NAME",
		Short: "Show a credential, with the machines that used it",
		Long: `Show a credential with the accounts that were registered with it, and with the requests of the
machines: what was signed, what waits for a person and why, and which machine should have renewed its
certificate and did not (late).`,
		Example: "  ironseal enrol show gates",
		Args:    session.Exactly(1, "the name of a credential"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			m, err := machines.Show(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(m)
			}
			printMachines(s, m)
			return nil
		},
	}
}

func printMachines(s *session.Session, m machines.Shown) {
	state := "open until " + m.Until.Format("2006-01-02")
	if m.Ended != "" {
		state = m.Ended
	}
	s.Out.Say("%s  %s, %s", s.Out.Paint(term.Strong, term.Safe(m.Name)), kindOf(m.Code), term.Safe(state))
	row := func(what, text string) {
		if text != "" {
			s.Out.Say("  %-14s  %s", what, term.Safe(text))
		}
	}
	row("template", m.Template)
	row("names", strings.Join(m.Names, ", "))
	row("machines", fmt.Sprintf("%d of %d", m.Used, m.Count))
	row("party", m.Party)
	row("key identifier", m.KeyID)
	if len(m.Accounts) > 0 {
		var rows [][]term.Cell
		for _, a := range m.Accounts {
			state, tone := "open", term.Good
			if a.Ended != "" {
				state, tone = "ended: "+a.Ended, term.Quiet
			}
			rows = append(rows, []term.Cell{{Text: a.Title(), Tone: term.Strong}, {Text: state, Tone: tone},
				{Text: a.Kept.Format("2006-01-02")}, {Text: strings.Join(a.Contacts, ", ")}})
		}
		s.Out.Say("")
		s.Out.Table([]string{"account", "state", "changed", "contacts"}, rows, "contacts")
	}
	if len(m.Requests) == 0 {
		return
	}
	var rows [][]term.Cell
	for _, r := range m.Requests {
		state, tone := string(r.State), term.Normal
		until := ""
		if !r.Until.IsZero() {
			until = r.Until.Format("2006-01-02")
		}
		switch {
		case r.Late:
			state, tone = "late", term.Bad
		case len(r.Waits) > 0:
			tone = term.Careful
		}
		rows = append(rows, []term.Cell{{Text: r.Number, Tone: term.Strong}, {Text: r.By}, {Text: state, Tone: tone},
			{Text: r.Title}, {Text: until}, {Text: strings.Join(r.Waits, " ")}})
	}
	s.Out.Say("")
	s.Out.Table([]string{"request", "by", "state", "for", "until", "a person decides"}, rows, "a person decides")
}

func endCode(s *session.Session) *cobra.Command {
	var because, account string
	c := &cobra.Command{
		Use:   "end NAME",
		Short: "End a credential, with the accounts that were registered with it",
		Long: `End a credential. No machine enrols with it from now on. ACME accounts that were registered with it
order nothing more. Machines keep their certificates. A machine that enrolled by EST or SCEP renews
with its certificate, so revoke that certificate to stop it. --account ends one account only.`,
		Example: "  ironseal enrol end gates --because \"all gates have theirs\"",
		Args:    session.Exactly(1, "the name of a credential"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if strings.TrimSpace(because) == "" {
				because = "it was ended"
			}
			what := "the credential " + args[0]
			if account != "" {
				a, err := machines.EndAccount(cmd.Context(), e, args[0], account, because)
				if err != nil {
					return err
				}
				what = "the account " + a.Title()
			} else if _, err := enrol.EndCode(cmd.Context(), e, args[0], because); err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]string{"ended": args[0]})
			}
			s.Out.Say("%s %s; machines keep their certificates", s.Out.Paint(term.Good, "✓ ended"), term.Safe(what))
			return nil
		},
	}
	c.Flags().StringVar(&because, "because", "", "why, for the records")
	c.Flags().StringVar(&account, "account", "", "end this `ACCOUNT` alone, such as gates/2")
	return c
}
