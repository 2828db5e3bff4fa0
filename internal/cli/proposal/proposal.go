// Package proposal has the commands about what waits for the agreement of several operators.
package proposal

import (
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/proposals"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/fault"
	"ironseal/pki/span"
)

// Command is ironseal proposal.
func Command(s *session.Session) *cobra.Command {
	return session.Group("proposal", "Acts that wait for the agreement of several operators", session.Reading(list(s)),
		session.Reading(show(s)), complete(s))
}

func list(s *session.Session) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:     "list",
		Short:   "List what waits for agreement, or to be done",
		Example: "  ironseal proposal list\n  ironseal proposal list --all",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			every, err := proposals.List(cmd.Context(), e)
			if err != nil {
				return err
			}
			var some []estate.Proposal
			for _, p := range every {
				if all || p.State == estate.ProposalWaiting || p.State == estate.ProposalReady {
					some = append(some, p)
				}
			}
			return drawList(s, some)
		},
	}
	c.Flags().BoolVar(&all, "all", false, "those too that were done, or ended otherwise")
	s.QuietFlag(c, "the names")
	return c
}

func drawList(s *session.Session, list []estate.Proposal) error {
	if s.JSON {
		out := s.NewList()
		for _, p := range list {
			if err := out.Add(api.ProposalOf(p)); err != nil {
				return err
			}
		}
		return out.End()
	}
	if s.Quiet {
		for _, p := range list {
			s.Out.Say("%s", p.Name)
		}
		return nil
	}
	if len(list) == 0 {
		return s.Nothing("Nothing waits for agreement.")
	}
	var rows [][]term.Cell
	for _, p := range list {
		rows = append(rows, []term.Cell{{Text: p.Name, Tone: term.Strong}, {Text: p.Title}, {Text: string(p.State),
			Tone: tone(p.State)}, {Text: strings.Join(p.Agree, ", ")}, {Text: span.Count(p.Need, "operator")},
			{Text: p.Ends.Format("2006-01-02"), Tone: term.Quiet}})
	}
	s.Out.Table([]string{"", "what", "state", "agree", "need", "until"}, rows, "until", "need")
	return nil
}

func tone(state estate.ProposalState) term.Tone {
	switch state {
	case estate.ProposalReady, "done":
		return term.Good
	case estate.ProposalWaiting:
		return term.Careful
	}
	return term.Quiet
}

func find(cmd *cobra.Command, s *session.Session, name string) (*estate.Estate, estate.Proposal, error) {
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return nil, estate.Proposal{}, err
	}
	p, err := e.Proposal(cmd.Context(), name)
	return e, p, err
}

func show(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "show PROPOSAL",
		Short:   "Show a proposal, who agrees, and the command that it is",
		Example: "  ironseal proposal show P1",
		Args:    session.Exactly(1, "the proposal, such as P1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, p, err := find(cmd, s, args[0])
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(api.ProposalOf(p))
			}
			s.Out.Say("%s  %s  %s", s.Out.Paint(term.Strong, p.Name), term.Safe(p.Title), s.Out.Paint(tone(p.State),
				string(p.State)))
			for _, line := range [][2]string{{"proposed by", p.By + ", " + p.At.Format("2006-01-02 15:04 UTC")},
				{"agree", strings.Join(p.Agree, ", ")}, {"need", span.Count(p.Need, "operator")},
				{"until", p.Ends.Format("2006-01-02 15:04 UTC")}, {"digest", p.Digest},
				{"command", typed(s, p.Args)}, {"why", p.Why}} {
				if line[1] != "" {
					s.Out.Pair(2, 13, line[0], term.Safe(line[1]))
				}
			}
			switch p.State {
			case estate.ProposalWaiting:
				s.Next(session.Hint{Why: "see the sheet, and approve", Command: "ironseal approve " + p.Name})
			case estate.ProposalReady:
				s.Next(session.Hint{Why: "do it", Command: "ironseal proposal complete " + p.Name})
			}
			return nil
		},
	}
}

// typed is a command line as a person would type it.
func typed(s *session.Session, args []string) string {
	out := "ironseal"
	for _, a := range args {
		out += " " + s.Shell.Word(a)
	}
	return out
}

// Approve is ironseal approve.
func Approve(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "approve PROPOSAL",
		Short: "See what is proposed, and agree to it",
		Long: `Plan again what was proposed, at this machine, show it, and ask. Your agreement is your signature over
the digest of what you saw. Where what would be done is no longer what was proposed, nothing is asked.

Each operator counts once. No key of an authority is opened.`,
		Example: "  ironseal approve P1",
		Args:    session.Exactly(1, "the proposal, such as P1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			p, err := proposals.Open(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			return s.Rerun(cmd.Context(), p.Args, &session.Under{Proposal: p, Approving: true})
		},
	}
}

func complete(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "complete PROPOSAL",
		Short: "Do what enough operators agreed to",
		Long: `Do what was proposed, once enough operators agreed to it. Whoever can open the key does it. What is done
is what they saw, or nothing: where it would be something else, the proposal is void.`,
		Example: "  ironseal proposal complete P1",
		Args:    session.Exactly(1, "the proposal, such as P1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			p, err := proposals.Open(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			if p.State != estate.ProposalReady {
				return fault.New(fault.Refused, "%s: %d of %d agree: nothing was done", p.Name, len(p.Agree), p.Need)
			}
			return s.Rerun(cmd.Context(), p.Args, &session.Under{Proposal: p})
		},
	}
}

// Object is ironseal object.
func Object(s *session.Session) *cobra.Command {
	var because string
	c := &cobra.Command{
		Use:     "object PROPOSAL --because TEXT",
		Short:   "Object to a proposal, which ends it",
		Example: `  ironseal object P1 --because "the name is misspelt"`,
		Args:    session.Exactly(1, "the proposal, such as P1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			head, err := proposals.End(cmd.Context(), e, args[0], "objected", because)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"proposal": args[0], "journal_head": head.String()})
			}
			s.Out.Say("%s %s   %s", s.Out.Paint(term.Good, "✓ ended:"), args[0], s.Out.Paint(term.Quiet,
				"journal "+head.String()))
			return nil
		},
	}
	c.Flags().StringVar(&because, "because", "", "the reason, a `TEXT` for the journal")
	return c
}
