package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/describe"
	"ironseal/pki/handover"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

func (s *session) certificateCommand() *cobra.Command {
	return group("certificate", "Certificates that were signed: find them, look at them, hand them out",
		reading(s.certificateList()), reading(s.certificateShow()), reading(s.certificateExport()), reading(s.certificateCompare()), s.certificateRenew(), s.certificateAccept(), s.certificateHandover())
}

// certificateRow is a certificate in a list.
type certificateRow struct {
	Serial   string   `json:"serial"`
	Title    string   `json:"title"`
	Names    []string `json:"names"`
	State    string   `json:"state"`
	Until    string   `json:"not_after"`
	By       string   `json:"by"`
	Template string   `json:"template"`
	Request  string   `json:"request"`
}

func rowOf(h estate.Held) certificateRow {
	r := certificateRow{Serial: h.SerialHex(), Title: h.Title(), Names: []string{}, State: h.State, Until: h.NotAfter.UTC().Format("2006-01-02T15:04:05Z"), By: h.Record.Issuer, Template: h.Record.Template}
	if r.By == "" && h.SelfIssued() {
		r.By = "itself"
	} else if r.By == "" {
		r.By = "outside"
	}
	for _, n := range h.Names {
		r.Names = append(r.Names, n.String())
	}
	if h.Record.Request > 0 {
		r.Request = fmt.Sprintf("R%d", h.Record.Request)
	}
	return r
}

func (s *session) certificateList() *cobra.Command {
	var state, byTemplate, by, name string
	c := &cobra.Command{
		Use:     "list",
		Short:   "Certificates that were signed",
		Example: "  ironseal certificate list\n  ironseal certificate list --state expiring\n  ironseal certificate list --template web-server --quiet",
		Args:    exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			list, err := e.Certificates(cmd.Context())
			if err != nil {
				return err
			}
			rows := []certificateRow{}
			for _, h := range list {
				r := rowOf(h)
				handle, _, _ := strings.Cut(r.By, ".")
				if state != "" && r.State != state || byTemplate != "" && r.Template != byTemplate || by != "" && r.By != by && handle != by ||
					name != "" && !strings.Contains(strings.ToLower(r.Title+" "+strings.Join(r.Names, " ")), strings.ToLower(name)) {
					continue
				}
				rows = append(rows, r)
			}
			return s.printCertificates(rows, list)
		},
	}
	s.quietFlag(c, "print serials only")
	c.Flags().StringVar(&state, "state", "", "only those in this `STATE`: "+strings.Join(estate.States, ", "))
	c.Flags().StringVar(&byTemplate, "template", "", "only those signed by this template")
	c.Flags().StringVar(&by, "by", "", "only those signed by this authority")
	c.Flags().StringVar(&name, "name", "", "only those with this `TEXT` in a name")
	completeWords(c, "state", estate.States...)
	s.completeTemplates(c, "template")
	s.completeHandles(c, "by")
	return c
}

func (s *session) printCertificates(rows []certificateRow, list []estate.Held) error {
	switch {
	case s.json:
		return s.printJSON(rows)
	case s.quiet:
		for _, r := range rows {
			s.out.Say("%s", r.Serial)
		}
		return nil
	case len(rows) == 0:
		s.out.Say("There are no such certificates (%d in all).", len(list))
		return nil
	}
	var cells [][]term.Cell
	for _, r := range rows {
		cells = append(cells, []term.Cell{{Text: r.Serial[:min(8, len(r.Serial))], Tone: term.Quiet}, {Text: r.Title, Tone: term.Strong}, stateCell(r.State), {Text: r.Until[:10]}, {Text: r.By}, {Text: r.Template}, {Text: r.Request}})
	}
	s.out.Table([]string{"serial", "for", "state", "until", "signed by", "template", "from"}, cells)
	return nil
}

const certificateNaming = `A certificate is named by the first digits of its serial, by its request (R1), by
an authority's handle (root, or root.g1), or by a DNS name.`

func (s *session) certificateShow() *cobra.Command {
	var all, changes bool
	var field string
	c := &cobra.Command{
		Use:     "show CERTIFICATE",
		Short:   "One certificate, in words",
		Long:    "Show one certificate in words, what matters first.\n\n" + certificateNaming,
		Example: "  ironseal certificate show booking.ternbay.example\n  ironseal certificate show R1 --all\n  ironseal certificate show R1 --field sha1\n  ironseal certificate show R1 --template-changes",
		Args:    exactly(1, "a certificate"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			h, note, err := e.FindCertificate(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if note != "" {
				s.errs.Say("(%s)", term.Safe(note))
			}
			if changes {
				then, today, err := e.TemplateThen(h)
				if err != nil {
					return err
				}
				return s.printChanges(template.Compare(then, today), "as it was", "today")
			}
			o := describe.Certificate(h.Certificate, s.now())
			r := rowOf(h)
			o.Lead("state", "State", h.State)
			o.Add("by", "Signed by", r.By)
			holders, err := e.Holders(cmd.Context(), h)
			if err != nil {
				return err
			}
			if len(holders) > 0 {
				o.Add("held_by", "Held by", holders...)
			}
			o.Add("template", "Template", r.Template)
			if r.Request != "" {
				o.Add("request", "Request", r.Request)
			}
			return s.printObject(o, all, field)
		},
		ValidArgsFunction: s.certificates,
	}
	s.showFlags(c, &all, &field)
	c.Flags().BoolVar(&changes, "template-changes", false, "how its template has changed since it was signed")
	return c
}

// exportFlags are the flags of the commands that hand out certificates.
type exportFlags struct {
	as, with, out string
	copy          bool
}

func (f *exportFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.as, "as", "pem", "pem, der, p7b (PKCS#7) or p7b-pem")
	c.Flags().StringVar(&f.with, "with", "", "\"issuers\": the intermediates behind the leaf; \"root\": the root as well; \"links\": only link certificates between roots")
	c.Flags().StringVar(&f.out, "out", "", "the `FILE` or directory to write, or - for standard output")
	c.Flags().BoolVar(&f.copy, "copy", false, "put the text on the clipboard through the terminal, in place of a file")
	completeWords(c, "as", "pem", "der", "p7b", "p7b-pem")
	completeWords(c, "with", estate.WithIssuers, estate.WithRoot, estate.WithLinks)
}

func (s *session) certificateExport() *cobra.Command {
	var f exportFlags
	c := &cobra.Command{
		Use:   "export CERTIFICATE",
		Short: "Hand out a certificate, with its issuers behind it in order",
		Long: `Write a certificate to a file named for its host: the leaf first, then its
issuers, then the root. A different file of the same name is replaced only after
asking.

` + certificateNaming,
		Example: `  ironseal certificate export booking.ternbay.example --with issuers
  ironseal certificate export R1 --as der
  ironseal certificate export R1 --with root --out -`,
		Args: exactly(1, "a certificate"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			h, note, err := e.FindCertificate(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if note != "" {
				s.errs.Say("(%s)", term.Safe(note))
			}
			return s.export(cmd, e, h, f)
		},
		ValidArgsFunction: s.certificates,
	}
	f.add(c)
	return c
}

func (s *session) export(cmd *cobra.Command, e *estate.Estate, h estate.Held, f exportFlags) error {
	if !slices.Contains([]string{estate.Alone, estate.WithIssuers, estate.WithRoot, estate.WithLinks}, f.with) {
		return usage("--with %q: use issuers, root or links", f.with)
	}
	if !slices.Contains([]string{"pem", "der", "p7b", "p7b-pem"}, f.as) {
		return usage("--as %q: use pem, der, p7b or p7b-pem; a form with the key comes from: ironseal certificate handover", f.as)
	}
	file, err := e.Export(cmd.Context(), h, handover.Format(f.as), f.with)
	if err != nil {
		return err
	}
	if f.out == "-" {
		return s.out.Raw(file.Data)
	}
	if f.copy {
		return s.copyText(file.Data, h, f)
	}
	path, other, err := estate.Target(file, s.path(f.out))
	if err != nil {
		return err
	}
	if other {
		if err := s.agree(cmd.Context(), fmt.Sprintf("%s is there with other content. Replace it?", term.Safe(path))); err != nil {
			return err
		}
	}
	if err := e.WriteFile(path, file.Data); err != nil {
		return err
	}
	sum, old := h.SHA256(), h.SHA1()
	if s.json {
		return s.printJSON(map[string]any{"file": path, "sha256": fmt.Sprintf("%x", sum), "sha1": fmt.Sprintf("%x", old), "check_code": bundle.CheckCode(h.Raw)})
	}
	s.out.Say("%s %s", s.out.Paint(term.Good, "✓ wrote"), term.Safe(path))
	s.out.Say("  holds       %s", term.Safe(holds(h, f.with)))
	s.out.Say("  check code  %s   until %s, %s", s.out.Paint(term.Accent, bundle.CheckCode(h.Raw)), h.NotAfter.Format("2006-01-02"), span.Distance(s.now(), h.NotAfter))
	s.out.Say("  SHA-256     %s", describe.Grouped(sum[:16]))
	s.out.Say("              %s", describe.Grouped(sum[16:]))
	return nil
}

// copyText puts certificates on the clipboard. Keys are never exported here.
func (s *session) copyText(data []byte, h estate.Held, f exportFlags) error {
	if f.as == "der" || f.as == "p7b" {
		return usage("--copy is for text: use --as pem or p7b-pem")
	}
	if err := s.out.Clipboard(data); err != nil {
		return usage("--copy: %w", err)
	}
	s.out.Say("%s %s on the clipboard   paste tail %s", s.out.Paint(term.Good, "✓"), term.Safe(holds(h, f.with)), bundle.PasteTail(h.Raw))
	return nil
}

func holds(h estate.Held, with string) string {
	switch with {
	case estate.WithIssuers:
		return h.Title() + ", then its issuers below the root"
	case estate.WithRoot:
		return h.Title() + ", then its issuers, then the root"
	case estate.WithLinks:
		return h.Title() + ", then the link certificates to it"
	}
	return h.Title() + " alone"
}
