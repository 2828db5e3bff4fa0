package trust

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/kit"
	"ironseal/pki/span"
)

func recordReports(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "record FILE...",
		Short: "Import the reports that the kits' scripts wrote on machines",
		Long: `Import the reports that kits' scripts write with --report: a line of JSON for each store, saying which
roots it has. One file may hold many; - reads standard input. A report counts only for the
machine that it names.`,
		Example: "  ironseal trust record ../reports.json",
		Args:    session.AtLeast(1, "a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			inputs, err := s.Inputs(args)
			if err != nil {
				return err
			}
			var list []kit.Report
			for _, in := range inputs {
				reports, err := kit.ReadReports(in.Data, s.Moment())
				if err != nil {
					return fmt.Errorf("%s: %w", in.Name, err)
				}
				list = append(list, reports...)
			}
			if len(list) == 0 {
				return fmt.Errorf("there is no report in %s", strings.Join(args, ", "))
			}
			head, err := anchors.Record(cmd.Context(), e, list)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"reports": len(list), "journal_head": head.String()})
			}
			s.Out.Say("%s %s   journal %s", s.Out.Paint(term.Good, "✓ took in"), span.Count(len(list), "report"), head)
			s.Next(session.Hint{Why: "who trusts what", Command: "ironseal trust machines"})
			return nil
		},
	}
}

func machines(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "machines [SET]",
		Short:   "Show which machines have the roots of a set, by their last report",
		Example: "  ironseal trust machines",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, set, err := setOf(cmd.Context(), s, args)
			if err != nil {
				return err
			}
			list, err := anchors.Places(cmd.Context(), e)
			if err != nil {
				return err
			}
			if s.JSON {
				out := []api.Machine{}
				for _, p := range list {
					out = append(out, api.Machine{Host: p.Host, Platform: p.Platform, Store: p.Store,
						When: api.Time(p.When), Missing: append([]string{}, p.Lacks(set)...)})
				}
				return s.PrintJSON(out)
			}
			if len(list) == 0 {
				s.Out.Say("No machine has reported yet: kits' scripts do, with --report FILE, for trust record.")
				return nil
			}
			var cells [][]term.Cell
			for _, p := range list {
				has := term.Cell{Text: "✓ all there", Tone: term.Good}
				if lacks := p.Lacks(set); len(lacks) > 0 {
					has = term.Cell{Text: "✗ lacks " + term.Safe(strings.Join(lacks, ", ")), Tone: term.Bad}
				}
				cells = append(cells, []term.Cell{{Text: p.Host, Tone: term.Strong}, {Text: p.Platform}, has,
					{Text: p.When.Format("2006-01-02")}, {Text: p.Store, Tone: term.Quiet}})
			}
			s.Out.Table([]string{"machine", "platform", "set " + set.Name, "reported", "store"}, cells)
			return nil
		},
		ValidArgsFunction: s.TrustSets,
	}
}
