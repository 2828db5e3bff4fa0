package authority

import (
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/cli/session"
	"ironseal/internal/event"
	"ironseal/internal/term"
	"ironseal/pki/describe"
	"ironseal/pki/label"
)

func authorityCross(s *session.Session) *cobra.Command {
	var f authorityFlags
	c := &cobra.Command{
		Use:   "cross AUTHORITY OTHER",
		Short: "Sign a cross-certificate for another authority, such as a partner's root",
		Long: `Sign a cross-certificate: AUTHORITY certifies the name and the key of OTHER. Clients that trust
AUTHORITY then accept what OTHER signs, within --may-certify.

A partner's root is put on record first, from its certificate: ironseal authority adopt.
The certificate is revoked like any other, by its serial.`,
		Example: `  ironseal authority cross root skua --may-certify skua.ternbay.example
  ironseal authority cross root newroot --may-certify ternbay.example`,
		Args: session.Exactly(2, "two authorities: the one that signs, and the other one"),
		RunE: func(cmd *cobra.Command, args []string) error {
			one, err := f.ask(args[1])
			if err != nil {
				return err
			}
			return cross(s, cmd, authorities.CrossAsk{By: args[0], To: args[1], Lifetime: one.Lifetime,
				LevelsBelow: one.PathLength, Permit: one.Permit, Exclude: one.Exclude, Waivers: one.Waivers})
		},
		ValidArgsFunction: s.Handles,
	}
	fl := c.Flags()
	fl.StringVar(&f.lifetime, "lifetime", "", "how long it lives: 10y, 18m, 397d")
	f.limits(c)
	s.WaiverFlags(c, &f.waive, &f.because)
	return c
}

func cross(s *session.Session, cmd *cobra.Command, ask authorities.CrossAsk) error {
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return err
	}
	p, err := authorities.PlanCross(cmd.Context(), e, ask)
	if err != nil {
		return err
	}
	need := e.Needs(event.CrossCertified{})
	if s.Opens(need) {
		if err := p.Ready(cmd.Context(), e); err != nil {
			return err
		}
	}
	if !s.JSON {
		s.Out.Sheet(fmt.Sprintf("cross-certificate for %s", p.To.Label()), "", p.Plan, label.Code(p.Plan.Digest()),
			p.Head.String())
		s.Out.Gap()
	}
	if len(p.Plan.Findings.Refusing()) == 0 {
		if err := s.AgreeTo(cmd.Context(), e, session.Agreement{Act: event.CrossCertified{}, Need: need,
			Digest: p.Plan.Digest(), Planned: p.Plan.Moment(), Title: fmt.Sprintf("let %s vouch for %s", p.By.
				Label(), p.To.Label()),
			Question: fmt.Sprintf("Let %s vouch for %s as shown, until %s?", p.By.Label(), p.To.Label(),
				p.Plan.Draft.NotAfter.Format("2006-01-02"))}); err != nil {
			return err
		}
	}
	made, head, err := authorities.Cross(cmd.Context(), e, p)
	if err != nil {
		return err
	}
	if s.JSON {
		o := describe.Certificate(made, s.Moment())
		o.Add("journal_head", "Journal", head.String())
		return s.PrintJSON(o)
	}
	s.Out.Say("%s %s vouches for %s, until %s", s.Out.Paint(term.Good, "✓"), p.By.Label(), p.To.Label(),
		made.NotAfter.Format("2006-01-02"))
	s.Out.Say("  check code %s   journal %s", s.Out.Paint(term.Accent, label.CheckCode(made.Raw)), head)
	s.Next(session.Hint{Why: "hand it out, for the chain files of what " + p.To.Authority.Handle + " signs",
		Command: "ironseal certificate export " + made.Serial.Short() + " --out FILE"})
	return nil
}
