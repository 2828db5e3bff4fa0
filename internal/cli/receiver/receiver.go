// Package receiver has the commands that list receivers, check and copy them.
package receiver

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/receiver"
	"ironseal/pki/span"
)

// Command is ironseal receiver.
func Command(s *session.Session) *cobra.Command {
	return session.Group("receiver",
		"Consumers of certificates: one TOML file for each kind, in the estate's receivers directory",
		session.Reading(files(s).List(s)), session.Reading(files(s).Show(s, "RECEIVER", "nginx")), copyOf(s),
		session.Reading(check(s)))
}

// files are the receivers as files that people write.
func files(s *session.Session) session.DataFiles[receiver.Receiver] {
	return session.DataFiles[receiver.Receiver]{
		Noun: "receiver", Read: (*estate.Estate).Receivers, One: (*estate.Estate).Receiver,
		Name:   func(r receiver.Receiver) string { return r.Name },
		Header: []string{"needs", "takes", "for"},
		Cells: func(r receiver.Receiver) []term.Cell {
			return []term.Cell{{Text: strings.Join(r.Demands.Usages, ", ")}, {Text: span.Count(len(r.Files), "file")},
				{Text: r.Purpose, Prose: true}}
		},
		Title: func(r receiver.Receiver) (string, string) { return r.Title, r.Purpose },
		Lines: func(r receiver.Receiver) (rows [][]term.Cell) {
			for _, l := range r.Lines() {
				rows = append(rows, []term.Cell{{Text: "  " + l.Label, Tone: term.Quiet}, {Text: l.Text, Prose: true}})
			}
			return rows
		},
		Complete: s.Receivers,
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
			return s.Wrote(path, "change what differs")
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
