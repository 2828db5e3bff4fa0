package session

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/finding"
)

// DataFiles is a noun whose things are files that people write: templates, receivers. Its commands list and show are
// built here, and are alike.
type DataFiles[T any] struct {
	Noun string // such as "template"
	// Read returns those that can be read, and what is wrong with the others.
	Read     func(e *estate.Estate) (all []T, faults []error)
	One      func(e *estate.Estate, name string) (T, error)
	Name     func(one T) string
	Header   []string
	Cells    func(one T) []term.Cell // of a row of the list, after the name
	Title    func(one T) (title, purpose string)
	Lines    func(one T) [][]term.Cell // of show: a label and its text
	Findings func(one T) finding.List  // shown under the lines; may be nil
	Complete func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)
}

// List is the command that lists them.
func (d DataFiles[T]) List(s *Session) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List " + d.Noun + "s",
		Example: "  ironseal " + d.Noun + " list",
		Args:    Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			all, faults := d.Read(e)
			switch {
			case s.JSON:
				if err := s.PrintJSON(append([]T{}, all...)); err != nil {
					return err
				}
			case s.Quiet:
				for _, one := range all {
					s.Out.Say("%s", d.Name(one))
				}
			default:
				var rows [][]term.Cell
				for _, one := range all {
					rows = append(rows, append([]term.Cell{{Text: d.Name(one), Tone: term.Strong}}, d.Cells(one)...))
				}
				s.Out.Table(append([]string{d.Noun}, d.Header...), rows)
			}
			return errors.Join(faults...)
		},
	}
	s.QuietFlag(c, "print names only")
	return c
}

// Show is the command that shows one, with an example of one.
func (d DataFiles[T]) Show(s *Session, typed, example string) *cobra.Command {
	return &cobra.Command{
		Use:     "show " + typed,
		Short:   "Show one " + d.Noun,
		Example: "  ironseal " + d.Noun + " show " + example,
		Args:    Exactly(1, "a "+d.Noun),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			one, err := d.One(e, args[0])
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(one)
			}
			title, purpose := d.Title(one)
			s.Out.Say("%s", s.Out.Paint(term.Strong, d.Name(one)+": "+term.Safe(title)))
			s.Out.Wrapped(2, term.Normal, term.Safe(purpose))
			s.Out.Gap()
			s.Out.Table([]string{"", ""}, d.Lines(one))
			if d.Findings != nil {
				s.Out.Findings(d.Findings(one))
			}
			s.Out.Say("%s", s.Out.Paint(term.Quiet,
				fmt.Sprintf("  change it in %ss/%s.toml; it counts at once", d.Noun, d.Name(one))))
			return nil
		},
		ValidArgsFunction: d.Complete,
	}
}

// Wrote says which file was written, and what to do with it.
func (s *Session) Wrote(path, next string) error {
	if s.JSON {
		return s.PrintJSON(map[string]string{"file": path})
	}
	s.Out.Say("%s %s: %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(path), next)
	return nil
}
