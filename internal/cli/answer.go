package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/cert"
	"ironseal/pki/describe"
)

func (s *session) certificateAccept() *cobra.Command {
	var waive []string
	var because string
	c := &cobra.Command{
		Use:   "accept FILE...",
		Short: "Take in a certificate that an outside authority signed for a request of ours",
		Long: `Match a returned certificate to the waiting request with the same key, check it
against what was asked, and take it in with its chain. It can then be exported
and handed over like any other.

A certificate that an authority of this estate signed, and that is not on record
because it was issued after the backup that was restored, is taken in again.`,
		Args: atLeast(1, "the returned file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			w, err := waivers(waive, because)
			if err != nil {
				return err
			}
			var list []*cert.Certificate
			for _, a := range args {
				more, err := s.certificatesIn(a)
				if err != nil {
					return err
				}
				list = append(list, more...)
			}
			e, err := s.estate(ctx)
			if err != nil {
				return err
			}
			a, err := e.MatchAnswer(ctx, list, w)
			if err != nil {
				return err
			}
			o := describe.Certificate(a.Leaf, s.now())
			o.Findings = append(o.Findings, a.Findings...)
			if !s.json {
				s.out.Say("%s", s.out.Paint(term.Strong, answersWhat(a)))
				s.out.Describe(o, false)
				s.out.Gap()
			}
			if r := a.Findings.Refusing(); len(r) > 0 {
				return refusal(a.Record.Number, r)
			}
			if err := s.agree(ctx, "Take it in?"); err != nil {
				return err
			}
			head, err := e.Accept(ctx, a)
			if err != nil {
				return err
			}
			if s.json {
				o.Add("request", "Request", a.About())
				o.Add("journal_head", "Journal", head.String())
				return s.printJSON(o)
			}
			s.out.Say("%s %s, %s, signed by %s   %s", s.out.Paint(term.Good, "✓ taken in"), term.Safe(a.About()), term.Safe(a.Leaf.Title()), term.Safe(a.Leaf.Issuer.String()), s.out.Paint(term.Quiet, "journal "+head.String()))
			s.next(estate.Advice{Why: "hand it over", Command: "ironseal certificate handover " + a.Leaf.SerialHex()[:8] + " --for RECEIVER"})
			return nil
		},
	}
	s.waiverFlags(c, &waive, &because)
	return c
}

func answersWhat(a estate.Answer) string {
	if a.Record.Number == 0 {
		return "An authority of this estate signed this, and it is not on record"
	}
	return fmt.Sprintf("This answers R%d, %s", a.Record.Number, term.Safe(a.Record.Title))
}
