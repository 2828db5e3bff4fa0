package cli

import (
	"context"
	"crypto"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/act/delivery"
	"ironseal/internal/act/elsewhere"
	"ironseal/internal/act/overview"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/describe"
	"ironseal/pki/dn"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/label"
)

func (s *Session) authorityApply() *cobra.Command {
	var ask elsewhere.ApplyAsk
	var subject, kind, day, out string
	var withdraw, again bool
	c := &cobra.Command{
		Use:   "apply HANDLE",
		Short: "Make an authority's request to a parent that is elsewhere",
		Long: `Make the key and the request of an authority whose parent is elsewhere: another
estate, such as that of an offline root, or an outside authority. The same for a
new authority and for the renewal of one. The request is sent until its answer is
taken in with authority accept.

With --switch-day the answer is kept, unused, until that day, while what there is
goes on serving: so an authority changes to another parent.`,
		Example: `  ironseal authority apply gates --parent offline-root --out ../gates.request.pem
  ironseal authority apply gates --withdraw`,
		Args: exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			e, err := s.estate(ctx)
			if err != nil {
				return err
			}
			if withdraw {
				if err := onlyFlags(cmd, "with --withdraw", "withdraw"); err != nil {
					return err
				}
				head, err := elsewhere.WithdrawApplication(ctx, e, args[0])
				if err != nil {
					return err
				}
				if s.json {
					return s.printJSON(map[string]any{"authority": args[0], "withdrawn": true,
						"journal_head": head.String()})
				}
				s.out.Say("%s the request of %s is withdrawn   journal %s", s.out.Paint(term.Good, "✓"), args[0], head)
				return nil
			}
			if out == "" {
				return usage("authority apply needs the file to write: --out FILE")
			}
			ask.Handle = args[0]
			if _, err := os.Lstat(s.path(out)); err == nil {
				return fmt.Errorf("%s is there already: choose another file", s.path(out))
			}
			if again {
				if err := onlyFlags(cmd, "with --again", "again", "out"); err != nil {
					return err
				}
				a, err := elsewhere.AppliedBefore(ctx, e, args[0])
				if err != nil {
					return err
				}
				return s.applied(e, a, s.path(out), "")
			}
			if subject != "" {
				n, err := dn.ParseTyped(subject)
				if err != nil {
					return &status{Usage, err}
				}
				ask.Subject = &n
			}
			if ask.Key, err = kindAsked(kind); err != nil {
				return err
			}
			if day != "" {
				if ask.Day, err = parseTime(day); err != nil {
					return &status{Usage, err}
				}
			}
			return s.apply(ctx, e, ask, s.path(out))
		},
		ValidArgsFunction: s.handles,
	}
	fl := c.Flags()
	fl.StringVar(&ask.Parent, "parent", "", "what the parent is to be called here, a `HANDLE`")
	fl.StringVar(&subject, "subject", "", "the whole subject of a new authority")
	fl.StringVar(&kind, "key", "", "key `KIND`")
	fl.BoolVar(&ask.SameKey, "same-key", false, "renew with the key that there is")
	fl.StringVar(&day, "switch-day", "", "keep the answer unused until this `DAY`")
	fl.StringVar(&out, "out", "", "the `FILE` to write the request to")
	fl.BoolVar(&again, "again", false, "write the request that is sent out again")
	fl.BoolVar(&withdraw, "withdraw", false, "end a request that was sent, without an answer")
	completeWords(c, "key", kindWords()...)
	return c
}

func (s *Session) apply(ctx context.Context, e *estate.Estate, ask elsewhere.ApplyAsk, out string) error {
	a, head, err := elsewhere.Apply(ctx, e, ask)
	if err != nil {
		return err
	}
	return s.applied(e, a, out, "journal "+head.String())
}

func (s *Session) applied(e *estate.Estate, a elsewhere.Applied, out, head string) error {
	handle := a.Application.Handle
	if err := delivery.WriteFile(e, out, bundle.PEM(bundle.Request, a.Request.Raw)); err != nil {
		return fmt.Errorf("%w\nthe request is on record; write it out with: ironseal authority apply %s --again "+
			"--out FILE", err, handle)
	}
	if s.json {
		return s.printJSON(describe.Request(a.Request))
	}
	what := "a new authority"
	if a.Renews != nil {
		what = "the renewal of " + a.Renews.Label()
	}
	s.out.Say("%s %s, %s, %s", s.out.Paint(term.Good, "✓ sent"), handle, what, a.Request.Key.Words())
	s.out.Say("  request     %s", term.Safe(out))
	s.out.Say("  check code  %s", strings.TrimSpace(s.out.Paint(term.Accent, label.CheckCode(a.Request.Raw))+"   "+
		head))
	s.next(overview.Advice{Why: "there, sign it by a template for authorities",
		Command: "ironseal sign " + shellWord(out) + " --template intermediate-authority"},
		overview.Advice{Why: "or carry it with a courier's folder",
			Command: "ironseal courier pack FOLDER --authority " + handle},
		overview.Advice{Why: "take the answer in", Command: "ironseal authority accept " + handle + " FILE"})
	return nil
}

func (s *Session) authorityAccept() *cobra.Command {
	var anchors, waive []string
	var because string
	c := &cobra.Command{
		Use:   "accept HANDLE FILE...",
		Short: "Take in a parent's answer to an authority's request",
		Long: `Match the answer of a parent elsewhere with the request that was sent, check it
(key, subject, usages, path length, lifetime, and a chain up to a root that is on
record or given with --anchor), and take it in with what stands above it.`,
		Args: atLeast(2, "a handle and the returned file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			w, err := waivers(waive, because)
			if err != nil {
				return err
			}
			list, err := s.certificatesInAll(args[1:])
			if err != nil {
				return err
			}
			trusted, err := s.certificatesInAll(anchors)
			if err != nil {
				return err
			}
			e, err := s.estate(ctx)
			if err != nil {
				return err
			}
			a, err := elsewhere.MatchAuthority(ctx, e, args[0], append(list, trusted...), trusted, w)
			if err != nil {
				return err
			}
			if err := s.showTaken(ctx, a.Certificate, a.Findings, trusted, "authority "+args[0]); err != nil {
				return err
			}
			g, head, err := elsewhere.AcceptAuthority(ctx, e, a)
			if err != nil {
				return err
			}
			return s.taken(g, head.String())
		},
		ValidArgsFunction: s.handles,
	}
	c.Flags().StringArrayVar(&anchors, "anchor", nil, "a `FILE` with a root that you trust; may be repeated")
	s.waiverFlags(c, &waive, &because)
	return c
}

// showTaken describes a certificate that is about to be taken in, refuses it by
// its findings, and asks.
func (s *Session) showTaken(ctx context.Context, c *cert.Certificate, findings finding.List,
	anchors []*cert.Certificate, about string) error {
	if !s.json {
		o := describe.Certificate(c, s.now())
		o.Findings = append(o.Findings, findings...)
		s.out.Describe(o, false)
		s.trusted(anchors)
		s.out.Gap()
	}
	if r := findings.Refusing(); len(r) > 0 {
		return &status{Refused, fmt.Errorf("%s: refused by %s: %s", about, r[0].Code, r[0].Message)}
	}
	return s.agree(ctx, "Take it in?")
}

// trusted names the roots that a person gave in trust, with what to compare.
func (s *Session) trusted(anchors []*cert.Certificate) {
	for _, a := range anchors {
		s.out.Say("  trusted because it was given: %s, check code %s", term.Safe(a.Title()),
			s.out.Paint(term.Accent, label.CheckCode(a.Raw)))
	}
}

func (s *Session) taken(g *hierarchy.Generation, head string) error {
	if s.json {
		o := describe.Certificate(g.Certificate, s.now())
		o.Lead("generation", "Generation", g.Name())
		o.Add("journal_head", "Journal", head)
		return s.printJSON(o)
	}
	where := "its key is here"
	if g.Authority.Elsewhere {
		where = "its key is elsewhere"
	}
	s.out.Say("%s %s; %s   journal %s", s.out.Paint(term.Good, "✓ taken in"), g.Label(), where, head)
	if !g.Staged.IsZero() {
		s.out.Say("  it waits, unused, for its switch day, %s", g.Staged.Format("2006-01-02"))
		s.next(overview.Advice{Why: "prepare a certificate for every holder",
			Command: "ironseal changeover prepare " + g.Authority.Handle})
	}
	return nil
}

func (s *Session) authorityAdopt() *cobra.Command {
	var keyFile string
	var anchors, issued, revoked []string
	c := &cobra.Command{
		Use:   "adopt HANDLE FILE...",
		Short: "Make an authority known that exists elsewhere",
		Long: `Take in an authority that was made elsewhere: its certificate, with what stands
above it, and its key where it is given, in any form. Without its key it is known
here, and trusted, but cannot sign. A further certificate of an authority that is
known already becomes its next generation.

With --issued, certificates that it issued are recorded as well; with --revoked,
what its revocation lists say. What else it issued and revoked is not known here,
and the record says so.`,
		Args: atLeast(2, "a handle and the certificate's file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			ask := elsewhere.AdoptAsk{Handle: args[0]}
			var err error
			if ask.List, err = s.certificatesInAll(args[1:]); err != nil {
				return err
			}
			if ask.Issued, err = s.certificatesInAll(issued); err != nil {
				return err
			}
			if ask.Anchors, err = s.certificatesInAll(anchors); err != nil {
				return err
			}
			if ask.Revoked, err = s.listsIn(revoked); err != nil {
				return err
			}
			if ask.Signer, err = s.adoptedKey(ctx, keyFile, args[0]); err != nil {
				return err
			}
			e, err := s.estate(ctx)
			if err != nil {
				return err
			}
			a, err := elsewhere.PlanAdoption(ctx, e, ask)
			if err != nil {
				return err
			}
			if !s.json && len(ask.Issued) > 0 {
				s.out.Say("It issued %d of the %d certificates given.", len(a.Issued), len(ask.Issued))
			}
			if err := s.showTaken(ctx, a.Leaf, a.Findings, ask.Anchors, "authority "+args[0]); err != nil {
				return err
			}
			g, head, err := elsewhere.Adopt(ctx, e, a)
			if err != nil {
				return err
			}
			return s.taken(g, head.String())
		},
		ValidArgsFunction: s.handles,
	}
	fl := c.Flags()
	fl.StringVar(&keyFile, "key", "", "the private key's `FILE`, in any form")
	fl.StringArrayVar(&anchors, "anchor", nil, "a `FILE` with a root that you trust; may be repeated")
	fl.StringArrayVar(&revoked, "revoked", nil, "a `FILE` with a revocation list of it; may be repeated")
	fl.StringArrayVar(&issued, "issued", nil, "a `FILE` of certificates that it issued; may be repeated")
	return c
}

func (s *Session) adoptedKey(ctx context.Context, file, handle string) (crypto.Signer, error) {
	if file == "" {
		return nil, nil
	}
	return delivery.OpenKeyFile(ctx, s.path(file), handle, (*passphrases)(s))
}

// listsIn reads the revocation lists of files.
func (s *Session) listsIn(files []string) ([][]byte, error) {
	var out [][]byte
	for _, f := range files {
		data, err := disk.Read(s.path(f), bundle.MostBytes)
		if err != nil {
			return nil, err
		}
		c, err := bundle.Read(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f, err)
		}
		lists := c.Of(bundle.List)
		if len(lists) == 0 {
			return nil, fmt.Errorf("%s: there is no revocation list in it", f)
		}
		for _, o := range lists {
			out = append(out, o.DER)
		}
	}
	return out, nil
}
