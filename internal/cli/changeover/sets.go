package changeover

import (
	"context"
	"fmt"
	"strings"

	"ironseal/internal/app/ca/rollover"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/finding"
	"ironseal/pki/span"
)

// planSets puts a change-over from a set to another on record, where one was typed.
func planSets(ctx context.Context, s *session.Session, e *estate.Estate, set, to, day string) error {
	if to == "" && day == "" {
		return nil
	}
	if to == "" || day == "" {
		return session.Misused("changeover plan: a change from a set to another needs both --to SET and " +
			"--switch-day DAY")
	}
	t, err := session.ParseTime(day)
	if err != nil {
		return &session.Status{Code: session.Usage, Err: err}
	}
	head, err := rollover.PlanSets(ctx, e, set, to, t)
	if err == nil && !s.JSON {
		s.Out.Say("%s from %s to %s on %s   journal %s", s.Out.Paint(term.Good, "✓ planned:"), set, to, day, head)
	}
	return err
}

func drawSets(s *session.Session, c rollover.Progress) {
	if c.Sets.Switched {
		s.Out.Say("%s took the place of %s", s.Out.Paint(term.Strong, c.New), s.Out.Paint(term.Strong, c.Old))
		s.Next(session.Hint{Why: "machines may forget what was left",
			Command: "ironseal changeover finish " + c.Old + " --out DIR"})
		return
	}
	s.Out.Say("%s takes the place of %s on the switch day, %s, %s", s.Out.Paint(term.Strong, c.New),
		s.Out.Paint(term.Strong, c.Old), c.Day.Format("2006-01-02"), span.Distance(s.Moment(), c.Day))
	drawParties(s, c)
	s.Next(next(c))
}

func switchSets(ctx context.Context, s *session.Session, e *estate.Estate, c rollover.Progress, early bool,
	w []finding.Waiver) error {
	if err := s.Agree(ctx, fmt.Sprintf("Let %s hold %s in the place of %s?", span.Count(len(c.Parties), "party"), c.New,
		c.Old)); err != nil {
		return err
	}
	moved, head, err := rollover.SwitchSets(ctx, e, c.Old, early, w)
	if err != nil {
		return err
	}
	return told(s, "switched:", c.New, moved, head.String())
}

func backSets(ctx context.Context, s *session.Session, e *estate.Estate, c rollover.Progress) error {
	if err := s.Agree(ctx, fmt.Sprintf("Take the change-over from %s to %s back?", c.Old, c.New)); err != nil {
		return err
	}
	moved, head, err := rollover.BackSets(ctx, e, c.Old)
	if err != nil {
		return err
	}
	return told(s, "taken back:", c.Old, moved, head.String())
}

func told(s *session.Session, what, set string, moved []string, head string) error {
	if s.JSON {
		return s.PrintJSON(map[string]any{"set": set, "parties": append([]string{}, moved...), "journal_head": head})
	}
	s.Out.Say("%s %s %s   journal %s", s.Out.Paint(term.Good, "✓ "+what), set, term.Safe(strings.Join(moved, ", ")),
		head)
	return nil
}
