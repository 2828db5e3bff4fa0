package authority

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/describe"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/label"
	"ironseal/pki/span"
)

// renewFlags are the flags of authority renew, as typed.
type renewFlags struct {
	sameKey, cascade                                       bool
	keyIn                                                  string
	kind, lifetime, template, suspect, day, under, because string
	waive                                                  []string
}

func (f renewFlags) ask(handle string) (authorities.RenewAsk, error) {
	ask := authorities.RenewAsk{Handle: handle, SameKey: f.sameKey, KeyIn: f.keyIn, Template: f.template,
		Suspicion: f.suspect,
		Under:     f.under}
	var err error
	if ask.Key, err = session.KindAsked(f.kind); err != nil {
		return ask, err
	}
	if ask.Lifetime, err = session.SpanAsked(f.lifetime); err != nil {
		return ask, err
	}
	if f.day != "" {
		if ask.Day, err = session.ParseTime(f.day); err != nil {
			return ask, &session.Status{Code: session.Usage, Err: err}
		}
	}
	ask.Waivers, err = session.Waivers(f.waive, f.because)
	return ask, err
}

func authorityRenew(s *session.Session) *cobra.Command {
	var f renewFlags
	c := &cobra.Command{
		Use:   "renew HANDLE",
		Short: "Renew an authority",
		Long: `Renew an authority. The new generation has a new key, unless you give --same-key. The old
generation still signs its revocation lists, and what it issued stays valid.

The sheet shows what every level below can grant before and after, whether to change the key,
and what to do afterwards. A renewal changes nothing below: --cascade renews the levels below
as well, in order, each with its own sheet. If it was interrupted, run it again. A root with a
new key gets link certificates, so that clients with only one of the two roots still accept.`,
		Example: `  ironseal authority renew services
  ironseal authority renew root --cascade
  ironseal authority renew services --same-key --lifetime 12y
  ironseal authority renew services --key ecdsa-p384 --suspect "it was on a lost laptop"`,
		Args: session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ask, err := f.ask(args[0])
			if err != nil {
				return err
			}
			if f.cascade {
				return renewDown(cmd.Context(), s, ask)
			}
			return renew(cmd.Context(), s, ask, true)
		},
		ValidArgsFunction: s.Handles,
	}
	fl := c.Flags()
	fl.BoolVar(&f.sameKey, "same-key", false, "keep the key")
	keyInFlag(c, &f.keyIn)
	fl.BoolVar(&f.cascade, "cascade", false, "renew everything below as well, in order")
	fl.StringVar(&f.kind, "key", "", "another `KIND` for the new key")
	fl.StringVar(&f.lifetime, "lifetime", "", "how long it lives; as long as before when left out")
	fl.StringVar(&f.template, "template", "", "another template than before")
	fl.StringVar(&f.suspect, "suspect", "", "what is suspected of the key, in words")
	fl.StringVar(&f.under, "under", "", "the `HANDLE` of another authority above than before")
	fl.StringVar(&f.day, "switch-day", "", "prepare it, to sign from this `DAY` only")
	s.WaiverFlags(c, &f.waive, &f.because)
	s.CompleteHandles(c, "under")
	s.CompleteTemplates(c, "template")
	session.CompleteWords(c, "key", session.KindWords()...)
	return c
}

func drawRenewal(s *session.Session, p authorities.RenewalPlan) {
	if s.JSON {
		return
	}
	s.Out.Sheet(fmt.Sprintf("renewal of %s", p.Old.Label()), "", p.Plan, label.Code(p.Plan.Digest()),
		p.Head.String())
	if p.Proposed != nil {
		s.Out.Gap()
		s.Out.Wrapped(2, term.Quiet, fmt.Sprintf("Proposed lifetime: %s (%s). Another: --lifetime SPAN",
			p.Proposed.Span.Words(), p.Proposed.Why))
	}
	s.Out.Renewal(p.Reasons, p.Levels, p.Then)
	s.Out.Gap()
}

// renew shows the sheet of one renewal, asks, and makes it.
func renew(ctx context.Context, s *session.Session, ask authorities.RenewAsk, last bool) error {
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	p, err := authorities.PlanRenewal(ctx, e, ask)
	if err != nil {
		return err
	}
	need := max(e.Needs(event.AuthorityRenewed{}), e.NeedsFor(p.Template()))
	if s.Opens(need) {
		if err := authorities.Ready(ctx, e, p.Planned); err != nil {
			return err
		}
	}
	drawRenewal(s, p)
	if len(p.Plan.Findings.Refusing()) == 0 {
		if err := s.AgreeTo(ctx, e, session.Agreement{Act: event.AuthorityRenewed{}, Need: need, Digest: p.Plan.
			Digest(),
			Planned: p.Plan.Moment(),
			Title:   "renew the authority " + ask.Handle, Question: fmt.Sprintf("Renew %s as shown, until %s?",
				ask.Handle,
				p.Plan.Draft.NotAfter.Format("2006-01-02"))}); err != nil {
			return err
		}
	}
	g, head, err := authorities.Renew(ctx, e, p)
	if err != nil {
		return err
	}
	if s.JSON {
		o := describe.Certificate(g.Certificate, s.Moment())
		o.Lead("generation", "Generation", fmt.Sprint(g.Number))
		o.Lead("handle", "Authority", g.Authority.Handle)
		o.Add("journal_head", "Journal", head.String())
		return s.PrintJSON(o)
	}
	made(s, g, p.Links, head.String())
	if last {
		behind, err := authorities.Behind(ctx, e, ask.Handle)
		if err != nil {
			return err
		}
		if len(behind) == 0 {
			return hanging(ctx, s, e)
		}
		s.Next(session.Hint{Why: "renew what is still below the old certificate",
			Command: "ironseal authority renew " + behind[0] + " --cascade"})
	}
	return nil
}

func made(s *session.Session, g *hierarchy.Generation, links bool, head string) {
	c := g.Certificate
	s.Out.Say("%s %s, valid until %s, %s", s.Out.Paint(term.Good, "✓ made"), g.Label(), c.NotAfter.Format("2006-01-02"),
		span.Distance(s.Moment(), c.NotAfter))
	s.Out.Say("  check code %s   journal %s", s.Out.Paint(term.Accent, label.CheckCode(c.Raw)), head)
	if links {
		s.Out.Say("  and two link certificates: each root vouches for the other")
	}
	if !g.SwitchDay.IsZero() {
		s.Out.Say("  it signs nothing before its switch day, %s", g.SwitchDay.Format("2006-01-02"))
	}
}

// renewDown renews an authority and everything below it, in order; where that
// was begun before, it continues.
func renewDown(ctx context.Context, s *session.Session, ask authorities.RenewAsk) error {
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	behind, err := authorities.Behind(ctx, e, ask.Handle)
	if err != nil {
		return err
	}
	if len(behind) == 0 {
		if err := renew(ctx, s, ask, false); err != nil {
			return err
		}
		if behind, err = authorities.Behind(ctx, e, ask.Handle); err != nil {
			return err
		}
	} else if err := forOne(ask); err != nil {
		return err
	} else if !s.JSON {
		s.Out.Say("%s was renewed already; this continues below it.", ask.Handle)
	}
	for _, handle := range behind {
		if !s.JSON {
			s.Out.Gap()
		}
		below := authorities.RenewAsk{Handle: handle, SameKey: ask.SameKey, Key: ask.Key}
		if err := renew(ctx, s, below, false); err != nil {
			return fault.New(fault.KindOf(err), "%w\nwhat was renewed before this stays", err).
				Then(advice.To("continue", advice.RenewAuthority, "authority", ask.Handle, "cascade", ""))
		}
	}
	return hanging(ctx, s, e)
}

// hanging says what still depends on earlier generations, once authorities were renewed.
func hanging(ctx context.Context, s *session.Session, e *estate.Estate) error {
	list, err := e.Records.CountSuperseded(ctx, s.Moment())
	if err != nil || s.JSON {
		return err
	}
	open, err := compromise.Incidents(ctx, e.Records)
	if err != nil {
		return err
	}
	for _, b := range list {
		s.Advise(overview.Dependents(b, open))
	}
	return nil
}

// forOne refuses what was asked for one authority that is not renewed any more.
func forOne(ask authorities.RenewAsk) error {
	if !ask.Lifetime.IsZero() || ask.Template != "" || ask.Suspicion != "" || ask.Under != "" || !ask.Day.IsZero() ||
		len(ask.Waivers) > 0 {
		return session.Misused("%s was renewed already, and --cascade continues below it, where --lifetime, "+
			"--template, --suspect, --under, --switch-day and --waive have no meaning: leave them out", ask.Handle)
	}
	return nil
}

func authorityRetire(s *session.Session) *cobra.Command {
	var because string
	var destroy, undo bool
	c := &cobra.Command{
		Use:   "retire HANDLE",
		Short: "Retire an authority: it signs no more certificates",
		Long: `A retired authority signs no more certificates. It still signs revocation lists until the
last certificate that it issued ends. After that, --destroy-key destroys its key; the journal
records it.

--undo lets a retired authority sign again, if its key still exists.`,
		Example: `  ironseal authority retire services --because "its work went to another"
  ironseal authority retire services --undo --because "it is needed after all"`,
		Args: session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if because == "" {
				return session.Misused("authority retire needs a reason: add --because TEXT")
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if undo {
				return reinstated(s, cmd, e, args[0], because, destroy)
			}
			question := fmt.Sprintf("Retire %s? It will sign no more certificates.", args[0])
			if destroy {
				question = fmt.Sprintf("Destroy the key of %s for good?", args[0])
			}
			if err := agreeToHandle(s, cmd, e, event.AuthorityRetired{}, args[0], because+fmt.Sprint(destroy), "retire",
				question); err != nil {
				return err
			}
			last, head, err := authorities.Retire(cmd.Context(), e, args[0], because, destroy)
			if err != nil {
				return err
			}
			return retired(s, args[0], destroy, last, head.String())
		},
		ValidArgsFunction: s.Handles,
	}
	c.Flags().StringVar(&because, "because", "", "why")
	c.Flags().BoolVar(&undo, "undo", false, "let a retired authority sign again")
	c.Flags().BoolVar(&destroy, "destroy-key", false,
		"destroy the key of an authority that is retired and has nothing valid left")
	return c
}

// agreeToHandle asks for an act about an authority as it is now: its generations are part of what is agreed to.
func agreeToHandle(s *session.Session, cmd *cobra.Command, e *estate.Estate, act event.Event, handle, how,
	title, question string) error {
	h, err := e.Hierarchy(cmd.Context())
	if err != nil {
		return err
	}
	parts := []string{act.Act(), handle, how}
	if a := h.Find(handle); a != nil {
		for _, g := range a.Generations {
			parts = append(parts, fmt.Sprintf("%x", g.Certificate.SHA256()))
		}
	}
	return s.AgreeTo(cmd.Context(), e, session.Agreement{Act: act, Need: e.Needs(act), Digest: session.
		DigestOf(parts...),
		Title: title + " " + handle, Question: question})
}

func reinstated(s *session.Session, cmd *cobra.Command, e *estate.Estate, handle, because string, destroy bool) error {
	if destroy {
		return session.Misused("authority retire: --undo and --destroy-key do not go together")
	}
	if err := agreeToHandle(s, cmd, e, event.AuthorityReinstated{}, handle, because, "reinstate",
		fmt.Sprintf("Let %s sign again?", handle)); err != nil {
		return err
	}
	head, err := authorities.Reinstate(cmd.Context(), e, handle, because)
	if err != nil {
		return err
	}
	if s.JSON {
		return s.PrintJSON(map[string]any{"authority": handle, "journal_head": head.String()})
	}
	s.Out.Say("%s %s signs again   journal %s", s.Out.Paint(term.Good, "✓"), handle, head)
	return nil
}

func retired(s *session.Session, handle string, destroyed bool, last time.Time, head string) error {
	if s.JSON {
		return s.PrintJSON(map[string]any{"authority": handle, "key_destroyed": destroyed,
			"last_certificate_ends": last})
	}
	switch {
	case destroyed:
		s.Out.Say("%s the key of %s is destroyed", s.Out.Paint(term.Good, "✓"), handle)
	case last.After(s.Moment()):
		s.Out.Say("%s %s is retired   journal %s", s.Out.Paint(term.Good, "✓"), handle, head)
		s.Out.Say("  it continues with revocation until its last certificate ends, %s, %s", last.Format("2006-01-02"),
			span.Distance(s.Moment(), last))
	default:
		s.Out.Say("%s %s is retired; nothing that it issued is valid any more   journal %s",
			s.Out.Paint(term.Good, "✓"), handle, head)
		s.Next(session.Hint{Why: "destroy its key",
			Command: "ironseal authority retire " + handle + " --destroy-key --because TEXT"})
	}
	return nil
}
