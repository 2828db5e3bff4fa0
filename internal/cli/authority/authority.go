// Package authority has the commands that make authorities, show them, renew them and
// import those that others sign.
package authority

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/cli/certificate"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/internal/term"
	"ironseal/pki/describe"
	"ironseal/pki/dn"
	"ironseal/pki/hierarchy"
	"ironseal/pki/label"
	"ironseal/pki/san"
)

// Command is ironseal authority.
func Command(s *session.Session) *cobra.Command {
	return session.Group("authority", "Roots and intermediates: create, renew and show them",
		authorityCreate(s), authorityRenew(s), authorityRetire(s), authorityPassphrase(s), authorityCustody(s),
		authorityShare(s), authorityCross(s),
		authorityApply(s),
		authorityAccept(s),
		authorityAdopt(s), session.Reading(authorityList(s)), session.Reading(authorityShow(s)),
		session.Reading(authorityTree(s)),
		session.Reading(authorityExport(s)))
}

// authorityFlags are the flags of authority create, as typed.
type authorityFlags struct {
	under, template, subject, kind, lifetime, because string
	keyIn                                             string
	pathLength                                        string
	permit, exclude, waive                            []string
}

func (f authorityFlags) ask(handle string) (authorities.Ask, error) {
	ask := authorities.Ask{Handle: handle, Under: f.under, Template: f.template, KeyIn: f.keyIn}
	var err error
	if f.subject != "" {
		n, err := dn.ParseTyped(f.subject)
		if err != nil {
			return ask, &session.Status{Code: session.Usage, Err: err}
		}
		ask.Subject = &n
	}
	if ask.Key, err = session.KindAsked(f.kind); err != nil {
		return ask, err
	}
	if ask.Lifetime, err = session.SpanAsked(f.lifetime); err != nil {
		return ask, err
	}
	if f.pathLength != "" {
		n, err := strconv.Atoi(f.pathLength)
		if err != nil || n < 0 || n > 100 {
			return ask, session.Misused("--levels-below %q: use a number from 0 to 100", f.pathLength)
		}
		ask.PathLength = &n
	}
	for _, list := range []struct {
		typed []string
		into  *[]san.Constraint
	}{{f.permit, &ask.Permit}, {f.exclude, &ask.Exclude}} {
		for _, p := range list.typed {
			c, err := san.ParseConstraint(p)
			if err != nil {
				return ask, &session.Status{Code: session.Usage, Err: err}
			}
			*list.into = append(*list.into, c)
		}
	}
	ask.Waivers, err = session.Waivers(f.waive, f.because)
	return ask, err
}

// keyInFlag says where a key is held that is not made here.
func keyInFlag(c *cobra.Command, into *string) {
	c.Flags().StringVar(into, "key-in", "", "use the key that an SSH agent holds: `agent:SHA256:...`")
}

// limits are the flags that say what an authority may certify.
func (f *authorityFlags) limits(c *cobra.Command) {
	fl := c.Flags()
	fl.StringVar(&f.pathLength, "levels-below", "", "levels of authorities allowed below it")
	fl.StringArrayVar(&f.permit, "may-certify", nil, "a domain or network that it may certify; may be repeated")
	fl.StringArrayVar(&f.exclude, "may-not-certify", nil,
		"a domain or network that it may not certify; may be repeated")
}

func authorityCreate(s *session.Session) *cobra.Command {
	var f authorityFlags
	c := &cobra.Command{
		Use:   "create HANDLE",
		Short: "Create a root, or an authority below another",
		Long: `Create an authority: its key, its certificate and its records.

What you leave out is proposed: the subject from the estate's organisation, the kind of key
from the settings, and a lifetime that fits below the authority above.

With --key-in, the key is one that an SSH agent holds, such as one on a token. It never leaves it.`,
		Example: `  ironseal authority create root
  ironseal authority create stores --under root --lifetime 10y
  ironseal authority create ships --under root --may-certify ships.ternbay.example`,
		Args: session.Exactly(1, "a handle, such as root or services"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ask, err := f.ask(args[0])
			if err != nil {
				return err
			}
			return createAuthority(s, cmd, ask)
		},
	}
	fl := c.Flags()
	fl.StringVar(&f.under, "under", "", "the `HANDLE` of the authority above; a root when left out")
	fl.StringVar(&f.subject, "subject", "", "the whole subject, such as \"CN=Tern Bay Root,O=Tern Bay Ferries\"")
	fl.StringVar(&f.kind, "key", "", "key `KIND`: rsa-4096, ecdsa-p384 …")
	keyInFlag(c, &f.keyIn)
	fl.StringVar(&f.lifetime, "lifetime", "", "how long it lives: 10y, 18m, 397d")
	f.limits(c)
	fl.StringVar(&f.template, "template", "", "the template; root-authority or intermediate-authority when left out")
	s.WaiverFlags(c, &f.waive, &f.because)
	s.CompleteHandles(c, "under")
	s.CompleteTemplates(c, "template")
	session.CompleteWords(c, "key", session.KindWords()...)
	return c
}

func createAuthority(s *session.Session, cmd *cobra.Command, ask authorities.Ask) error {
	ctx := cmd.Context()
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	p, err := authorities.PlanNew(ctx, e, ask)
	if err != nil {
		return err
	}
	need := max(e.Needs(event.AuthorityCreated{}), e.NeedsFor(p.Template()))
	if s.Opens(need) {
		if err := authorities.Ready(ctx, e, p); err != nil {
			return err
		}
	}
	if !s.JSON {
		s.Out.Sheet("authority "+ask.Handle, "", p.Plan, label.Code(p.Plan.Digest()), p.Head.String())
		if p.Proposed != nil {
			s.Out.Gap()
			s.Out.Wrapped(2, term.Quiet, fmt.Sprintf("Proposed lifetime: %s (%s). Another: --lifetime SPAN",
				p.Proposed.Span.Words(), p.Proposed.Why))
		}
		s.Out.Gap()
	}
	if len(p.Plan.Findings.Refusing()) == 0 {
		if err := s.AgreeTo(ctx, e, session.Agreement{Act: event.AuthorityCreated{}, Need: need, Digest: p.Plan.
			Digest(),
			Planned: p.Plan.Moment(),
			Title:   "make the authority " + ask.Handle, Question: fmt.Sprintf("Make %s as shown, until %s?",
				ask.Handle,
				p.Plan.Draft.NotAfter.Format("2006-01-02"))}); err != nil {
			return err
		}
	}
	g, head, err := authorities.Create(ctx, e, p)
	if err != nil {
		return err
	}
	if s.JSON {
		o := describe.Certificate(g.Certificate, s.Moment())
		o.Lead("handle", "Handle", ask.Handle)
		o.Add("journal_head", "Journal", head.String())
		return s.PrintJSON(o)
	}
	c := g.Certificate
	s.Out.Say("%s %s, valid until %s", s.Out.Paint(term.Good, "✓ made"), g.Label(), c.NotAfter.Format("2006-01-02"))
	s.Out.Say("  check code %s   journal %s", s.Out.Paint(term.Accent, label.CheckCode(c.Raw)), head)
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return err
	}
	if ask.Under == "" && h.Find("services") == nil && !signsHosts(e, g) {
		s.Next(session.Hint{Why: "an authority for everyday work",
			Command: "ironseal authority create services --under " + ask.Handle})
	} else {
		s.Next(session.Hint{Why: "receive a request", Command: "ironseal request receive FILE"})
	}
	return nil
}

// signsHosts reports whether an authority may sign servers.
func signsHosts(e *estate.Estate, g *hierarchy.Generation) bool {
	t, err := e.Template("web-server")
	return err == nil && t.SignedBy(g.Authority.Handle, g.IsRoot())
}

func authorityList(s *session.Session) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List all authorities",
		Example: "  ironseal authority list\n  ironseal authority list --quiet",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			h, err := e.Hierarchy(cmd.Context())
			if err != nil {
				return err
			}
			rows := []api.Authority{}
			for _, a := range h {
				for _, g := range a.Generations {
					rows = append(rows, api.AuthorityOf(g, e))
				}
			}
			return PrintAuthorities(s, rows)
		},
	}
	s.QuietFlag(c, "print handles only")
	return c
}

// PrintAuthorities prints authorities as a table.
func PrintAuthorities(s *session.Session, rows []api.Authority) error {
	switch {
	case s.JSON:
		return s.PrintJSON(rows)
	case s.Quiet:
		for _, r := range rows {
			s.Out.Say("%s", r.Handle)
		}
		return nil
	case len(rows) == 0:
		s.Out.Say("There are no authorities yet.")
		s.Next(session.Hint{Why: "make the root", Command: "ironseal authority create root"})
		return nil
	}
	var cells [][]term.Cell
	for _, r := range rows {
		cells = append(cells, []term.Cell{{Text: fmt.Sprintf("%s g%d", r.Handle, r.Generation), Tone: term.Strong},
			{Text: r.Under}, session.StateCell(r.State, r.Planned), {Text: r.Mark, Tone: term.Quiet},
			{Text: r.Until[:10]},
			{Text: r.Key},
			{Text: r.Subject}})
	}
	s.Out.Table([]string{"authority", "under", "state", "", "until", "key", "subject"}, cells, "subject", "key")
	return nil
}

func authorityShow(s *session.Session) *cobra.Command {
	var all bool
	var field string
	c := &cobra.Command{
		Use:   "show HANDLE",
		Short: "Show one authority",
		Example: `  ironseal authority show root
  ironseal authority show services --all
  ironseal authority show root --field sha256`,
		Args: session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			g, err := e.Generation(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			o := describe.Certificate(g.Certificate, s.Moment())
			o.Lead("generation", "Generation", fmt.Sprint(g.Number)).Detail = true
			o.Lead("handle", "Authority",
				g.Authority.Handle).Shown = []string{strings.TrimSpace(g.Label() + " " + g.Mark())}
			var generations, links, names, pairs []string
			for _, other := range g.Authority.Generations {
				names = append(names, other.Name())
				generations = append(generations,
					strings.TrimSpace(fmt.Sprintf("g%d, until %s, key %s %s", other.Number,
						other.Certificate.NotAfter.Format("2006-01-02"), other.Certificate.Key.Kind, other.Mark())))
			}
			for _, l := range g.Authority.Links {
				pairs = append(pairs, l.By.Name()+":"+l.To.Name())
				to := fmt.Sprintf("g%d", l.To.Number)
				if l.To.Authority != l.By.Authority {
					to = l.To.Name()
				}
				links = append(links, fmt.Sprintf("g%d vouches for %s, until %s", l.By.Number, to,
					l.Certificate.NotAfter.Format("2006-01-02")))
			}
			o.Add("generations", "Generations", names...).Shown = generations
			if len(links) > 0 {
				o.Add("links", "Links", pairs...).Shown = links
			}
			return s.PrintObject(o, all, field)
		},
		ValidArgsFunction: s.Handles,
	}
	s.ShowFlags(c, &all, &field)
	return c
}

func authorityTree(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "tree",
		Short:   "Draw the hierarchy with its lifetimes over one time axis",
		Example: "  ironseal authority tree\n  ironseal authority tree --as-of 2035-01-01",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			h, err := e.Hierarchy(cmd.Context())
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(api.TreeOf(h, nil, e))
			}
			if len(h) == 0 {
				return PrintAuthorities(s, nil)
			}
			s.Out.Tree(h, s.Moment())
			return nil
		},
	}
}

func authorityExport(s *session.Session) *cobra.Command {
	var f certificate.ExportFlags
	c := &cobra.Command{
		Use:   "export HANDLE",
		Short: "Write an authority's certificate to a file",
		Example: `  ironseal authority export root
  ironseal authority export root --as der --out root.der
  ironseal authority export services --with root --out -`,
		Args: session.Exactly(1, "a handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			g, err := e.Generation(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			rec := store.Certificate{DER: g.Certificate.Raw, Title: g.Certificate.Title()}
			if g.Issuer != nil {
				rec.Issuer = fmt.Sprintf("%s.g%d", g.Issuer.Authority.Handle, g.Issuer.Number)
			}
			return certificate.Export(s, cmd, e, estate.CertificateRecord{Record: rec, Certificate: g.Certificate}, f)
		},
		ValidArgsFunction: s.Handles,
	}
	f.Add(c)
	return c
}
