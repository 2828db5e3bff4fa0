package certificate

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/act/parties"
	"ironseal/internal/act/renewing"
	"ironseal/internal/cli/session"
	"ironseal/internal/cli/sign"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/finding"
	"ironseal/pki/span"
)

const aboutRenew = `Sign a certificate in the place of another: the same names, by the template as it
is today, for the same request or, with --request, for a new one. The sheet shows
what differs from before and who is known to hold it.

With --due, everything that ends within --within is renewed at once.`

func certificateRenew(s *session.Session) *cobra.Command {
	var ask renewing.AgainAsk
	var lifetime, within, because, party string
	var due bool
	var waive []string
	c := &cobra.Command{
		Use:   "renew [CERTIFICATE]",
		Short: "Sign a certificate in the place of another",
		Long:  aboutRenew,
		Example: `  ironseal certificate renew booking.ternbay.example
  ironseal certificate renew --due --within 90d`,
		Args: func(cmd *cobra.Command, args []string) error {
			return oneWay(len(args), due, party != "")
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			var err error
			if ask.Waivers, err = session.Waivers(waive, because); err != nil {
				return err
			}
			if ask.Lifetime, err = session.SpanAsked(lifetime); err != nil {
				return err
			}
			e, err := s.Estate(ctx)
			if err != nil {
				return err
			}
			if due {
				return renewDue(cmd, s, e, within, ask.Waivers)
			}
			if err := session.OnlyFlags(cmd, "for one certificate", "request", "template", "by", "lifetime", "waive",
				"because", "party"); err != nil {
				return err
			}
			if ask.Certificate, err = named(ctx, e, args, party); err != nil {
				return err
			}
			sheet, err := renewing.PlanAgain(ctx, e, ask)
			if err != nil {
				return err
			}
			return sign.SignOne(ctx, s, e, sheet)
		},
		ValidArgsFunction: s.Certificates,
	}
	fl := c.Flags()
	fl.StringVar(&ask.Request, "request", "", "a new `REQUEST` in the place of the one before")
	fl.StringVar(&ask.Template, "template", "", "another template than before")
	fl.StringVar(&ask.By, "by", "", "the `HANDLE` of another authority than before")
	fl.StringVar(&lifetime, "lifetime", "", "how long it lives")
	fl.BoolVar(&due, "due", false, "everything that ends soon")
	s.PartyFlag(c, &party, "the one certificate that this `PARTY` holds")
	fl.StringVar(&within, "within", "60d", "how far ahead --due looks, a `SPAN`")
	s.WaiverFlags(c, &waive, &because)
	s.CompleteTemplates(c, "template")
	s.CompleteHandles(c, "by")
	return c
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
	held, err := parties.Serving(ctx, e, party)
	if err != nil {
		return "", err
	}
	return held.SerialHex(), nil
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
	list, err := renewing.PlanDue(ctx, e, ahead, waivers)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return s.Nothing(fmt.Sprintf("%s Nothing ends within %s.", s.Out.Paint(term.Good, "✓"), ahead.Words()))
	}
	return sign.SignPlanned(ctx, s, e, list)
}
