package certificate

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ca/external"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/describe"
)

func certificateAccept(s *session.Session) *cobra.Command {
	var waive, anchors []string
	var because string
	var ask external.AnswerAsk
	c := &cobra.Command{
		Use:     "import FILE...",
		Aliases: []string{"take-in"}, // as it was called before
		Short:   "Import a certificate that an outside authority signed for a request of ours",
		Long: `Match a returned certificate with the request of the same key, check it against what was asked,
and import it with its chain. Then it can be exported and handed over like any other.

If the request went out by another way than a transfer folder, name it with --request. The
chain must reach a root that is on record or given with --anchor. A root that only came along
in the file does not count.

It also imports a certificate that this estate signed and that is missing from the records
because it was issued after the backup that you restored.`,
		Example: "  ironseal certificate import ../answer.p7b --request R5",
		Args:    session.AtLeast(1, "the returned file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			var err error
			if ask.Waivers, err = session.Waivers(waive, because); err != nil {
				return err
			}
			if ask.List, err = s.CertificatesInAll(args); err != nil {
				return err
			}
			if ask.Anchors, err = s.CertificatesInAll(anchors); err != nil {
				return err
			}
			return takeIn(ctx, s, ask)
		},
	}
	c.Flags().StringArrayVar(&anchors, "anchor", nil, "a `FILE` with a root that you trust; may be repeated")
	c.Flags().StringVar(&ask.Request, "request", "",
		"the `REQUEST` that it answers, where that was not recorded as sent")
	session.Register(c, "request", s.Requests)
	s.WaiverFlags(c, &waive, &because)
	return c
}

func takeIn(ctx context.Context, s *session.Session, ask external.AnswerAsk) error {
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	a, err := external.MatchAnswer(ctx, e, ask)
	if err != nil {
		return err
	}
	o := describe.Certificate(a.Leaf, s.Moment())
	o.Findings = append(o.Findings, a.Findings...)
	if !s.JSON {
		s.Out.Say("%s", s.Out.Paint(term.Strong, answersWhat(a)))
		s.Out.Describe(o, false)
		s.Trusted(ask.Anchors)
		s.Out.Gap()
	}
	if r := a.Findings.Refusing(); len(r) > 0 {
		return session.Refusal(a.About(), "nothing was imported", r)
	}
	if err := s.Agree(ctx, "Import it?"); err != nil {
		return err
	}
	head, err := external.Accept(ctx, e, a)
	if err != nil {
		return err
	}
	if s.JSON {
		o.Add("request", "Request", a.About())
		o.Add("journal_head", "Journal", head.String())
		return s.PrintJSON(o)
	}
	s.Out.Say("%s %s, %s, signed by %s   %s", s.Out.Paint(term.Good, "✓ imported"), term.Safe(a.About()),
		term.Safe(a.Leaf.Title()), term.Safe(a.Leaf.Issuer.String()),
		s.Out.Paint(term.Quiet, "journal "+head.String()))
	s.Next(session.Hint{Why: "hand it over",
		Command: "ironseal certificate handover " + a.Leaf.Serial.Short() + " --for RECEIVER"})
	return nil
}

func answersWhat(a external.Answer) string {
	if a.Record.Number == 0 {
		return "An authority of this estate signed this, and it is not on record"
	}
	return fmt.Sprintf("This answers R%d, %s", a.Record.Number, term.Safe(a.Record.Title))
}
