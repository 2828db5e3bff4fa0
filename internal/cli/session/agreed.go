package session

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ironseal/internal/app/proposals"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/term"
	"ironseal/pki/fault"
	"ironseal/pki/span"
)

// Some commands need the agreement of several operators. The same command shows its sheet to each of them: whoever
// gives
// it first proposes; approve lets it run again to show what would be done, and asks; the last time it runs, it acts.

// Under is the proposal that a command runs for.
type Under struct {
	estate.Proposal
	Approving bool // the person is asked, and nothing is done; else it is done, as it was agreed to
}

// Agreement is what a person agrees to.
type Agreement struct {
	Act      event.Event // the act that it becomes
	Need     int         // how many must agree
	Digest   [32]byte    // of all that is agreed to
	Planned  time.Time   // the moment for which it is planned; zero where that does not matter
	Title    string      // in a few words
	Question string
	Args     []string // the command's arguments, where they are not those that were typed
}

// Opens reports whether a command that needs so many opens keys now: what is only proposed or approved opens none.
func (s *Session) Opens(need int) bool {
	if s.Under != nil {
		return !s.Under.Approving
	}
	return need < 2
}

// AgreeTo asks a person, or lets a command continue that enough people agreed to. Where others have to agree first, it
// records a proposal, or an approval, says so, and stops the command without an error.
func (s *Session) AgreeTo(ctx context.Context, e *estate.Estate, a Agreement) error {
	switch {
	case s.Under != nil:
		return s.underProposal(ctx, e, a)
	case a.Need < 2:
		return s.Agree(ctx, a.Question)
	}
	if err := e.Allowed(ctx, a.Act.Act()); err != nil {
		return err
	}
	if err := s.Agree(ctx, fmt.Sprintf("%d operators must agree. Propose it?", a.Need)); err != nil {
		return err
	}
	name, head, err := proposals.Propose(ctx, e, proposals.Ask{Act: a.Act.Act(), Title: a.Title, Args: s.argv(a.Args),
		Digest: a.Digest, Need: a.Need, Planned: a.Planned})
	if err != nil {
		return err
	}
	if s.JSON {
		err = s.PrintJSON(map[string]any{"proposal": name, "need": a.Need, "journal_head": head.String()})
	} else {
		s.Out.Say("%s %s, %s: %s   %s", s.Out.Paint(term.Good, "✓ proposed:"), name, term.Safe(a.Title),
			span.Count(a.Need-1, "approval")+" more", s.Out.Paint(term.Quiet, "journal "+head.String()))
		s.Next(Hint{Why: "another operator looks, and approves", Command: "ironseal approve " + name})
	}
	return stopped(err)
}

// stopped ends a command that has done what it can.
func stopped(err error) error {
	if err != nil {
		return err
	}
	return &Status{Done, nil}
}

func (s *Session) underProposal(ctx context.Context, e *estate.Estate, a Agreement) error {
	p := s.Under
	if hex.EncodeToString(a.Digest[:]) != p.Digest {
		err := fault.New(fault.Changed, "%s: what would be done is not what was proposed: something that it "+
			"depends on has "+
			"changed. Nothing was done", p.Name)
		if p.Approving {
			return err
		}
		if _, endErr := proposals.End(ctx, e, p.Name, "void", "what it depends on has changed"); endErr != nil {
			return fmt.Errorf("%w: %w", err, endErr)
		}
		return err
	}
	if !p.Approving {
		e.Env.Approved.Digest = a.Digest
		return nil
	}
	if err := s.Agree(ctx, fmt.Sprintf("Approve %s as shown?", p.Name)); err != nil {
		return err
	}
	now, head, err := proposals.Approve(ctx, e, p.Name, a.Digest)
	if err != nil {
		return err
	}
	if s.JSON {
		return stopped(s.PrintJSON(map[string]any{"proposal": now.Name, "state": string(now.State), "agree": now.Agree,
			"need": now.Need, "journal_head": head.String()}))
	}
	s.Out.Say("%s %s   %s", s.Out.Paint(term.Good, "✓ approved:"), now.Name, s.Out.Paint(term.Quiet, "journal "+head.
		String()))
	if now.State == estate.ProposalReady {
		s.Next(Hint{Why: "enough agree: whoever can open the key does it",
			Command: "ironseal proposal complete " + now.Name})
	} else {
		s.Out.Say("  %s more", span.Count(now.Need-len(now.Agree), "approval"))
	}
	return stopped(nil)
}

// Running tells the session which command runs, with which arguments.
func (s *Session) Running(cmd *cobra.Command, args []string) { s.command, s.arguments = cmd, args }

// argv is the command that runs, with these arguments, and without the options that are about one machine or person.
func (s *Session) argv(args []string) []string {
	if args == nil {
		args = s.arguments
	}
	out := append(strings.Fields(s.command.CommandPath())[1:], args...)
	s.command.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
		if !f.Changed {
			return
		}
		if list, ok := f.Value.(pflag.SliceValue); ok {
			for _, v := range list.GetSlice() {
				out = append(out, "--"+f.Name+"="+v)
			}
			return
		}
		if v := f.Value.String(); v != "" {
			out = append(out, "--"+f.Name+"="+v)
		}
	})
	return out
}

// DigestOf is the digest of what a person agrees to, where it is no plan of a certificate: each part with its length.
func DigestOf(parts ...string) [32]byte {
	h := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(h, "%d:%s", len(p), p)
	}
	return [32]byte(h.Sum(nil))
}
