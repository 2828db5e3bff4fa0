package certificate

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/cli/session"
	"ironseal/internal/cli/sign"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/finding"
	"ironseal/pki/span"
)

const aboutRenew = `Renew a certificate: the same names, by the template as it is today. It uses the same request,
or a new one with --request. The sheet shows what differs from before and who holds the old
certificate.

With --revoke-when-replaced the old certificate is revoked as superseded, by the first
ironseal revoke --replaced after a probe saw the new one in use.

With --due, everything that ends within --within is renewed at once.`

// again is what certificate renew can be asked.
type again struct {
	ask                                     renewals.ReissueAsk
	lifetime, within, because, party, after string
	due, revokeOld                          bool
	waive                                   []string
}

func (f *again) flags(s *session.Session, c *cobra.Command) {
	fl := c.Flags()
	fl.StringVar(&f.ask.Request, "request", "", "a new `REQUEST` in the place of the one before")
	fl.StringVar(&f.ask.Template, "template", "", "another template than before")
	fl.StringVar(&f.ask.By, "by", "", "the `HANDLE` of another authority than before")
	fl.StringVar(&f.lifetime, "lifetime", "", "how long it lives")
	fl.BoolVar(&f.revokeOld, "revoke-when-replaced", false,
		"revoke the earlier one once the new one was seen in use")
	fl.StringVar(&f.after, "after", "", "not before this `SPAN` is over")
	fl.BoolVar(&f.due, "due", false, "everything that ends soon")
	s.PartyFlag(c, &f.party, "the one certificate that this `PARTY` holds")
	fl.StringVar(&f.within, "within", "60d", "how far ahead --due looks, a `SPAN`")
	s.WaiverFlags(c, &f.waive, &f.because)
	s.CompleteTemplates(c, "template")
	s.CompleteHandles(c, "by")
}

func certificateRenew(s *session.Session) *cobra.Command {
	var f again
	c := &cobra.Command{
		Use:   "renew [CERTIFICATE]",
		Short: "Renew a certificate",
		Long:  aboutRenew,
		Example: `  ironseal certificate renew booking.ternbay.example
  ironseal certificate renew --due --within 90d`,
		Args: func(cmd *cobra.Command, args []string) error {
			return oneWay(len(args), f.due, f.party != "")
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			var err error
			if f.ask.Waivers, err = session.Waivers(f.waive, f.because); err != nil {
				return err
			}
			if f.ask.Lifetime, err = session.SpanAsked(f.lifetime); err != nil {
				return err
			}
			e, err := s.Estate(ctx)
			if err != nil {
				return err
			}
			if f.due {
				return renewDue(cmd, s, e, f.within, f.ask.Waivers)
			}
			if err := session.OnlyFlags(cmd, "for one certificate", "request", "template", "by", "lifetime", "waive",
				"because", "party", "revoke-when-replaced", "after"); err != nil {
				return err
			}
			wait, err := session.SpanAsked(f.after)
			if err != nil {
				return err
			}
			if f.after != "" && !f.revokeOld {
				return session.Misused("--after says when the earlier one is revoked: it goes with " +
					"--revoke-when-replaced")
			}
			if f.ask.Certificate, err = named(ctx, e, args, f.party); err != nil {
				return err
			}
			sheet, err := renewals.PlanReissue(ctx, e, f.ask)
			if err != nil {
				return err
			}
			if err := sign.SignOne(ctx, s, e, sheet); err != nil || !f.revokeOld {
				return err
			}
			return takeBackLater(ctx, s, e, sheet.Replaces, wait)
		},
		ValidArgsFunction: s.Certificates,
	}
	f.flags(s, c)
	return c
}

// takeBackLater records that a certificate is to be revoked once its successor is in
// use.
func takeBackLater(ctx context.Context, s *session.Session, e *estate.Estate, old int64, wait span.Span) error {
	records, err := e.ReadCertificates(e.Records.CertificateByID(ctx, old))
	if err != nil {
		return err
	}
	head, err := revoking.Schedule(ctx, e, records, wait)
	if err != nil || s.JSON {
		return err
	}
	s.Out.Say("%s serial %s will be revoked once the new one was seen in use   %s", s.Out.Paint(term.Good, "✓ noted:"),
		records[0].Serial.Short(), s.Out.Paint(term.Quiet, "journal "+head.String()))
	s.Next(session.Hint{Why: "see what is in use", Command: "ironseal probe --all --record"},
		session.Hint{Why: "then revoke it", Command: "ironseal revoke --replaced"})
	return nil
}

// oneWay refuses a command that names nothing, or one thing in two ways.
func oneWay(named int, others ...bool) error {
	for _, o := range others {
		if o {
			named++
		}
	}
	if named != 1 {
		return session.Misused("certificate renew needs one certificate, or --party, or --due")
	}
	return nil
}

// named is the certificate that was typed, or the one that a party holds.
func named(ctx context.Context, e *estate.Estate, args []string, party string) (string, error) {
	if party == "" {
		return args[0], nil
	}
	records, err := parties.Serving(ctx, e, party)
	if err != nil {
		return "", err
	}
	return records.SerialHex(), nil
}

func renewDue(cmd *cobra.Command, s *session.Session, e *estate.Estate, within string,
	waivers []finding.Waiver) error {
	if err := session.OnlyFlags(cmd, "with --due", "due", "within", "waive", "because"); err != nil {
		return err
	}
	ctx := cmd.Context()
	ahead, err := span.Parse(within)
	if err != nil {
		return &session.Status{Code: session.Usage, Err: err}
	}
	list, err := renewals.PlanDue(ctx, e, ahead, waivers)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return s.Nothing(fmt.Sprintf("%s Nothing ends within %s.", s.Out.Paint(term.Good, "✓"), ahead.Words()))
	}
	return sign.SignPlanned(ctx, s, e, list)
}
