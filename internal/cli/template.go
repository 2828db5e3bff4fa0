package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/term"
	"ironseal/pki/finding"
	"ironseal/pki/template"
)

func (s *Session) templateCommand() *cobra.Command {
	return group("template", "What may be signed: one TOML file a template, in the estate's templates directory",
		reading(s.templateList()), reading(s.templateShow()), s.templateCopy(), reading(s.templateCheck()),
		reading(s.templateCompare()))
}

func (s *Session) templateList() *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "All templates",
		Example: "  ironseal template list",
		Args:    exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			list, faults := e.Templates()
			switch {
			case s.json:
				if err := s.printJSON(list); err != nil {
					return err
				}
			case s.quiet:
				for _, t := range list {
					s.out.Say("%s", t.Name)
				}
			default:
				var cells [][]term.Cell
				for _, t := range list {
					cells = append(cells, []term.Cell{{Text: t.Name, Tone: term.Strong}, {Text: t.Lifetime.Words()},
						{Text: strings.Join(t.Issuers, ", ")}, {Text: t.Purpose, Prose: true}})
				}
				s.out.Table([]string{"template", "lives", "signed by", "purpose"}, cells)
			}
			return errors.Join(faults...)
		},
	}
	s.quietFlag(c, "print names only")
	return c
}

func (s *Session) templateShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show TEMPLATE",
		Short:   "One template, in words",
		Example: "  ironseal template show web-server",
		Args:    exactly(1, "a template"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			t, err := e.Template(args[0])
			if err != nil {
				return err
			}
			if s.json {
				return s.printJSON(t)
			}
			s.drawTemplate(t)
			return nil
		},
		ValidArgsFunction: s.templates,
	}
}

func (s *Session) drawTemplate(t template.Template) {
	s.out.Say("%s", s.out.Paint(term.Strong, t.Name+": "+term.Safe(t.Title)))
	s.out.Wrapped(2, term.Normal, term.Safe(t.Purpose))
	s.out.Gap()
	var cells [][]term.Cell
	for _, l := range t.Words() {
		cells = append(cells, []term.Cell{{Text: "  " + l.Label, Tone: term.Quiet}, {Text: l.Text}})
	}
	s.out.Table([]string{"", ""}, cells)
	s.out.Findings(t.Contradictions())
	s.out.Say("%s", s.out.Paint(term.Quiet, fmt.Sprintf("  change it in templates/%s.toml; it counts at once", t.Name)))
}

func (s *Session) templateCheck() *cobra.Command {
	return &cobra.Command{
		Use:     "check [TEMPLATE...]",
		Short:   "Check templates for faults and contradictions",
		Example: "  ironseal template check",
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			list, faults := e.Templates()
			if len(args) > 0 {
				list, faults = nil, nil
				for _, a := range args {
					t, err := e.Template(a)
					if err != nil {
						faults = append(faults, err)
						continue
					}
					list = append(list, t)
				}
			}
			all := map[string]finding.List{}
			for _, t := range list {
				f, err := e.CheckTemplate(cmd.Context(), t)
				if err != nil {
					return err
				}
				all[t.Name] = f
				if s.json {
					continue
				}
				if len(f) == 0 {
					s.out.Say("%s %s", s.out.Paint(term.Good, "✓"), t.Name)
				} else {
					s.out.Say("%s %s", s.out.Paint(term.Careful, "!"), t.Name)
					s.out.Findings(f)
				}
			}
			if s.json {
				if err := s.printJSON(all); err != nil {
					return err
				}
			}
			return errors.Join(faults...)
		},
		ValidArgsFunction: s.templates,
	}
}

func (s *Session) templateCopy() *cobra.Command {
	var title string
	c := &cobra.Command{
		Use:   "copy TEMPLATE NEW",
		Short: "Make a template that is based on another",
		Long: `Write templates/NEW.toml, based on TEMPLATE. Only what differs stands in the new
file; whatever is changed in TEMPLATE later counts for the new one too.`,
		Example: "  ironseal template copy web-server quay-device --title \"Quay device\"\n  ironseal template " +
			"compare web-server mail-server",
		Args: exactly(2, "a template and a new name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			path, err := e.CopyTemplate(cmd.Context(), args[0], args[1], title)
			if err != nil {
				return err
			}
			if s.json {
				return s.printJSON(map[string]string{"file": path})
			}
			s.out.Say("%s %s: write the differences into it", s.out.Paint(term.Good, "✓ wrote"), term.Safe(path))
			return nil
		},
		ValidArgsFunction: s.templates,
	}
	c.Flags().StringVar(&title, "title", "", "what the new one is called, in a few words")
	return c
}

func (s *Session) templateCompare() *cobra.Command {
	return &cobra.Command{
		Use:     "compare A B",
		Short:   "How two templates differ, in words",
		Example: "  ironseal template compare web-server mutual-peer",
		Args:    exactly(2, "two templates"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.estate(cmd.Context())
			if err != nil {
				return err
			}
			a, err := e.Template(args[0])
			if err != nil {
				return err
			}
			b, err := e.Template(args[1])
			if err != nil {
				return err
			}
			return s.printChanges(template.Compare(a, b), a.Name, b.Name)
		},
		ValidArgsFunction: s.templates,
	}
}

func (s *Session) printChanges(list []template.Change, a, b string) error {
	if s.json {
		return s.printJSON(append([]template.Change{}, list...))
	}
	if len(list) == 0 {
		s.out.Say("%s %s and %s say the same", s.out.Paint(term.Good, "✓"), a, b)
		return nil
	}
	var cells [][]term.Cell
	for _, c := range list {
		cells = append(cells, []term.Cell{{Text: c.Label, Tone: term.Quiet}, {Text: orDash(c.A)},
			{Text: orDash(c.B), Tone: term.Careful}})
	}
	s.out.Table([]string{"", a, b}, cells)
	return nil
}
