package request

import (
	"context"
	"errors"
	"fmt"
	"ironseal/internal/api"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/describe"
	"ironseal/pki/finding"
	"ironseal/pki/journal"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"strings"
)

// fewReceived is up to how many requests each is shown in full.
const fewReceived = 3

// receiveAll receives what files, directories and a paste bring, and shows it as it is recorded.
func receiveAll(ctx context.Context, s *session.Session, e *estate.Estate, args []string, from string) error {
	var sources []intake.Source
	for _, a := range args {
		sources = append(sources, intake.SourceOf(s.Path(a), s.Input))
	}
	defer s.Out.InBlocks()()
	var first []intake.Received // until it is known whether they are few
	var list *session.List
	var faults []error
	var head journal.Head
	many, count := false, 0
	if s.JSON {
		list = s.NewList()
	}
	err := intake.Stream(ctx, e, sources, from, func(p intake.Part) error {
		faults = append(faults, p.Faults...)
		if len(p.Received) > 0 {
			head = p.Head
		}
		count += len(p.Received)
		switch {
		case list != nil:
			for _, r := range p.Received {
				row := api.RequestOf(r.Record)
				row.Known = r.Known
				if err := list.Add(row); err != nil {
					return err
				}
			}
			return nil
		case !many && count <= fewReceived:
			first = append(first, p.Received...)
			return nil
		}
		show := append(first, p.Received...)
		first = nil
		err := drawAll(ctx, s, e, show, many, true)
		many = true
		return err
	})
	if list != nil {
		err = errors.Join(err, list.End())
	} else {
		err = errors.Join(err, drawAll(ctx, s, e, first, false, false))
	}
	switch {
	case s.JSON:
	case count == 1 && len(first) == 1 && first[0].Record.State == lifecycle.Waiting:
		s.Next(afterReceipt(first[0], fmt.Sprintf("R%d", first[0].Record.Number)))
	case count > 1:
		received(s, count, head)
	}
	return errors.Join(append(faults, err)...)
}

func drawAll(ctx context.Context, s *session.Session, e *estate.Estate, list []intake.Received, after,
	brief bool) error {
	for i, r := range list {
		if i > 0 || after {
			s.Out.Gap()
		}
		if err := drawReceived(ctx, s, e, r, brief); err != nil {
			return err
		}
	}
	return nil
}

// received says how many requests were received.
func received(s *session.Session, count int, head journal.Head) {
	s.Out.Say("%s", s.Out.Paint(term.Quiet, fmt.Sprintf("%d requests received   journal %s", count, head)))
	s.Next(session.Hint{Why: "see what waits", Command: "ironseal request list"})
}

// afterReceipt is the next step after a request was imported: one that no one can sign is declined.
func afterReceipt(r intake.Received, name string) session.Hint {
	for _, f := range describe.Request(r.Request).Findings {
		if f.Severity == finding.Refused {
			return session.Hint{Why: "it cannot be signed (" + string(f.Code) + "): decline it, and ask for another",
				Command: "ironseal request decline " + name + " --because TEXT"}
		}
	}
	return session.Hint{Why: "compare the check code with the sender, then sign", Command: "ironseal sign " + name}
}

func drawReceived(ctx context.Context, s *session.Session, e *estate.Estate, r intake.Received, brief bool) error {
	name := fmt.Sprintf("R%d", r.Record.Number)
	verb := "✓ received as " + name
	if r.Known {
		verb = fmt.Sprintf("· known already as %s, %s", name, r.Record.State)
	}
	s.Out.Say("%s  %s", s.Out.Paint(term.Good, verb), s.Out.Paint(term.Quiet, term.Safe("from "+r.Source)))
	if len(r.Remarks) > 0 {
		s.Out.Say("  %s", s.Out.Paint(term.Quiet, "cleaned up: "+strings.Join(r.Remarks, ", ")))
	}
	if brief {
		s.Out.Say("  %s  %s", term.Safe(r.Request.Title()), s.Out.Paint(term.Accent, label.CheckCode(r.Request.Raw)))
		return nil
	}
	o := describe.Request(r.Request)
	related, err := intake.Related(ctx, e, r.Request)
	o.Findings = append(o.Findings, related...)
	s.Out.Describe(o, false)
	return err
}
