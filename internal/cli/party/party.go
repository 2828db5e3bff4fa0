// Package party has the commands that keep who holds certificates and who must trust a set.
package party

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/parties"
	"ironseal/internal/cli/session"
	"ironseal/internal/disk"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/sheet"
	"ironseal/pki/span"
	"ironseal/pki/trust"
)

// Command is ironseal party.
func Command(s *session.Session) *cobra.Command {
	return session.Group("party", "Machines, devices and people that hold certificates or must trust a set",
		session.Reading(list(s)), session.Reading(show(s)), add(s), change(s), remove(s), importAll(s))
}

func list(s *session.Session) *cobra.Command {
	var csv bool
	c := &cobra.Command{
		Use:     "list",
		Short:   "List parties",
		Example: "  ironseal party list\n  ironseal party list --csv",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			all, err := parties.List(cmd.Context(), e)
			if err != nil {
				return err
			}
			switch {
			case s.JSON:
				return s.PrintJSON(append([]trust.Party{}, all...))
			case csv:
				var rows [][]string
				for _, p := range all {
					rows = append(rows, p.Row())
				}
				return s.Out.Raw(sheet.Write(trust.PartyColumns, rows))
			case s.Quiet:
				for _, p := range all {
					s.Out.Say("%s", p.Name)
				}
			case len(all) == 0:
				s.Out.Say("There is no party yet.")
				s.Next(session.Hint{Why: "put one on record",
					Command: "ironseal party add NAME --endpoint HOST:PORT"},
					session.Hint{Why: "or many", Command: "ironseal party import FILE.csv"})
			default:
				var cells [][]term.Cell
				for _, p := range all {
					cells = append(cells, []term.Cell{{Text: p.Name, Tone: term.Strong},
						{Text: strings.Join(p.Endpoints, ", ")},
						{Text: p.Receiver}, {Text: strings.Join(p.Platforms, ", ")}, {Text: strings.Join(p.Sets, ", ")},
						{Text: p.Owner}})
				}
				s.Out.Table([]string{"party", "endpoints", "receiver", "platforms", "sets", "owner"}, cells,
					"platforms", "owner",
					"sets")
			}
			return nil
		},
	}
	s.QuietFlag(c, "print names only")
	c.Flags().BoolVar(&csv, "csv", false, "as a table that party import reads")
	return c
}

func show(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "show PARTY",
		Short:   "Show one party: its certificates, its trust stores, its endpoints",
		Example: "  ironseal party show quay-gate-3",
		Args:    session.Exactly(1, "a party"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			k, err := parties.What(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(k)
			}
			draw(s, k)
			return nil
		},
		ValidArgsFunction: s.Parties,
	}
}

func draw(s *session.Session, k parties.Known) {
	s.Out.Say("%s", s.Out.Paint(term.Strong, k.Name))
	for i, column := range trust.PartyColumns {
		if text := k.Row()[i]; i > 0 && text != "" {
			s.Out.Say("  %s%s", s.Out.Paint(term.Quiet, fmt.Sprintf("%-14s", column)), term.Safe(text))
		}
	}
	var certificates, enrols, stores, seen [][]term.Cell
	for _, c := range k.Certificates {
		certificates = append(certificates, []term.Cell{session.StateCell(c.State, false), {Text: c.Title,
			Tone: term.Strong},
			{Text: c.Until},
			{Text: c.Serial[:min(8, len(c.Serial))], Tone: term.Quiet}, {Text: c.Renews}, {Text: c.By}})
	}
	for _, c := range k.Enrols {
		kind, state := "code", "open"
		if c.KeyID != "" {
			kind = "account key"
		}
		if c.Ended != "" {
			state = "ended: " + c.Ended
		}
		enrols = append(enrols, []term.Cell{{Text: c.Name, Tone: term.Strong}, {Text: kind}, {Text: state},
			{Text: fmt.Sprintf("%d of %d", c.Used, c.Count)}, {Text: c.Template}, {Text: strings.Join(c.Names, ", ")}})
	}
	for _, c := range k.Stores {
		has := term.Cell{Text: "✓ all there", Tone: term.Good}
		if len(c.Missing) > 0 {
			has = term.Cell{Text: "✗ lacks " + strings.Join(c.Missing, ", "), Tone: term.Bad}
		}
		stores = append(stores, []term.Cell{has, {Text: "set " + c.Set}, {Text: c.Platform}, {Text: c.When[:10]},
			{Text: c.Store, Tone: term.Quiet}})
	}
	for _, v := range k.Seen {
		state := term.Cell{Text: "✓ trusted", Tone: term.Good}
		if !v.Trusted {
			state = term.Cell{Text: "✗ not trusted", Tone: term.Bad}
		}
		seen = append(seen, []term.Cell{state, {Text: v.Endpoint, Tone: term.Strong}, {Text: v.When[:10]},
			{Text: v.Why, Prose: true}})
	}
	for _, part := range []struct {
		title string
		rows  [][]term.Cell
		head  []string
	}{{"It holds", certificates, []string{"state", "for", "until", "serial", "renews", "by"}},
		{"Its machines enrol with", enrols, []string{"credential", "kind", "state", "machines", "template", "names"}},
		{"Kits reported", stores, []string{"", "", "platform", "on", "store"}},
		{"Last seen", seen, []string{"", "endpoint", "on", "because"}}} {
		if len(part.rows) > 0 {
			s.Out.Gap()
			s.Out.Say("%s", s.Out.Paint(term.Strong, part.title))
			s.Out.Table(part.head, part.rows)
		}
	}
}

// said are the options that say something of a party.
type said struct {
	endpoints, platforms, sets              []string
	receiver, template, owner, closed, note string
}

func (f *said) add(s *session.Session, c *cobra.Command) {
	fl := c.Flags()
	fl.StringSliceVar(&f.endpoints, "endpoint", nil, "where it can be looked at: `[NAME@]HOST:PORT`; may be repeated")
	fl.StringSliceVar(&f.platforms, "platform", nil, "a `PLATFORM` whose kit it takes; may be repeated")
	fl.StringSliceVar(&f.sets, "set", nil, "a trust `SET` that it must have; may be repeated")
	fl.StringVar(&f.receiver, "receiver", "", "the `RECEIVER`: in which shape it takes a certificate")
	fl.StringVar(&f.template, "template", "", "the `TEMPLATE` by which its requests are signed")
	fl.StringVar(&f.owner, "owner", "", "`WHO` looks after it")
	fl.StringVar(&f.closed, "closed", "", "`WHY` it can learn no other anchors")
	fl.StringVar(&f.note, "note", "", "what else is to be known, as `TEXT`")
	session.Register(c, "set", s.TrustSets)
	session.Register(c, "receiver", s.Receivers)
	session.Register(c, "template", s.Templates)
}

// onto says what was typed of a party, and leaves the rest.
func (f *said) onto(p trust.Party, cmd *cobra.Command) trust.Party {
	typed := func(flag string) bool { return cmd.Flags().Changed(flag) }
	for flag, into := range map[string]*[]string{"endpoint": &p.Endpoints, "platform": &p.Platforms, "set": &p.Sets} {
		if typed(flag) {
			*into = nonEmpty(map[string][]string{"endpoint": f.endpoints, "platform": f.platforms, "set": f.sets}[flag])
		}
	}
	for flag, x := range map[string]struct{ into, from *string }{"receiver": {&p.Receiver, &f.receiver},
		"template": {&p.Template, &f.template}, "owner": {&p.Owner, &f.owner}, "closed": {&p.Closed, &f.closed},
		"note": {&p.Note, &f.note}} {
		if typed(flag) {
			*x.into = strings.TrimSpace(*x.from)
		}
	}
	return p
}

func nonEmpty(list []string) []string {
	out := []string{}
	for _, x := range list {
		if x = strings.TrimSpace(x); x != "" {
			out = append(out, x)
		}
	}
	return out
}

func add(s *session.Session) *cobra.Command {
	var f said
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Add a party",
		Long: `Add a machine, a device or a person. Where a command takes --party NAME, the party's record
fills in the options: the template and receiver for sign, the receiver for handover, the
platforms and the set for kits.`,
		Example: `  ironseal party add quay-gate-3 --endpoint quay-gate-3.ternbay.example:443 --receiver nginx --template web-server`,
		Args:    session.Exactly(1, "a name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			head, err := parties.Add(cmd.Context(), e, []trust.Party{f.onto(trust.Party{Name: args[0]}, cmd)})
			if err != nil {
				return err
			}
			return done(s, "put on record:", args, head.String())
		},
	}
	f.add(s, c)
	return c
}

func done(s *session.Session, what string, names []string, head string) error {
	if s.JSON {
		return s.PrintJSON(map[string]any{"parties": names, "journal_head": head})
	}
	s.Out.Say("%s %s   journal %s", s.Out.Paint(term.Good, "✓ "+what), strings.Join(names, ", "), head)
	return nil
}

func change(s *session.Session) *cobra.Command {
	var f said
	c := &cobra.Command{
		Use:   "change PARTY",
		Short: "Change a party",
		Long:  "Change a party. Only what you give with an option changes.",
		Example: `  ironseal party change quay-gate-3 --owner "harbour technicians"
  ironseal party change quay-gate-3 --closed "firmware 2.1 trusts only its maker's list"`,
		Args: session.Exactly(1, "a party"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			before, err := parties.Find(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			head, err := parties.Change(cmd.Context(), e, before, f.onto(before, cmd))
			if err != nil {
				return err
			}
			return done(s, "changed:", args, head.String())
		},
		ValidArgsFunction: s.Parties,
	}
	f.add(s, c)
	return c
}

func remove(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "remove PARTY...",
		Short:   "Remove parties; their certificates stay on record",
		Example: "  ironseal party remove quay-gate-3",
		Args:    session.AtLeast(1, "a party"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if err := s.Agree(cmd.Context(), fmt.Sprintf("Take out %s?", span.Count(len(args), "party"))); err != nil {
				return err
			}
			head, err := parties.Remove(cmd.Context(), e, args)
			if err != nil {
				return err
			}
			return done(s, "taken out:", args, head.String())
		},
		ValidArgsFunction: s.Parties,
	}
}

func importAll(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "import FILE.csv",
		Short: "Add or change the parties in a table",
		Long: `Read a table whose columns are party, endpoint, platform, set, receiver, template, owner, closed
and note, in any order. Separate several values in one cell with blanks. If a
row is wrong, no row is imported; it says what is wrong with each.`,
		Example: "  ironseal party import ../parties.csv",
		Args:    session.Exactly(1, "a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			data, err := disk.Read(s.Path(args[0]), bundle.MostBytes)
			if err != nil {
				return err
			}
			rows, err := trust.ReadParties(data)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			var all []trust.Party
			var failed []session.Failure
			for _, r := range rows {
				if r.Err == nil {
					r.Err = parties.Check(e, r.Party)
				}
				if r.Err != nil {
					failed = append(failed, session.Failure{Name: fmt.Sprintf("line %d", r.Line), Why: r.Err.Error()})
					continue
				}
				all = append(all, r.Party)
			}
			if len(failed) > 0 {
				s.DrawFailures(failed)
				return fmt.Errorf("%s: %s cannot be used, and nothing was taken", args[0], span.Count(len(failed),
					"row"))
			}
			head, err := parties.Import(cmd.Context(), e, all)
			if errors.Is(err, parties.ErrNothing) {
				return done(s, "everything is as the table says:", []string{span.Count(len(all), "party")}, "as it was")
			}
			if err != nil {
				return err
			}
			return done(s, "on record:", []string{span.Count(len(all), "party")}, head.String())
		},
	}
}
