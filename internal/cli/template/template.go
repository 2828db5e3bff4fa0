// Package template has the commands that list templates, check, copy and compare them.
package template

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/finding"
	"ironseal/pki/template"
)

// Command is ironseal template.
func Command(s *session.Session) *cobra.Command {
	return session.Group("template",
		"What may be signed: one TOML file for each template, in the estate's templates directory",
		session.Reading(files(s).List(s)), session.Reading(files(s).Show(s, "TEMPLATE", "web-server")),
		templateCopy(s), templateAllow(s),
		session.Reading(templateCheck(s)),
		session.Reading(templateCompare(s)))
}

// files are the templates as files that people write.
func files(s *session.Session) session.DataFiles[template.Template] {
	return session.DataFiles[template.Template]{
		Noun: "template", Read: (*estate.Estate).Templates, One: (*estate.Estate).Template,
		Name:   func(t template.Template) string { return t.Name },
		Header: []string{"lives", "signed by", "purpose"},
		Cells: func(t template.Template) []term.Cell {
			return []term.Cell{{Text: t.Lifetime.Words()}, {Text: strings.Join(t.Issuers, ", ")},
				{Text: t.Purpose, Prose: true}}
		},
		Title: func(t template.Template) (string, string) { return t.Title, t.Purpose },
		Lines: func(t template.Template) (rows [][]term.Cell) {
			for _, l := range t.Words() {
				rows = append(rows, []term.Cell{{Text: "  " + l.Label, Tone: term.Quiet}, {Text: l.Text}})
			}
			return rows
		},
		Findings: func(t template.Template) finding.List { return t.Contradictions() },
		Complete: s.Templates,
	}
}

type checkedTemplate struct {
	Name     string       `json:"name"`
	Findings finding.List `json:"findings"`
}

func templateCheck(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "check [TEMPLATE...]",
		Short:   "Check templates for faults and contradictions",
		Example: "  ironseal template check",
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
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
			all := []checkedTemplate{}
			for _, t := range list {
				f, err := e.CheckTemplate(cmd.Context(), t)
				if err != nil {
					return err
				}
				all = append(all, checkedTemplate{t.Name, api.FindingsOf(f, s.Speller())})
				if s.JSON {
					continue
				}
				if len(f) == 0 {
					s.Out.Say("%s %s", s.Out.Paint(term.Good, "✓"), t.Name)
				} else {
					s.Out.Say("%s %s", s.Out.Paint(term.Careful, "!"), t.Name)
					s.Out.Findings(f)
				}
			}
			if s.JSON {
				if err := s.PrintJSON(all); err != nil {
					return err
				}
			}
			return errors.Join(faults...)
		},
		ValidArgsFunction: s.Templates,
	}
}

func templateCopy(s *session.Session) *cobra.Command {
	var title string
	c := &cobra.Command{
		Use:   "copy TEMPLATE NEW",
		Short: "Create a template that is based on another",
		Long: `Write templates/NEW.toml, based on TEMPLATE. The new file has only what differs. A later change in
TEMPLATE counts for the new one too.`,
		Example: `  ironseal template copy web-server quay-device --title "Quay device"
  ironseal template compare web-server mail-server`,
		Args: session.Exactly(2, "a template and a new name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			path, err := e.CopyTemplate(cmd.Context(), args[0], args[1], title)
			if err != nil {
				return err
			}
			return s.Wrote(path, "write the differences into it")
		},
		ValidArgsFunction: s.Templates,
	}
	c.Flags().StringVar(&title, "title", "", "what the new one is called, in a few words")
	return c
}

func templateAllow(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "allow TEMPLATE AUTHORITY",
		Short: "Let an authority sign by a template",
		Long: `Add an authority to the issuers in the template's file. A root may not sign servers until you allow
it: with an intermediate, the root's key can stay locked away.`,
		Example: "  ironseal template allow web-server root",
		Args:    session.Exactly(2, "a template and an authority"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			path, err := e.AllowIssuer(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]string{"file": path})
			}
			s.Out.Say("%s %s may sign by %s   %s", s.Out.Paint(term.Good, "✓"), args[1], args[0],
				s.Out.Paint(term.Quiet, term.Safe(path)))
			return nil
		},
		ValidArgsFunction: s.Templates,
	}
}

func templateCompare(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "compare A B",
		Short:   "Compare two templates",
		Example: "  ironseal template compare web-server mutual-peer",
		Args:    session.Exactly(2, "two templates"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
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
			return s.PrintChanges(template.Compare(a, b), a.Name, b.Name)
		},
		ValidArgsFunction: s.Templates,
	}
}
