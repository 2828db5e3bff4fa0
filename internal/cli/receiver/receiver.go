// Package receiver has the commands that list receivers, check and copy them.
package receiver

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/receiver"
	"ironseal/pki/span"
)

// Command is ironseal receiver.
func Command(s *session.Session) *cobra.Command {
	return session.Group("receiver",
		"Consumers of certificates: one TOML file for each kind, in the estate's receivers directory",
		session.Reading(list(s)), session.Reading(show(s)), copyOf(s), session.Reading(check(s)))
}

func list(s *session.Session) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List receivers",
		Example: "  ironseal receiver list",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			all, faults := e.Receivers()
			switch {
			case s.JSON:
				if err := s.PrintJSON(append([]receiver.Receiver{}, all...)); err != nil {
					return err
				}
			case s.Quiet:
				for _, r := range all {
					s.Out.Say("%s", r.Name)
				}
			default:
				var cells [][]term.Cell
				for _, r := range all {
					cells = append(cells, []term.Cell{{Text: r.Name, Tone: term.Strong},
						{Text: strings.Join(r.Demands.Usages, ", ")}, {Text: span.Count(len(r.Files), "file")},
						{Text: r.Purpose, Prose: true}})
				}
				s.Out.Table([]string{"receiver", "needs", "takes", "for"}, cells)
			}
			return errors.Join(faults...)
		},
	}
	s.QuietFlag(c, "print names only")
	return c
}

func show(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "show RECEIVER",
		Short:   "Show one receiver",
		Example: "  ironseal receiver show nginx",
		Args:    session.Exactly(1, "a receiver"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			r, err := e.Receiver(args[0])
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(r)
			}
			s.Out.Say("%s", s.Out.Paint(term.Strong, r.Name+": "+term.Safe(r.Title)))
			s.Out.Wrapped(2, term.Normal, term.Safe(r.Purpose))
			s.Out.Gap()
			var cells [][]term.Cell
			for _, l := range r.Lines() {
				cells = append(cells, []term.Cell{{Text: "  " + l.Label, Tone: term.Quiet}, {Text: l.Text,
					Prose: true}})
			}
			s.Out.Table([]string{"", ""}, cells)
			s.Out.Say("%s", s.Out.Paint(term.Quiet,
				fmt.Sprintf("  change it in receivers/%s.toml; it counts at once", r.Name)))
			return nil
		},
		ValidArgsFunction: s.Receivers,
	}
}

func copyOf(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "copy RECEIVER NEW",
		Short:   "Copy a receiver",
		Example: "  ironseal receiver copy appliance-pem quay-gate",
		Args:    session.Exactly(2, "a receiver and a new name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			path, err := e.CopyReceiver(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]string{"file": path})
			}
			s.Out.Say("%s %s: change what differs", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(path))
			return nil
		},
		ValidArgsFunction: s.Receivers,
	}
}

type checked struct {
	Name  string `json:"name"`
	Sound bool   `json:"sound"`
	Why   string `json:"why,omitempty"`
}

func check(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "check [RECEIVER...]",
		Short:   "Check receivers for faults",
		Example: "  ironseal receiver check",
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) == 0 {
				args = e.ReceiverNames()
			}
			var faults []error
			all := []checked{}
			for _, name := range args {
				_, err := e.Receiver(name)
				c := checked{Name: name, Sound: err == nil}
				if err != nil {
					c.Why = err.Error()
					faults = append(faults, err)
				} else if !s.JSON {
					s.Out.Say("%s %s", s.Out.Paint(term.Good, "✓"), name)
				}
				all = append(all, c)
			}
			if s.JSON {
				if err := s.PrintJSON(all); err != nil {
					return err
				}
			}
			return errors.Join(faults...)
		},
		ValidArgsFunction: s.Receivers,
	}
}
