// Package transfer has the commands that carry requests and answers between estates.
package transfer

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/transfer"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

// Command is ironseal transfer.
func Command(s *session.Session) *cobra.Command {
	c := session.Group("transfer", "Carry requests and certificates between estates that share no network",
		pack(s), approve(s), open(s), answer(s))
	c.Aliases = []string{"courier"} // as it was called before
	return c
}

func pack(s *session.Session) *cobra.Command {
	var ask transfer.PackAsk
	c := &cobra.Command{
		Use:   "pack FOLDER [REQUEST...]",
		Short: "Pack requests for another estate into a folder",
		Long: `Write a folder for the memory stick: the requests, a manifest with the hash of every file, a
check code to compare by phone, and a page that tells the other person what to do. The
requests are recorded as sent.

Where the estate has operators, whoever packs the folder approves it by their key, and others can
approve it after them: ironseal transfer approve.

With --lists, pack the revocation lists that were signed here, for an estate that does not
have the authority's key. An answer always contains them.`,
		Example: `  ironseal transfer pack ../to-the-safe --all --template web-server`,
		Args:    session.AtLeast(1, "the folder to make"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if ask.All && len(args) > 1 {
				return session.Misused("transfer pack: name requests, or use --all: one of the two")
			}
			ask.Dir, ask.Requests = s.Path(args[0]), args[1:]
			m, code, err := transfer.Pack(cmd.Context(), e, ask)
			if err != nil {
				return err
			}
			return packed(s, m, code, ask.Dir, nil)
		},
	}
	fl := c.Flags()
	fl.BoolVar(&ask.All, "all", false, "every request that waits")
	fl.BoolVar(&ask.Lists, "lists", false, "the revocation lists of this estate, those signed ahead too")
	fl.StringArrayVar(&ask.Handles, "authority", nil,
		"the request of this authority, a `HANDLE`, that authority apply made; may be repeated")
	fl.StringVar(&ask.Template, "template", "", "the template to ask for, for the page")
	s.CompleteHandles(c, "authority")
	return c
}

func packed(s *session.Session, m transfer.Folder, code, dir string, left []string) error {
	if s.JSON {
		return s.PrintJSON(map[string]any{"folder": dir, "check_code": code, "manifest": m})
	}
	s.Out.Say("%s %s with %s", s.Out.Paint(term.Good, "✓ packed"), term.Safe(dir), span.Count(len(m.Files), "file"))
	s.Out.Say("  check code  %s   to compare aloud at the other end", s.Out.Paint(term.Accent, code))
	for _, l := range left {
		s.Out.Say("  %s %s", s.Out.Paint(term.Careful, "! left out:"), term.Safe(l))
	}
	return nil
}

func approve(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "approve FOLDER",
		Short: "Approve a transfer folder that a colleague packed",
		Long: `Approve all that a transfer folder holds, by your operator's key: the signature is over the
manifest, which names every file by its hash. The folder must be as it was packed at this estate. The
people at the other end see who approved it, and can ask for a number of approvals (transfers in the
settings, under [approvals]).`,
		Example: "  ironseal transfer approve ../to-the-safe",
		Args:    session.Exactly(1, "the folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := transfer.ReadFolder(s.Path(args[0]))
			if err != nil {
				return err
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if !s.JSON {
				shown(s, folder)
			}
			if err := s.Agree(cmd.Context(), "Approve it?"); err != nil {
				return err
			}
			list, head, err := transfer.Approve(cmd.Context(), e, folder)
			if err != nil {
				return err
			}
			var names []string
			for _, a := range list {
				names = append(names, a.Name)
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"check_code": folder.Code, "approved_by": names,
					"journal_head": head.String()})
			}
			s.Out.Say("%s by %s   %s", s.Out.Paint(term.Good, "✓ approved"), strings.Join(names, ", "),
				s.Out.Paint(term.Quiet, "journal "+head.String()))
			return nil
		},
	}
}

// shown lists what a folder holds, for whoever approves it.
func shown(s *session.Session, c transfer.Carried) {
	m := c.Errand
	s.Out.Say("%s from %s, packed on %s, nothing changed since", term.Safe(m.Kind), term.Safe(m.From),
		m.Made.Format("2006-01-02"))
	s.Out.Say("  check code  %s", s.Out.Paint(term.Accent, c.Code))
	if m.Template != "" {
		s.Out.Say("  template    %s", term.Safe(m.Template))
	}
	for _, f := range m.Files {
		if f.Code == "" && f.Title == "" {
			continue
		}
		s.Out.Say("  %-19s %s", f.Code, term.Safe(f.Title))
		for _, n := range f.Beside {
			s.Out.Say("  %-19s its sender asks for %s too", "", term.Safe(n))
		}
	}
}

// vouched lists who approved a folder.
func vouched(s *session.Session, list []transfer.Voucher) {
	for _, v := range list {
		if v.Known != "" {
			s.Out.Say("  approved by %s, known here as %s   %s", term.Safe(v.Name), v.Known,
				s.Out.Paint(term.Quiet, v.Fingerprint))
			continue
		}
		s.Out.Say("  approved by %s, %s: compare the key with them   %s", term.Safe(v.Name),
			s.Out.Paint(term.Careful, "not known here"), s.Out.Paint(term.Quiet, v.Fingerprint))
	}
}

func open(s *session.Session) *cobra.Command {
	var anchors []string
	c := &cobra.Command{
		Use:   "open FOLDER",
		Short: "Verify a transfer folder and import what it brings",
		Long: `Verify every file of a transfer folder and import what it brings: requests, to be looked at and
signed; or certificates and revocation lists, which are matched with what was sent and checked
like any answer. A folder is imported once. If something in it could not be imported, you can
open it again.

Approvals by the operators who packed it are verified and shown. People are known by their keys:
operators of this estate, and those that the settings name (approvers, under [approvals]).`,
		Example: "  ironseal transfer open ../stick",
		Args:    session.Exactly(1, "the folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			trusted, err := s.CertificatesInAll(anchors)
			if err != nil {
				return err
			}
			dir := s.Path(args[0])
			folder, err := transfer.ReadFolder(dir)
			if err != nil {
				return err
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			approved, err := transfer.Vouchers(cmd.Context(), e, folder)
			if err != nil {
				return err
			}
			if m := folder.Errand; !s.JSON {
				s.Out.Say("%s from %s, packed on %s, %s, nothing changed on the way", term.Safe(m.Kind),
					term.Safe(m.From), m.Made.Format("2006-01-02"), span.Count(len(m.Files), "file"))
				s.Out.Say("  check code  %s   the sender must have read out the same",
					s.Out.Paint(term.Accent, folder.Code))
				vouched(s, approved)
			}
			if err := s.Agree(cmd.Context(), "Import it?"); err != nil {
				return err
			}
			o, err := transfer.OpenFolder(cmd.Context(), e, folder, trusted)
			if err != nil {
				return err
			}
			return brought(s, o)
		},
	}
	c.Flags().StringArrayVar(&anchors, "anchor", nil, "a `FILE` with a root that you trust; may be repeated")
	return c
}

func brought(s *session.Session, o transfer.Opened) error {
	faults := o.Faults
	taken := []string{}
	for _, r := range o.Received {
		taken = append(taken, fmt.Sprintf("R%d", r.Record.Number))
		if !s.JSON {
			s.Out.Say("%s R%d %s", s.Out.Paint(term.Good, "✓ received"), r.Record.Number, term.Safe(r.Request.Title()))
			for _, n := range o.Errand.Beside(r.Request) {
				s.Out.Say("  %s", s.Out.Paint(term.Careful, "its sender asks for "+term.Safe(n)+" too: add it with "+
					"--add-name"))
			}
		}
	}
	for _, a := range o.Answers {
		if a.Err != nil {
			faults = append(faults, fmt.Errorf("%s: %w", a.File, a.Err))
			continue
		}
		taken = append(taken, a.For)
		switch {
		case s.JSON:
		case a.Known:
			s.Out.Say("%s %s, %s", s.Out.Paint(term.Quiet, "· known already"), term.Safe(a.File), term.Safe(a.For))
		default:
			s.Out.Say("%s %s, for %s", s.Out.Paint(term.Good, "✓ imported"), term.Safe(a.File), term.Safe(a.For))
		}
	}
	for _, l := range o.Lists.Lists {
		taken = append(taken, l.Title())
		if !s.JSON {
			s.Out.Say("%s the revocation list %s, fresh until %s", s.Out.Paint(term.Good, "✓ imported"), l.Title(),
				l.Next.Format("2006-01-02"))
		}
	}
	s.PassedOver(o.Lists.Passed)
	s.News(o.Lists.News)
	if s.JSON {
		if err := s.PrintJSON(map[string]any{"kind": o.Errand.Kind, "check_code": o.Code,
			"approvals": o.Approved, "taken_in": taken, "learned": append([]string{}, o.Lists.News...),
			"passed_over": append([]string{},
				o.Lists.Passed...)}); err != nil {
			return err
		}
	} else if len(o.Received) > 0 {
		name := o.Errand.Template
		if name == "" {
			name = "TEMPLATE"
		}
		s.Next(session.Hint{Why: "look at them and sign them",
			Command: "ironseal sign " + taken[0] + " --template " + name})
	}
	return errors.Join(faults...)
}

func answer(s *session.Session) *cobra.Command {
	var out string
	c := &cobra.Command{
		Use:     "answer FOLDER",
		Short:   "Pack the signed certificates to be carried back",
		Example: "  ironseal transfer answer ../stick --out ../back",
		Args:    session.Exactly(1, "the folder that brought the requests"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return session.Misused("transfer answer needs the folder to make: --out FOLDER")
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			m, code, left, err := transfer.PackAnswers(cmd.Context(), e, s.Path(args[0]), s.Path(out))
			if err != nil {
				return err
			}
			return packed(s, m, code, s.Path(out), left)
		},
	}
	c.Flags().StringVar(&out, "out", "", "the `FOLDER` to make")
	return c
}
