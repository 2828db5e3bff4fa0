package changeover

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/ca/rollover"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/probe"
	"ironseal/internal/report/chart"
	"ironseal/internal/term"
	"ironseal/pki/span"
	"ironseal/pki/trust"
)

// looks are how the states of parties are shown, in the order in which they are listed: what is
// still to be done comes first.
var looks = []struct {
	state trust.Readiness
	cell  term.Cell
}{
	{trust.NotReady, term.Cell{Text: "✗ not ready", Tone: term.Bad}},
	{trust.Closed, term.Cell{Text: "✗ cannot learn", Tone: term.Bad}},
	{trust.Unknown, term.Cell{Text: "? unknown", Tone: term.Careful}},
	{trust.Ready, term.Cell{Text: "✓ ready", Tone: term.Good}},
}

// drawParties counts who must learn a root, shows those that stand alike in one row, and says
// what would break if it were switched now.
func drawParties(s *session.Session, p rollover.Progress) {
	if len(p.Parties) == 0 {
		return
	}
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Strong, term.Safe("Who must hold "+strings.Join(p.Learn, ", "))))
	s.Out.Say("%s", counted(p.Parties))
	var cells [][]term.Cell
	for _, look := range looks {
		for _, row := range alike(p.Parties, look.state) {
			cells = append(cells, []term.Cell{look.cell, {Text: some(row.parties), Tone: term.Strong, Prose: true},
				{Text: row.because, Prose: true}, {Text: row.when}, {Text: row.owner, Tone: term.Quiet}})
		}
	}
	s.Out.Table([]string{"", "party", "because", "of", "owner"}, cells)
	s.Out.Gap()
	drawBreaks(s, p)
}

// counted says how many parties are ready, and how the others stand.
func counted(list []trust.PartyReadiness) string {
	count := map[trust.Readiness]int{}
	for _, x := range list {
		count[x.State]++
	}
	out := fmt.Sprintf("%d of %d ready", count[trust.Ready], len(list))
	for _, look := range looks {
		if n := count[look.state]; n > 0 && look.state != trust.Ready {
			out += fmt.Sprintf(", %d %s", n, look.state)
		}
	}
	return out
}

// together is parties of one state that stand alike.
type together struct {
	parties              []string
	because, when, owner string
}

// alike groups the parties of one state by what that rests on, its day and their owner.
func alike(list []trust.PartyReadiness, state trust.Readiness) (out []*together) {
	seen := map[[3]string]*together{}
	for _, x := range list {
		if x.State != state {
			continue
		}
		k := [3]string{cmp.Or(x.Why, x.By), x.When, x.Owner}
		if seen[k] == nil {
			seen[k] = &together{because: k[0], when: k[1], owner: k[2]}
			out = append(out, seen[k])
		}
		seen[k].parties = append(seen[k].parties, x.Party)
	}
	return out
}

// drawBreaks says what would fail if it were switched now. Of what is not prepared nothing is known.
func drawBreaks(s *session.Session, p rollover.Progress) {
	fails := 0
	for _, b := range p.Breaks {
		fails += b.Count()
	}
	switch {
	case fails > 0:
		s.Out.Say("%s", s.Out.Paint(term.Strong, fmt.Sprintf("If it were switched now, %s would fail",
			span.Count(fails, "connection"))))
	case len(p.Unknown) == 0:
		s.Out.Say("%s a switch now would break nothing that is on record", s.Out.Paint(term.Good, "✓"))
	}
	for _, b := range p.Breaks {
		verb := "refuse"
		if len(b.Clients) == 1 {
			verb = "refuses"
		}
		s.Out.Item(s.Out.Paint(term.Bad, "✗"), term.Safe(fmt.Sprintf("%s %s %s: %s", some(b.Clients), verb,
			some(b.Servers), b.Why)))
	}
	if len(p.Unknown) > 0 {
		s.Out.Item(s.Out.Paint(term.Careful, "?"),
			term.Safe(fmt.Sprintf("it is not known what would break: nothing is prepared for %s", some(p.Unknown))))
	}
}

// some are the first of a list; a terminal is not the place for thousands.
func some(list []string) string {
	const most = 5
	if len(list) <= most+1 {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}

// next is the step that comes next.
func next(c rollover.Progress) session.Hint {
	switch {
	case len(c.Missing) > 0:
		return session.Hint{Why: "prepare the rest", Command: "ironseal changeover prepare " + c.Handle}
	case len(c.Findings()) > 0:
		return session.Hint{Why: "kits for those that are not ready",
			Command: "ironseal changeover plan " + c.Handle + " --out DIR"}
	}
	return session.Hint{Why: "on the day", Command: "ironseal changeover switch " + c.Handle}
}

// draw makes the picture of a change-over.
func draw(s *session.Session, e *estate.Estate, p rollover.Progress, file string) error {
	picture := chart.Progress{Title: fmt.Sprintf("%s: from %s to %s", e.Settings.Organisation.Name, p.Old, p.New),
		Ready: p.ReadyOn(), Now: s.Moment(), Day: p.Day}
	for _, x := range p.Parties {
		switch x.State {
		case trust.Closed:
			picture.Closed++
		case trust.NotReady, trust.Unknown:
			picture.Others++
		}
	}
	data, err := picture.Draw(file)
	if err != nil {
		return &session.Status{Code: session.Usage, Err: err}
	}
	if err := delivery.WriteFile(e, s.Path(file), data); err != nil {
		return err
	}
	if !s.JSON {
		s.Out.Say("%s %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(s.Path(file)))
	}
	return nil
}

func changeoverPlan(s *session.Session) *cobra.Command {
	var out, to, day string
	c := &cobra.Command{
		Use:   "plan HANDLE|SET",
		Short: "Plan a change-over: who must get what, by when, in a safe order",
		Long: `Say who must get what, by when, so that nothing breaks: the new root on every machine before
the first certificate under it is served, and the old root until its last certificate is gone.
With --out, kits are packed for the parties that need the new root.

With --to and --switch-day, plan that the parties of one trust set get another set on that
day, for example because a partner changes its root.`,
		Example: "  ironseal changeover plan services",
		Args:    session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if err := planSets(cmd.Context(), s, e, args[0], to, day); err != nil {
				return err
			}
			p, err := rollover.Of(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			var kits []anchors.Packed
			var untold []string
			if out != "" {
				s.Tidy(out)
				if kits, untold, err = p.Kits(cmd.Context(), e, s.Path(out), s.Yes); err != nil {
					return err
				}
			}
			steps := p.Plan(s.Moment())
			if s.JSON {
				return s.PrintJSON(map[string]any{"steps": api.PlanOf(steps, s.Speller()),
					"kits": append([]anchors.Packed{}, kits...), "without_platform": append([]string{}, untold...)})
			}
			drawPlan(s, steps)
			for _, k := range kits {
				s.Out.Say("%s %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(k.Path))
			}
			for _, n := range untold {
				s.Out.Say("%s %s", s.Out.Paint(term.Careful, "! no platform is on record of"), n)
			}
			s.Next(session.Hint{Why: "how it stands", Command: "ironseal changeover progress " + args[0]})
			return nil
		},
		ValidArgsFunction: s.Handles,
	}
	c.Flags().StringVar(&out, "out", "", "the `DIR` in which a folder of kits is made for each party that has to learn")
	c.Flags().StringVar(&to, "to", "", "the trust `SET` that takes the place of the one named")
	c.Flags().StringVar(&day, "switch-day", "", "the `DAY` from which it does")
	session.Register(c, "to", s.TrustSets)
	return c
}

func drawPlan(s *session.Session, steps []rollover.Step) {
	for i, x := range steps {
		s.Out.Say("%d. %s  %s", i+1, s.Out.Paint(term.Strong, "by "+x.By), term.Safe(x.What))
		s.Out.Wrapped(3, term.Normal, term.Safe(strings.Join(x.Whom, ", ")))
		if !x.Next.IsZero() {
			s.Out.Wrapped(3, term.Quiet, "→ "+s.Speller().Command(x.Next))
		}
	}
	if len(steps) == 0 {
		s.Out.Say("Nothing is to be done: no party has to learn a root, and no certificate is to be prepared.")
	}
}

func changeoverRecord(s *session.Session) *cobra.Command {
	var because string
	var byProbe bool
	c := &cobra.Command{
		Use:   "record HANDLE|SET PARTY...",
		Short: "Record that parties have the new root",
		Long: `Record that parties have the new root, and how you know. The reports of the kits' scripts do
the same: ironseal trust record.

With --probe it looks at the endpoints of all parties. A server that asks for client
certificates says which roots it accepts.`,
		Example: "  ironseal changeover record services quay-gate-3 --because \"seen on its screen\"",
		Args:    session.AtLeast(1, "a handle or a set"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if byProbe {
				if len(args) > 1 || because != "" {
					return session.Misused("changeover record: --probe looks at all parties, and says itself how " +
						"it is known")
				}
				return recordProbed(cmd.Context(), s, e, args[0])
			}
			if len(args) < 2 || strings.TrimSpace(because) == "" {
				return session.Misused("changeover record: name parties, and say how it is known: --because TEXT")
			}
			head, err := rollover.Confirm(cmd.Context(), e, args[0], args[1:], because)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"parties": args[1:], "journal_head": head.String()})
			}
			s.Out.Say("%s %s   journal %s", s.Out.Paint(term.Good, "✓ confirmed:"), strings.Join(args[1:], ", "), head)
			return nil
		},
		ValidArgsFunction: s.Handles,
	}
	c.Flags().StringVar(&because, "because", "", "how it is known, as `TEXT`")
	c.Flags().BoolVar(&byProbe, "probe", false, "look at the endpoints of all parties, and take what they tell")
	return c
}

// recordProbed looks at the parties, and shows what they told.
func recordProbed(ctx context.Context, s *session.Session, e *estate.Estate, name string) error {
	list, head, err := rollover.ConfirmByProbe(ctx, e, name, probe.Options{})
	if err != nil {
		return err
	}
	if s.JSON {
		return s.PrintJSON(map[string]any{"looks": append([]rollover.Probed{}, list...),
			"journal_head": head.String()})
	}
	var cells [][]term.Cell
	for _, x := range list {
		mark := term.Cell{Text: "· tells nothing", Tone: term.Quiet}
		switch {
		case x.Has:
			mark = term.Cell{Text: "✓ ready", Tone: term.Good}
		case x.Told:
			mark = term.Cell{Text: "✗ not ready", Tone: term.Bad}
		}
		cells = append(cells, []term.Cell{mark, {Text: x.Party, Tone: term.Strong}, {Text: x.Words, Prose: true},
			{Text: x.Endpoint, Tone: term.Quiet}})
	}
	if len(cells) == 0 {
		s.Out.Say("None of the parties has an endpoint on record.")
		return nil
	}
	s.Out.Table([]string{"", "party", "because", "endpoint"}, cells)
	return nil
}

func changeoverFinish(s *session.Session) *cobra.Command {
	var out string
	c := &cobra.Command{
		Use:   "finish HANDLE|SET --out DIR",
		Short: "Pack the kits that remove the old root from machines",
		Long: `Pack kits that remove the old root, for every party. It is refused while a valid certificate
still depends on that root. The READ-ME of each kit says what to do.`,
		Example: "  ironseal changeover finish services --out ../gone",
		Args:    session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return session.Misused("changeover finish: say where the kits go: --out DIR")
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			s.Tidy(out)
			kits, err := rollover.Finish(cmd.Context(), e, args[0], s.Path(out), s.Yes)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(append([]anchors.Packed{}, kits...))
			}
			for _, k := range kits {
				s.Out.Say("%s %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(k.Path))
			}
			if len(kits) == 0 {
				s.Out.Say("No party with a platform on record holds it.")
			}
			return nil
		},
		ValidArgsFunction: s.Handles,
	}
	c.Flags().StringVar(&out, "out", "", "the `DIR` in which a folder of kits is made for each party")
	return c
}
