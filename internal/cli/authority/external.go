package authority

import (
	"context"
	"crypto"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/describe"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/label"
)

const aboutApply = `Make the key and the request of an authority whose parent is in another estate, such as an
offline root, or is run by another company. Use it for a new authority and for a renewal.
Import the answer with authority import.

With --switch-day the answer is not used before that day; until then the current certificate
stays in use. So you move an authority to another parent.`

func authorityApply(s *session.Session) *cobra.Command {
	var ask external.ApplyAsk
	var subject, kind, day, out string
	var withdraw, again bool
	c := &cobra.Command{
		Use:   "apply HANDLE",
		Short: "Make a request to a parent authority that another estate or company runs",
		Long:  aboutApply,
		Example: `  ironseal authority apply gates --parent offline-root --out ../gates.request.pem
  ironseal authority apply gates --withdraw`,
		Args: session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			e, err := s.Estate(ctx)
			if err != nil {
				return err
			}
			if withdraw {
				if err := session.OnlyFlags(cmd, "with --withdraw", "withdraw"); err != nil {
					return err
				}
				return withdrawn(ctx, s, e, args[0])
			}
			if out == "" {
				return session.Misused("authority apply needs the file to write: --out FILE")
			}
			ask.Handle = args[0]
			if _, err := os.Lstat(s.Path(out)); err == nil {
				return fmt.Errorf("%s is there already: choose another file", s.Path(out))
			}
			if again {
				if err := session.OnlyFlags(cmd, "with --again", "again", "out"); err != nil {
					return err
				}
				a, err := external.AppliedBefore(ctx, e, args[0])
				if err != nil {
					return err
				}
				return applied(s, e, a, s.Path(out), "")
			}
			if err := typedApplication(&ask, subject, kind, day); err != nil {
				return err
			}
			return apply(ctx, s, e, ask, s.Path(out))
		},
		ValidArgsFunction: s.Handles,
	}
	fl := c.Flags()
	fl.StringVar(&ask.Parent, "parent", "", "what the parent is to be called here, a `HANDLE`")
	fl.StringVar(&subject, "subject", "", "the whole subject of a new authority")
	fl.StringVar(&kind, "key", "", "key `KIND`")
	keyInFlag(c, &ask.KeyIn)
	fl.BoolVar(&ask.SameKey, "same-key", false, "renew with the key that there is")
	fl.StringVar(&day, "switch-day", "", "keep the answer unused until this `DAY`")
	fl.StringVar(&out, "out", "", "the `FILE` to write the request to")
	fl.BoolVar(&again, "again", false, "write the request that is sent out again")
	fl.BoolVar(&withdraw, "withdraw", false, "end a request that was sent, without an answer")
	session.CompleteWords(c, "key", session.KindWords()...)
	return c
}

// typedApplication reads what was typed about an application.
func typedApplication(ask *external.ApplyAsk, subject, kind, day string) (err error) {
	if ask.Subject, err = session.SubjectAsked(subject); err != nil {
		return err
	}
	if ask.Key, err = session.KindAsked(kind); err != nil {
		return err
	}
	if day != "" {
		if ask.Day, err = session.ParseTime(day); err != nil {
			return &session.Status{Code: session.Usage, Err: err}
		}
	}
	return nil
}

func withdrawn(ctx context.Context, s *session.Session, e *estate.Estate, handle string) error {
	head, err := external.WithdrawApplication(ctx, e, handle)
	if err != nil {
		return err
	}
	if s.JSON {
		return s.PrintJSON(map[string]any{"authority": handle, "withdrawn": true, "journal_head": head.String()})
	}
	s.Out.Say("%s the request of %s is withdrawn   journal %s", s.Out.Paint(term.Good, "✓"), handle, head)
	return nil
}

func apply(ctx context.Context, s *session.Session, e *estate.Estate, ask external.ApplyAsk, out string) error {
	a, head, err := external.Apply(ctx, e, ask)
	if err != nil {
		return err
	}
	return applied(s, e, a, out, "journal "+head.String())
}

func applied(s *session.Session, e *estate.Estate, a external.Applied, out, head string) error {
	handle := a.Application.Handle
	if err := delivery.WriteFile(e, out, bundle.PEM(bundle.Request, a.Request.Raw)); err != nil {
		return fault.New(fault.KindOf(err), "%w\nthe request is on record", err).
			Then(advice.To("write it out", advice.ApplyAuthority, "authority", handle, "again", "", "file", "FILE"))
	}
	if s.JSON {
		return s.PrintJSON(describe.Request(a.Request))
	}
	what := "a new authority"
	if a.Renews != nil {
		what = "the renewal of " + a.Renews.Label()
	}
	s.Out.Say("%s %s, %s, %s", s.Out.Paint(term.Good, "✓ sent"), handle, what, a.Request.Key.Words())
	s.Out.Say("  request     %s", term.Safe(out))
	s.Out.Say("  check code  %s", strings.TrimSpace(s.Out.Paint(term.Accent, label.CheckCode(a.Request.Raw))+"   "+
		head))
	s.Next(session.Hint{Why: "there, sign it by a template for authorities",
		Command: "ironseal sign " + s.Shell.Word(out) + " --template intermediate-authority"},
		session.Hint{Why: "or carry it with a transfer folder",
			Command: "ironseal transfer pack FOLDER --authority " + handle},
		session.Hint{Why: "take the answer in", Command: "ironseal authority import " + handle + " FILE"})
	return nil
}

func authorityAccept(s *session.Session) *cobra.Command {
	var anchors, waive []string
	var because string
	c := &cobra.Command{
		Use:     "import HANDLE FILE...",
		Aliases: []string{"take-in"}, // as it was called before
		Short:   "Import the parent's answer to such a request",
		Long: `Match the parent's answer with the request, check it, and import it with the certificates
above it. The check covers key, subject, usages, path length, lifetime, and the chain up to a
root that is on record or given with --anchor.`,
		Example: "  ironseal authority import gates ../gates.answer.pem",
		Args:    session.AtLeast(2, "a handle and the returned file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			w, err := session.Waivers(waive, because)
			if err != nil {
				return err
			}
			list, err := s.CertificatesInAll(args[1:])
			if err != nil {
				return err
			}
			trusted, err := s.CertificatesInAll(anchors)
			if err != nil {
				return err
			}
			e, err := s.Estate(ctx)
			if err != nil {
				return err
			}
			a, err := external.MatchAuthority(ctx, e, args[0], append(list, trusted...), trusted, w)
			if err != nil {
				return err
			}
			if err := showTaken(ctx, s, a.Certificate, a.Findings, trusted, "authority "+args[0]); err != nil {
				return err
			}
			g, head, err := external.AcceptAuthority(ctx, e, a)
			if err != nil {
				return err
			}
			return taken(s, g, head.String())
		},
		ValidArgsFunction: s.Handles,
	}
	c.Flags().StringArrayVar(&anchors, "anchor", nil, "a `FILE` with a root that you trust; may be repeated")
	s.WaiverFlags(c, &waive, &because)
	return c
}

// showTaken describes a certificate that is about to be imported, refuses it by
// its findings, and asks.
func showTaken(ctx context.Context, s *session.Session, c *cert.Certificate, findings finding.List,
	anchors []*cert.Certificate, about string) error {
	if !s.JSON {
		o := describe.Certificate(c, s.Moment())
		o.Findings = append(o.Findings, findings...)
		s.Out.Describe(o, false)
		s.Trusted(anchors)
		s.Out.Gap()
	}
	if r := findings.Refusing(); len(r) > 0 {
		return &session.Status{Code: session.Refused, Err: fmt.Errorf("%s: %s: %s", about, r[:1].Stops(),
			r[0].Message)}
	}
	return s.Agree(ctx, "Import it?")
}

func taken(s *session.Session, g *hierarchy.Generation, head string) error {
	if s.JSON {
		o := describe.Certificate(g.Certificate, s.Moment())
		o.Lead("generation", "Generation", fmt.Sprint(g.Number))
		o.Lead("handle", "Authority", g.Authority.Handle)
		o.Add("journal_head", "Journal", head)
		return s.PrintJSON(o)
	}
	where := "its key is here"
	if g.Authority.External() {
		where = "its key is elsewhere"
	}
	s.Out.Say("%s %s; %s   journal %s", s.Out.Paint(term.Good, "✓ imported"), g.Label(), where, head)
	if !g.SwitchDay.IsZero() {
		s.Out.Say("  it waits, unused, for its switch day, %s", g.SwitchDay.Format("2006-01-02"))
		s.Next(session.Hint{Why: "prepare a certificate for every holder",
			Command: "ironseal changeover prepare " + g.Authority.Handle})
	}
	return nil
}

func authorityAdopt(s *session.Session) *cobra.Command {
	var keyFile string
	var anchors, issued, revoked []string
	c := &cobra.Command{
		Use:   "adopt HANDLE FILE...",
		Short: "Put an existing authority on record, with or without its key",
		Long: `Put an existing authority on record: its certificate, the certificates above it, and its key
if you give one, in any format. Without its key it is known and trusted here but cannot sign.
Another certificate of an authority on record becomes its next generation.

--issued records certificates that it issued. --revoked records what its revocation lists
say. Anything else that it issued or revoked is not known here.`,
		Example: `  ironseal authority adopt skua ../partner/skua-root.pem
  ironseal authority adopt gates ../gates.pem --key ../gates.key.pem --issued ../issued`,
		Args: session.AtLeast(2, "a handle and the certificate's file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			ask := external.AdoptAsk{Handle: args[0]}
			var err error
			if ask.List, err = s.CertificatesInAll(args[1:]); err != nil {
				return err
			}
			if ask.Issued, err = s.CertificatesInAll(issued); err != nil {
				return err
			}
			if ask.Anchors, err = s.CertificatesInAll(anchors); err != nil {
				return err
			}
			if ask.Revoked, err = s.ListsIn(revoked); err != nil {
				return err
			}
			if ask.Signer, err = adoptedKey(ctx, s, keyFile, args[0]); err != nil {
				return err
			}
			return adopt(ctx, s, ask)
		},
		ValidArgsFunction: s.Handles,
	}
	fl := c.Flags()
	fl.StringVar(&keyFile, "key", "", "the private key's `FILE`, in any form")
	fl.StringArrayVar(&anchors, "anchor", nil, "a `FILE` with a root that you trust; may be repeated")
	fl.StringArrayVar(&revoked, "revoked", nil, "a `FILE` with a revocation list of it; may be repeated")
	fl.StringArrayVar(&issued, "issued", nil, "a `FILE` of certificates that it issued; may be repeated")
	return c
}

func adopt(ctx context.Context, s *session.Session, ask external.AdoptAsk) error {
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	a, err := external.PlanAdoption(ctx, e, ask)
	if err != nil {
		return err
	}
	if err := a.Ready(ctx, e); err != nil {
		return err
	}
	if !s.JSON && len(ask.Issued) > 0 {
		s.Out.Say("It issued %d of the %d certificates given.", len(a.Issued), len(ask.Issued))
	}
	if err := showTaken(ctx, s, a.Leaf, a.Findings, ask.Anchors, "authority "+ask.Handle); err != nil {
		return err
	}
	g, head, err := external.Adopt(ctx, e, a)
	if err != nil {
		return err
	}
	return taken(s, g, head.String())
}

func adoptedKey(ctx context.Context, s *session.Session, file, handle string) (crypto.Signer, error) {
	if file == "" {
		return nil, nil
	}
	return delivery.OpenKeyFile(ctx, s.Path(file), handle, (*session.Passphrases)(s))
}
