// Package trust has the commands that keep trust sets: which anchors machines should hold.
package trust

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/probe"
	"ironseal/internal/term"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/label"
	"ironseal/pki/span"
	"ironseal/pki/trust"
)

// Command is ironseal trust.
func Command(s *session.Session) *cobra.Command {
	return session.Group("trust", "Trusted roots: sets of them, and kits that bring them onto machines",
		session.Reading(list(s)), session.Reading(show(s)), session.Reading(check(s)),
		create(s), add(s), drop(s), pack(s), install(s), remove(s), recordReports(s),
		session.Reading(machines(s)), pairUp(s))
}

func list(s *session.Session) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List trust sets",
		Example: "  ironseal trust list",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			sets, faults := anchors.Sets(cmd.Context(), e)
			switch {
			case s.JSON:
				out := []api.TrustSet{}
				for _, set := range sets {
					out = append(out, api.TrustSetOf(set))
				}
				if err := s.PrintJSON(out); err != nil {
					return err
				}
			case s.Quiet:
				for _, set := range sets {
					s.Out.Say("%s", set.Name)
				}
			default:
				var cells [][]term.Cell
				for _, set := range sets {
					cells = append(cells, []term.Cell{{Text: set.Name, Tone: term.Strong},
						{Text: span.Count(len(set.Anchors), "anchor")}, {Text: earliest(set)}, {Text: set.Title,
							Prose: true}})
				}
				s.Out.Table([]string{"set", "holds", "first to end", "for"}, cells)
			}
			return errors.Join(faults...)
		},
	}
	s.QuietFlag(c, "print names only")
	return c
}

func earliest(set trust.Set) string {
	if len(set.Anchors) == 0 {
		return ""
	}
	first := slices.MinFunc(set.Anchors, func(a, b trust.Anchor) int {
		return a.Certificate.NotAfter.Compare(b.Certificate.NotAfter)
	})
	return first.Certificate.NotAfter.Format("2006-01-02")
}

func show(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "show [SET]",
		Short: "Show one trust set, with fingerprints to read out",
		Long: `Show the roots of a trust set: whose they are, until when, what they are trusted for, and the
fingerprints by which two people compare them. Without a name, show the estate's own: every root
that signs, that is prepared, or that a valid certificate still depends on.`,
		Example: "  ironseal trust show",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, set, err := setOf(cmd.Context(), s, args)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(api.TrustSetOf(set))
			}
			s.Out.Say("%s", s.Out.Paint(term.Strong, "Trust set "+set.Name+": "+term.Safe(set.Title)))
			if len(set.Anchors) == 0 {
				s.Out.Say("  It holds no anchor yet.")
				s.Next(session.Hint{Why: "add one", Command: "ironseal trust add " + set.Name + " FILE"})
			}
			for _, a := range set.Anchors {
				s.Out.Gap()
				drawAnchor(s, a)
				s.Out.Findings(trust.Findings(a.Certificate, s.Moment()))
				if a.Compromise != "" {
					f := finding.New(finding.SuspectedAnchor, "%s Kits leave it out.", a.Compromise)
					f.Severity = finding.Warn // it holds up what packs it
					s.Out.Findings(finding.List{f})
				}
			}
			return nil
		},
		ValidArgsFunction: s.TrustSets,
	}
}

func drawAnchor(s *session.Session, a trust.Anchor) {
	c := a.Certificate
	sum := c.SHA256()
	rows := [][2]string{{"Subject", c.Subject.String()}, {"Until", c.NotAfter.Format("2006-01-02") + ", " +
		span.Distance(s.Moment(), c.NotAfter)}, {"Trusted for", joined(a.Purposes)}}
	if len(a.Permitted) > 0 {
		rows = append(rows, [2]string{"Only for", joined(a.Permitted)})
	}
	rows = append(rows, [2]string{"From", a.From}, [2]string{"Check code", label.CheckCode(c.Raw)},
		[2]string{"SHA-256", label.Colons(sum[:])})
	s.Out.Say("%s", s.Out.Paint(term.Strong, term.Safe(c.Title())))
	for _, r := range rows {
		s.Out.Say("  %s%s", s.Out.Paint(term.Quiet, fmt.Sprintf("%-14s", r[0])), term.Safe(r[1]))
	}
}

func joined[T any](list []T) string {
	var out []string
	for _, x := range list {
		out = append(out, fmt.Sprint(x))
	}
	return strings.Join(out, ", ")
}

func create(s *session.Session) *cobra.Command {
	var title string
	c := &cobra.Command{
		Use:     "create SET",
		Short:   "Create a trust set",
		Example: "  ironseal trust create partners --title \"What the booking desk must trust\"",
		Args:    session.Exactly(1, "a name for the set"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if need := e.Needs(event.SetCreated{}); need > 1 {
				if err := s.AgreeTo(cmd.Context(), e, session.Agreement{Act: event.SetCreated{}, Need: need,
					Digest: session.DigestOf("create", args[0], title),
					Title:  "make the trust set " + args[0]}); err != nil {
					return err
				}
			}
			head, err := anchors.Create(cmd.Context(), e, args[0], title)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]string{"set": args[0], "journal_head": head.String()})
			}
			s.Out.Say("%s trust set %s   journal %s", s.Out.Paint(term.Good, "✓ made"), args[0], head)
			s.Next(session.Hint{Why: "add an anchor", Command: "ironseal trust add " + args[0] + " FILE"})
			return nil
		},
	}
	c.Flags().StringVar(&title, "title", "", "what it is for, in a few words")
	return c
}

// addFlags are what can be said about anchors that are added.
type addFlags struct {
	endpoint                                 string
	fingerprints, purposes, permitted, waive []string
	because                                  string
}

func add(s *session.Session) *cobra.Command {
	var f addFlags
	c := &cobra.Command{
		Use:   "add SET SOURCE...",
		Short: "Add roots to a trust set",
		Long: `Add roots to a trust set. A SOURCE is the handle of an authority here, a file in any format, or an
archive (zip, tar, tar.gz), of which every file is read. Each root is added once.
Intermediates and machines' certificates are added only if you name their fingerprint.

With --endpoint, take what a live server presents. It needs --fingerprint, with the
fingerprint that you were given in another way. Colons, blanks and case are ignored.`,
		Example: "  ironseal trust add partners ../partner/skua-roots.zip --trusted-for servers,clients --may-certify dns:skua.ternbay.example",
		Args:    session.AtLeast(1, "a set, and what to add"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			ask, err := f.ask(s, args[0])
			if err != nil {
				return err
			}
			if ask.Offered, err = offered(cmd.Context(), s, e, args[1:], f.endpoint); err != nil {
				return err
			}
			return addTo(cmd.Context(), s, e, ask)
		},
		ValidArgsFunction: s.TrustSets,
	}
	fl := c.Flags()
	fl.StringVar(&f.endpoint, "endpoint", "", "offer what this `HOST:PORT` presents; needs --fingerprint")
	fl.StringArrayVar(&f.fingerprints, "fingerprint", nil, "take only the one with this SHA-256 `HEX`; may be repeated")
	fl.StringSliceVar(&f.purposes, "trusted-for", nil, "a `LIST` of uses: servers, clients, mail, code")
	fl.StringSliceVar(&f.permitted, "may-certify", nil, "it counts for this name alone, such as dns:partner.example")
	s.WaiverFlags(c, &f.waive, &f.because)
	session.CompleteWords(c, "trusted-for", "servers", "clients", "mail", "code")
	return c
}

func (f addFlags) ask(s *session.Session, set string) (ask anchors.AddAsk, err error) {
	ask.Set = set
	if f.endpoint != "" && len(f.fingerprints) == 0 {
		return ask, session.Misused("--endpoint is believed only with a fingerprint that a person read out: add " +
			"--fingerprint HEX")
	}
	for _, t := range f.fingerprints {
		sum, err := label.ReadSHA256(t)
		if err != nil {
			return ask, &session.Status{Code: session.Usage, Err: err}
		}
		ask.Fingerprint = append(ask.Fingerprint, sum)
	}
	if ask.Purposes, err = trust.ParsePurposes(f.purposes); err != nil {
		return ask, &session.Status{Code: session.Usage, Err: err}
	}
	if ask.Permitted, err = trust.ParsePermitted(f.permitted); err != nil {
		return ask, &session.Status{Code: session.Usage, Err: err}
	}
	ask.Waivers, err = session.Waivers(f.waive, f.because)
	return ask, err
}

// offered gathers the certificates of handles, files, archives and an endpoint.
func offered(ctx context.Context, s *session.Session, e *estate.Estate, sources []string, endpoint string) (
	out []anchors.Found, err error) {
	if len(sources) == 0 && endpoint == "" {
		return nil, session.Misused("trust add needs what to add: a handle, a file, or --endpoint HOST:PORT")
	}
	for _, source := range sources {
		if _, err := os.Stat(s.Path(source)); err != nil {
			if g, err := e.Generation(ctx, source); err == nil {
				out = append(out, anchors.Found{Source: g.Name(), Certificates: []*cert.Certificate{g.Certificate}})
				continue
			}
		}
		inputs, err := s.Inputs([]string{source})
		if err != nil {
			return nil, fmt.Errorf("%w, and no authority here is called %q", err, source)
		}
		for _, in := range inputs {
			found, err := anchors.Look(filepath.Base(in.Name), in.Data)
			if err != nil {
				return nil, err
			}
			out = append(out, found...)
		}
	}
	if endpoint != "" {
		t, err := probe.ParseTarget(endpoint)
		if err != nil {
			return nil, &session.Status{Code: session.Usage, Err: err}
		}
		r := probe.Options{}.Look(ctx, t, time.Now)
		if len(r.Presented) == 0 {
			return nil, fmt.Errorf("%s: %s", endpoint, r.Words())
		}
		out = append(out, anchors.Found{Source: "presented by " + endpoint, Certificates: r.Presented})
	}
	return out, nil
}

// addTo shows what goes in and what does not, asks, and adds.
func addTo(ctx context.Context, s *session.Session, e *estate.Estate, ask anchors.AddAsk) error {
	a, err := anchors.PlanAdd(e, ask)
	if err != nil {
		return err
	}
	if !s.JSON {
		s.Out.Say("%s", s.Out.Paint(term.Strong, fmt.Sprintf("To be trusted in the set %s", a.Set.Name)))
		for _, x := range a.Anchors {
			s.Out.Gap()
			drawAnchor(s, x)
		}
		s.Out.Findings(a.Findings)
		if len(a.Skipped) > 0 {
			s.Out.Gap()
			s.Out.Say("%s", s.Out.Paint(term.Quiet, "Not taken"))
			for _, t := range a.Skipped {
				s.Out.Item(s.Out.Paint(term.Quiet, "·"), term.Safe(t))
			}
		}
		s.Out.Gap()
	}
	if bad := a.Findings.Refusing(); len(bad) > 0 {
		return session.Refusal("trust set "+a.Set.Name, "nothing was added", bad)
	}
	parts := []string{"add", a.Set.Name}
	for _, x := range a.Anchors {
		parts = append(parts, fmt.Sprintf("%x %v", x.Certificate.SHA256(), x.Purposes))
	}
	if err := s.AgreeTo(ctx, e, session.Agreement{Act: event.SetExtended{}, Need: e.Needs(event.SetExtended{}),
		Digest: session.DigestOf(parts...), Title: fmt.Sprintf("trust %s in the set %s", span.Count(len(a.Anchors),
			"anchor"),
			a.Set.Name), Question: fmt.Sprintf("Trust as shown: %s, in the set %s?", span.Count(len(a.Anchors),
			"anchor"),
			a.Set.Name)}); err != nil {
		return err
	}
	head, err := anchors.Add(ctx, e, a)
	if err != nil {
		return err
	}
	if s.JSON {
		set, err := anchors.Set(ctx, e, a.Set.Name)
		if err != nil {
			return err
		}
		return s.PrintJSON(api.TrustSetOf(set))
	}
	s.Out.Say("%s %s   journal %s", s.Out.Paint(term.Good, "✓ added"), span.Count(len(a.Anchors), "anchor"), head)
	return nil
}

func drop(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "drop SET ANCHOR...",
		Short: "Remove roots from a trust set",
		Long: `Remove roots from a trust set. Name an ANCHOR by its SHA-256 fingerprint, its check code or a handle.
Machines that have the root keep it until it is removed there.`,
		Example: "  ironseal trust drop partners root",
		Args:    session.AtLeast(2, "a set and an anchor"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			e, err := s.Estate(ctx)
			if err != nil {
				return err
			}
			set, err := anchors.Set(ctx, e, args[0])
			if err != nil {
				return err
			}
			var which []*cert.Certificate
			for _, a := range args[1:] {
				c, err := named(ctx, e, set, a)
				if err != nil {
					return err
				}
				which = append(which, c)
			}
			parts := []string{"drop", set.Name}
			for _, c := range which {
				parts = append(parts, fmt.Sprintf("%x", c.SHA256()))
			}
			what := fmt.Sprintf("ake %s out of the set %s", span.Count(len(which), "anchor"), set.Name)
			if err := s.AgreeTo(ctx, e, session.Agreement{Act: event.SetReduced{}, Need: e.Needs(event.SetReduced{}),
				Digest: session.DigestOf(parts...), Title: "t" + what, Question: "T" + what + "?"}); err != nil {
				return err
			}
			head, err := anchors.Drop(ctx, e, set.Name, which)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"set": set.Name, "dropped": len(which),
					"journal_head": head.String()})
			}
			s.Out.Say("%s %s   journal %s", s.Out.Paint(term.Good, "✓ dropped"), span.Count(len(which), "anchor"), head)
			return nil
		},
		ValidArgsFunction: s.TrustSets,
	}
}

// named finds the anchor of a set that a person means.
func named(ctx context.Context, e *estate.Estate, set trust.Set, typed string) (*cert.Certificate, error) {
	if g, err := e.Generation(ctx, typed); err == nil && set.Find(g.Certificate) != nil {
		return g.Certificate, nil
	}
	code := label.ReadCode(typed)
	sum, err := label.ReadSHA256(typed)
	for _, a := range set.Anchors {
		if err == nil && a.Certificate.SHA256() == sum || code != "" && label.CheckCode(a.Certificate.Raw) == code {
			return a.Certificate, nil
		}
	}
	return nil, fmt.Errorf("trust set %s: no anchor in it is %q: name it by a fingerprint, a check code or a handle: "+
		"see them with: ironseal trust show %s", set.Name, typed, set.Name)
}
