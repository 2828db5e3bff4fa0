// Package certificate has the commands that list certificates, show, compare, renew and
// hand them out.
package certificate

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/describe"
	"ironseal/pki/handover"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// Command is ironseal certificate.
func Command(s *session.Session) *cobra.Command {
	return session.Group("certificate", "Certificates: find them, show them, hand them over, renew them",
		session.Reading(certificateList(s)), session.Reading(certificateShow(s)), session.Reading(certificateExport(s)),
		session.Reading(certificateCompare(s)), certificateRenew(s), certificateAccept(s), certificateHandover(s))
}

func certificateList(s *session.Session) *cobra.Command {
	var which estate.Filter
	var after string
	var d days
	c := &cobra.Command{
		Use:   "list",
		Short: "List certificates",
		Long: `List the valid certificates, those that end first on top. With --state any, list all: expired,
replaced, revoked, and those that are prepared for a switch day.

For pages, give --count, and for the next page the last serial of the one before with --after.`,
		Example: `  ironseal certificate list
  ironseal certificate list --state expiring
  ironseal certificate list --template web-server --quiet
  ironseal certificate list --held-by "harbour mail team" --ends-before 2030-01-01
  ironseal certificate list --count 20`,
		Args: session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return listed(cmd, s, which, d, after)
		},
	}
	s.QuietFlag(c, "print serials only")
	c.Flags().StringVar((*string)(&which.State), "state", "", "only those in this `STATE`: "+
		strings.Join(lifecycle.StateWords(), ", ")+
		", or any")
	c.Flags().StringVar(&which.Template, "template", "", "only those signed by this template")
	c.Flags().StringVar(&which.By, "by", "", "only those signed by this authority")
	c.Flags().StringVar(&which.Text, "name", "", "only those with this `TEXT` in a name")
	c.Flags().StringVar(&which.HeldBy, "held-by", "", "only those that this party or sender has: `WHO`")
	c.Flags().IntVar(&which.Count, "count", 0, "at most `N`")
	c.Flags().StringVar(&after, "after", "", "those behind this `CERTIFICATE` in the list, for the next page")
	c.Flags().StringVar(&which.Key, "key", "", "only those for this key: first digits of its SHA-256, in `HEX`")
	d.flags(c)
	session.CompleteWords(c, "state", append([]string{string(lifecycle.AnyState)}, lifecycle.StateWords()...)...)
	s.CompleteTemplates(c, "template")
	s.CompleteHandles(c, "by")
	return c
}

// listed lists the certificates that are meant.
func listed(cmd *cobra.Command, s *session.Session, which estate.Filter, d days, after string) error {
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return err
	}
	if err := filters(cmd, e, which); err != nil {
		return err
	}
	if err := d.into(&which); err != nil {
		return err
	}
	if which.Count < 0 {
		return session.Misused("--count: from 1 on; leave it out for all")
	}
	if after != "" {
		h, _, err := e.FindCertificate(cmd.Context(), after)
		if err != nil {
			return err
		}
		which.After = h.Record.ID
	}
	known, err := fleet.Enrolments(cmd.Context(), e.Records)
	if err != nil {
		return err
	}
	which.Names = s.JSON
	defer s.Out.InBlocks()()
	list := certificateLister(s)
	now := s.Moment()
	others, err := e.EachCertificateLine(cmd.Context(), which, func(l *estate.CertificateLine) error {
		return list.row(l, known.Renews(l, now), now)
	})
	if err != nil {
		return err
	}
	return list.end(others, string(which.State))
}

// filters refuses a filter that can fit nothing because it is mistyped: "none" would
// be no answer to it.
func filters(cmd *cobra.Command, e *estate.Estate, w estate.Filter) error {
	if err := session.OneOf("state", string(w.State), append([]string{string(lifecycle.AnyState)},
		lifecycle.StateWords()...)...); err != nil {
		return err
	}
	if w.Template != "" {
		signed, err := e.TemplatesSignedBy(cmd.Context())
		if err != nil {
			return err
		}
		if err := session.OneOf("template", w.Template, append(signed, e.TemplateNames()...)...); err != nil {
			return err
		}
	}
	if w.By != "" && w.By != estate.ItselfSigned && w.By != estate.OutsideSigned {
		if _, err := e.Generation(cmd.Context(), w.By); err != nil {
			return &session.Status{Code: session.Usage, Err: err}
		}
	}
	return nil
}

// lister prints certificates as they come, in whichever form was asked for.
type lister struct {
	s     *session.Session
	json  *session.List
	table *term.Rolling
	any   bool
	line  []byte
}

func certificateLister(s *session.Session) *lister {
	l := &lister{s: s}
	switch {
	case s.JSON:
		l.json = s.NewList()
	case !s.Quiet:
		l.table = s.Out.Rolling([]string{"serial", "for", "state", "left", "until", "names", "key", "signed by",
			"template", "from", "renews"}, "from", "template", "key", "names", "signed by")
	}
	return l
}

func (l *lister) row(c *estate.CertificateLine, renews string, now time.Time) error {
	l.any = true
	if l.json == nil && l.table == nil {
		l.line = append(append(l.line[:0], c.Serial...), '\n')
		return l.s.Out.Raw(l.line)
	}
	r := api.CertificateLine(c, now)
	r.Renews = renews
	if l.json != nil {
		return l.json.Add(api.WithNames(r, c))
	}
	names := ""
	if n := c.Traits.Names(); n > 0 {
		names = strconv.Itoa(n)
	}
	state := session.StateCell(r.State, r.Planned)
	if r.Renews == fleet.Itself && r.State == lifecycle.Expiring { // as it always is with a short life: no alarm
		state = term.Cell{Text: "✓ " + string(r.State), Tone: term.Good}
	}
	l.table.Row([]term.Cell{{Text: cert.ShortSerial(r.Serial), Tone: term.Quiet}, {Text: r.Title, Tone: term.Strong},
		state, {Text: r.Left}, {Text: r.Until[:10]}, {Text: names}, {Text: r.Key},
		{Text: r.By}, {Text: r.Template}, {Text: r.Request}, renewsCell(r.Renews)})
	return nil
}

// renewsCell says whether a machine renews a certificate.
func renewsCell(how string) term.Cell {
	if how == fleet.LateWords {
		return term.Cell{Text: how, Tone: term.Bad}
	}
	return term.Cell{Text: how}
}

// end says how many others there are, where only those that serve were asked for.
func (l *lister) end(others map[lifecycle.State]int, state string) error {
	switch {
	case l.json != nil:
		return l.json.End()
	case l.table == nil:
		return nil
	case l.any:
		l.table.End()
	default:
		l.s.Out.Say("There are no such certificates.")
	}
	if len(others) > 0 && state == "" {
		all, tone := 0, term.Quiet
		var words []string
		for _, st := range lifecycle.States() {
			if n := others[st]; n > 0 {
				all += n
				words = append(words, fmt.Sprintf("%d %s", n, st))
			}
		}
		if others[lifecycle.IssuerRevoked] > 0 {
			tone = term.Careful
		}
		l.s.Out.Say("%s", l.s.Out.Paint(tone, fmt.Sprintf("Not shown: %s (%s). Show all: --state any",
			span.Count(all, "certificate"), strings.Join(words, ", "))))
	}
	return nil
}

const certificateNaming = `Name a certificate by the first digits of its serial, its request (R1), its DNS name,
its common name, its SHA-1 or SHA-256 thumbprint, or an authority's handle (root, or root.g1).`

func certificateShow(s *session.Session) *cobra.Command {
	var all, changes bool
	var field string
	c := &cobra.Command{
		Use:   "show CERTIFICATE",
		Short: "Show one certificate",
		Long:  "Show one certificate, what matters first.\n\n" + certificateNaming,
		Example: `  ironseal certificate show booking.ternbay.example
  ironseal certificate show R1 --all
  ironseal certificate show R1 --field sha1
  ironseal certificate show R1 --template-changes`,
		Args: session.Exactly(1, "a certificate"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			h, note, err := e.FindCertificate(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if note != "" {
				s.Errs.Say("(%s)", term.Safe(note))
			}
			if changes {
				if err := session.OnlyFlags(cmd, "with --template-changes", "template-changes"); err != nil {
					return err
				}
				then, today, err := e.TemplateThen(h)
				if err != nil {
					return err
				}
				return s.PrintChanges(template.Compare(then, today), "as it was", "today")
			}
			o := describe.Certificate(h.Certificate, s.Moment())
			r := api.CertificateOf(h, s.Moment())
			if o, err = leading(cmd.Context(), e, h, o, r); err != nil {
				return err
			}
			if err := origin(cmd.Context(), s, e, h, &o, r); err != nil {
				return err
			}
			return s.PrintObject(o, all, field)
		},
		ValidArgsFunction: s.Certificates,
	}
	s.ShowFlags(c, &all, &field)
	c.Flags().BoolVar(&changes, "template-changes", false, "how its template has changed since it was signed")
	return c
}

// origin tells where a certificate came from, who has it, and whether its machine renews it.
func origin(ctx context.Context, s *session.Session, e *estate.Estate, h estate.CertificateRecord, o *describe.Object,
	r api.Certificate) error {
	o.Add("by", "Signed by", r.By)
	holders, err := e.Holders(ctx, h)
	if err != nil {
		return err
	}
	if len(holders) > 0 || s.JSON {
		o.Add("held_by", "Held by", holders...)
	}
	if r.Template != "" {
		o.Add("template", "Template", r.Template)
	}
	if r.Request != "" {
		o.Add("request", "Request", r.Request)
	}
	renews, err := fleet.RenewsOne(ctx, e.Records, h, s.Moment())
	if renews != "" {
		o.Add("renews", "Renews", renews)
	}
	return err
}

// leading puts first what is asked first: whether it holds, how long, and by whom.
func leading(ctx context.Context, e *estate.Estate, h estate.CertificateRecord, o describe.Object, r api.Certificate) (
	describe.Object, error) {
	if h.Record.Issuer != "" {
		g, err := e.Generation(ctx, h.Record.Issuer)
		if err != nil {
			return o, err
		}
		chain := []string{h.Title()}
		for _, above := range g.Line() {
			chain = append(chain, above.Name())
		}
		o.Lead("chain", "Chain", chain...).Shown = []string{strings.Join(chain, " ← ")}
	}
	o.Lead("days_left", "Left", fmt.Sprint(r.Days)).Shown = []string{r.Left}
	o.Lead("state", "State", string(h.State))
	return o, nil
}

// ExportFlags are the flags of the commands that hand out certificates.
type ExportFlags struct {
	as, with, out string
	copy          bool
}

// Add adds the options to a command.
func (f *ExportFlags) Add(c *cobra.Command) {
	c.Flags().StringVar(&f.as, "as", "pem", "pem, der, p7b (PKCS#7) or p7b-pem")
	c.Flags().StringVar(&f.with, "with", "", "\"issuers\": the intermediates behind the leaf; \"root\": the root as "+
		"well; \"links\": only link certificates between roots; \"all\": everything, for another estate")
	c.Flags().StringVar(&f.out, "out", "", "the `FILE` or directory to write, or - for standard output")
	c.Flags().BoolVar(&f.copy, "copy", false, "put the text on the clipboard through the terminal, in place of a file")
	session.CompleteWords(c, "as", "pem", "der", "p7b", "p7b-pem")
	session.CompleteWords(c, "with", delivery.WithIssuers, delivery.WithRoot, delivery.WithLinks, delivery.WithAll)
}

func certificateExport(s *session.Session) *cobra.Command {
	var f ExportFlags
	c := &cobra.Command{
		Use:   "export CERTIFICATE",
		Short: "Write a certificate to a file, with its issuers in order",
		Long: `Write a certificate to a file named for its host: the leaf first, then its issuers, then the
root. Before it replaces a different file of the same name it asks.

` + certificateNaming,
		Example: `  ironseal certificate export booking.ternbay.example --with issuers
  ironseal certificate export R1 --as der
  ironseal certificate export R1 --with root --out -`,
		Args: session.Exactly(1, "a certificate"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			h, note, err := e.FindCertificate(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if note != "" {
				s.Errs.Say("(%s)", term.Safe(note))
			}
			return Export(s, cmd, e, h, f)
		},
		ValidArgsFunction: s.Certificates,
	}
	f.Add(c)
	return c
}

// Export writes or copies a certificate as the options say.
func Export(s *session.Session, cmd *cobra.Command, e *estate.Estate, h estate.CertificateRecord, f ExportFlags) error {
	if !slices.Contains([]string{delivery.Alone, delivery.WithIssuers, delivery.WithRoot, delivery.WithLinks,
		delivery.WithAll},
		f.with) {
		return session.Misused("--with %q: use issuers, root, links or all", f.with)
	}
	if !slices.Contains([]string{"pem", "der", "p7b", "p7b-pem"}, f.as) {
		return session.Misused("--as %q: use pem, der, p7b or p7b-pem", f.as).
			Then(advice.To("for a form with the key", advice.HandOver))
	}
	if f.copy && f.out != "" {
		return session.Misused("--copy puts the text on the clipboard, and --out writes it to a file: use one of the " +
			"two")
	}
	if f.out == "-" && s.JSON {
		return session.Misused("--out - writes the certificates themselves to standard output: leave out --json")
	}
	file, err := delivery.Export(cmd.Context(), e, h, handover.FormatNamed(f.as), f.with)
	if err != nil {
		return err
	}
	if f.out == "-" {
		return s.Out.Raw(file.Data)
	}
	if f.copy {
		return copyText(s, file.Data, h, f)
	}
	path, other, err := delivery.Target(file, s.Path(f.out))
	if err != nil {
		return err
	}
	if other {
		if err := s.Agree(cmd.Context(), fmt.Sprintf("%s is there with other content. Replace it?",
			term.Safe(path))); err != nil {
			return err
		}
	}
	if err := delivery.WriteFile(e, path, file.Data); err != nil {
		return err
	}
	sum, old := h.SHA256(), h.SHA1()
	if s.JSON {
		return s.PrintJSON(map[string]any{"file": path, "sha256": fmt.Sprintf("%x", sum),
			"sha1": fmt.Sprintf("%x", old), "check_code": label.CheckCode(h.Raw)})
	}
	s.Out.Say("%s %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(path))
	s.Out.Say("  holds       %s", term.Safe(holds(h, f.with)))
	s.Out.Say("  check code  %s   until %s, %s", s.Out.Paint(term.Accent, label.CheckCode(h.Raw)),
		h.NotAfter.Format("2006-01-02"), span.Distance(s.Moment(), h.NotAfter))
	s.Out.Say("  SHA-256     %s", label.Colons(sum[:]))
	return nil
}

// copyText puts certificates on the clipboard. Keys are never exported here.
func copyText(s *session.Session, data []byte, h estate.CertificateRecord, f ExportFlags) error {
	if f.as == "der" || f.as == "p7b" {
		return session.Misused("--copy is for text: use --as pem or p7b-pem")
	}
	if err := s.Out.Clipboard(data); err != nil {
		return session.Misused("--copy: %w", err)
	}
	s.Out.Say("%s %s on the clipboard   paste tail %s", s.Out.Paint(term.Good, "✓"), term.Safe(holds(h, f.with)),
		label.PasteTail(h.Raw))
	return nil
}

func holds(h estate.CertificateRecord, with string) string {
	switch with {
	case delivery.WithIssuers:
		return h.Title() + ", then its issuers below the root"
	case delivery.WithRoot:
		return h.Title() + ", then its issuers, then the root"
	case delivery.WithLinks:
		return h.Title() + ", then the link certificates to it"
	case delivery.WithAll:
		return h.Title() + ", then its issuers, the root and the link certificates to that"
	}
	return h.Title() + " alone"
}
