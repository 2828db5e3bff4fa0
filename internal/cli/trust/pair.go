package trust

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/revoke/evidence"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/finding"
	"ironseal/pki/label"
	"ironseal/pki/pair"
	"ironseal/pki/path"
	"ironseal/pki/trust"
)

const aboutPair = `Work out which roots each of two machines needs for what the other presents, and whether both
directions work with their names, usages and chains. A side is a certificate on record, a waiting
request, or a file with certificates or a request. A file is judged with the issuers in it, since
the device sends no others.

A request is judged by the certificate that it would get, by the best template or the one that you
name. With --out, write a folder for each side: a kit with the roots that it needs, what it
presents, and instructions.`

// pairFlags are what can be said about a pair. Lists have the first side's before the
// second's.
type pairFlags struct {
	over                        string
	oneWay                      bool
	hosts, templates, platforms []string
	out                         string
	sides                       []string // as they were typed
}

func pairUp(s *session.Session) *cobra.Command {
	var f pairFlags
	c := &cobra.Command{
		Use:   "pair FIRST SECOND",
		Short: "Work out what two machines need to trust each other",
		Long:  aboutPair,
		Example: `  ironseal trust pair gw.sandpiper.ternbay.example R5 --for appliance,debian --out ../pairs
  ironseal trust pair R5 ../partner/gateway.pem --one-way`,
		Args: session.Exactly(2, "two sides: certificates, requests or files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			f.sides = args
			p, err := f.judged(cmd.Context(), s, e)
			if err != nil {
				return err
			}
			return f.finish(cmd.Context(), s, e, p)
		},
		ValidArgsFunction: s.Certificates,
	}
	fl := c.Flags()
	fl.StringVar(&f.over, "over", string(pair.TLS), "the `PROTOCOL` that they speak: tls or ike")
	fl.BoolVar(&f.oneWay, "one-way", false, "only the first connects to the second")
	fl.StringSliceVar(&f.hosts, "reached-at", nil,
		"the `HOST` at which the first is reached, then that of the second; their first names when left out")
	fl.StringSliceVar(&f.templates, "template", nil, "the `TEMPLATE` for the first request, then that for the second")
	fl.StringSliceVar(&f.platforms, "for", []string{"appliance"},
		"the `PLATFORM` of the first, then that of the second")
	fl.StringVar(&f.out, "out", "", "the `DIR` in which a folder is written for each side")
	session.CompleteWords(c, "over", string(pair.TLS), string(pair.IKE))
	session.Register(c, "template", s.Templates)
	return c
}

// ofBoth gives each side its value: one alone is for both.
func ofBoth(flag string, list []string) (out [2]string, err error) {
	switch len(list) {
	case 0:
	case 1:
		out = [2]string{list[0], list[0]}
	case 2:
		out = [2]string{list[0], list[1]}
	default:
		err = session.Misused("--%s has %d values for two sides", flag, len(list))
	}
	return out, err
}

func (f pairFlags) judged(ctx context.Context, s *session.Session, e *estate.Estate) (p anchors.PairPack,
	err error) {
	if len(f.hosts) == 1 {
		return p, session.Misused("--reached-at needs two names, the first side's and the second's")
	}
	hosts, err := ofBoth("reached-at", f.hosts)
	if err != nil {
		return p, err
	}
	templates, err := ofBoth("template", f.templates)
	if err != nil {
		return p, err
	}
	if p.Platforms, err = ofBoth("for", f.platforms); err != nil {
		return p, err
	}
	asked, err := evidence.Asked(ctx, e, path.Question{Now: s.Moment()})
	if err != nil {
		return p, err
	}
	q := pair.Question{OneWay: f.oneWay, Now: s.Moment(), Status: asked.Status}
	if q.Over, err = pair.ParseProtocol(f.over); err != nil {
		return p, &session.Status{Code: session.Usage, Err: err}
	}
	for i, name := range f.sides {
		ask := anchors.SideAsk{Name: name, Host: hosts[i], Template: templates[i]}
		if _, statErr := os.Stat(s.Path(name)); statErr == nil || name == "-" {
			if ask.Files, err = s.Inputs([]string{name}); err != nil {
				return p, err
			}
		}
		if q.Peers[i], err = anchors.Side(ctx, e, ask, q.Over); err != nil {
			return p, err
		}
	}
	p.Question, p.Answer, p.Dir = q, pair.Judge(q), s.Path(f.out)
	return p, nil
}

// finish writes the folders where they were asked for, and shows what holds.
func (f pairFlags) finish(ctx context.Context, s *session.Session, e *estate.Estate, p anchors.PairPack) error {
	var written []string
	if f.out != "" {
		if bad := p.Answer.TakenBack(); len(bad) > 0 {
			return session.Refusal("the pair", "no folder was written", bad)
		}
		s.Tidy(p.Dir)
		asks := make([]anchors.PackAsk, len(p.Platforms))
		for i := range asks {
			asks[i] = p.Kit(i)
		}
		if err := agreeToPack(ctx, s, asks); err != nil {
			return err
		}
		p.Replace = slices.ContainsFunc(asks, func(a anchors.PackAsk) bool { return a.Replace })
		if _, err := anchors.PackPair(ctx, e, p); err != nil {
			return err
		}
		written = []string{p.Side(0), p.Side(1)}
	}
	if s.JSON {
		if err := s.PrintJSON(api.PairOf(p.Question, p.Answer, written, s.Speller())); err != nil {
			return err
		}
	} else {
		f.draw(s, p, written)
	}
	if !p.Answer.Holds() {
		return &session.Status{Code: session.No}
	}
	return nil
}

func (f pairFlags) draw(s *session.Session, p anchors.PairPack, written []string) {
	q := p.Question
	for i, w := range p.Answer.Ways {
		if i > 0 {
			s.Out.Gap()
		}
		s.Out.Say("%s", s.Out.Paint(term.Strong, term.Safe(fmt.Sprintf("%s connects to %s", q.Peers[w.From].Title,
			at(q.Peers[w.To])))))
		for _, c := range w.Checks {
			mark, tone := "✓", term.Good
			if !c.Holds {
				mark, tone = "✗", term.Bad
			}
			s.Out.Item(s.Out.Paint(tone, mark), term.Safe(c.Words(q, w)))
			s.Out.Reasons(c.Findings)
		}
	}
	for _, peer := range q.Peers {
		s.Out.Findings(slices.DeleteFunc(slices.Clone(peer.Remarks), func(f finding.Finding) bool {
			return f.Severity == finding.Refused // the checks tell it
		}))
		if peer.Planned != nil {
			s.Out.Gap()
			s.Out.Say("%s", s.Out.Paint(term.Quiet, term.Safe(fmt.Sprintf("%s is not signed yet: it is judged as the "+
				"template %s would make it", peer.Title, peer.Planned.Template))))
		}
	}
	for i, peer := range q.Peers {
		set := p.Answer.Needs[i]
		who := peer.Title
		if i == 1 && slices.Equal(set.Sums(), p.Answer.Needs[0].Sums()) {
			s.Out.Say("%s", s.Out.Paint(term.Quiet, term.Safe("  "+who+" must hold the same")))
			break
		}
		s.Out.Gap()
		s.Out.Say("%s", s.Out.Paint(term.Strong, term.Safe(who+" must hold")))
		drawNeeds(s, set, q.Peers[1-i].Title)
	}
	for _, dir := range written {
		s.Out.Say("%s %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(dir))
	}
	if len(written) == 0 && p.Answer.Holds() {
		s.Next(session.Hint{Why: "a folder for each side, with what to install",
			Command: "ironseal trust pair " + strings.Join(f.sides, " ") + " --out DIR"})
	}
}

// at names a peer with the name by which it is reached, where that is another.
func at(p pair.Peer) string {
	if p.Host == "" || p.Host == p.Title {
		return p.Title
	}
	return p.Title + " at " + p.Host
}

func drawNeeds(s *session.Session, set trust.Set, other string) {
	if len(set.Anchors) == 0 {
		s.Out.Item(s.Out.Paint(term.Bad, "✗"), term.Safe("no root is known above the certificate of "+other))
	}
	for _, a := range set.Anchors {
		s.Out.Item("·", term.Safe(fmt.Sprintf("%s, until %s   %s", a.Certificate.Title(),
			a.Certificate.NotAfter.Format("2006-01-02"), label.CheckCode(a.Certificate.Raw))))
		if a.From != "above "+other {
			s.Out.Wrapped(4, term.Quiet, term.Safe(a.From))
		}
		if len(a.Permitted) > 0 {
			s.Out.Wrapped(4, term.Quiet, term.Safe("only for "+joined(a.Permitted)))
		}
		s.Out.Findings(trust.Findings(a.Certificate, s.Moment()))
	}
}
