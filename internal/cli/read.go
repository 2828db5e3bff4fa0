package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/describe"
)

func (s *session) readCommand() *cobra.Command {
	var all bool
	c := reading(&cobra.Command{
		Use:   "read FILE|-...",
		Short: "Say in words what a file holds: certificates, requests, keys",
		Long: `Decode whatever this trade passes around, and say what matters first. Several
objects in one file are all told. A certificate that strict readers refuse is
told as far as it goes, with its faults. No estate is needed.`,
		Example: "  ironseal read ../inbox/mail.txt\n  ironseal read - < ../inbox/mail.txt\n  ironseal read --all ../inbox/mail.txt",
		Args:    atLeast(1, "a file, or -"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var objects []describe.Object
			var faults []error
			for _, a := range args {
				inputs, err := estate.ReadInput(s.path(a), s.stdin)
				if err != nil {
					return err
				}
				for _, in := range inputs {
					list, errs := s.readOne(in, len(args) > 1 || len(inputs) > 1, all)
					objects, faults = append(objects, list...), append(faults, errs...)
				}
			}
			if s.json {
				if objects == nil {
					objects = []describe.Object{}
				}
				if err := s.printJSON(objects); err != nil {
					return err
				}
			}
			return errors.Join(faults...)
		},
	})
	c.Flags().BoolVar(&all, "all", false, "show the details too")
	return c
}

func (s *session) readOne(in estate.Input, named, all bool) (out []describe.Object, faults []error) {
	c, err := bundle.Read(in.Data)
	if err != nil {
		return nil, []error{fmt.Errorf("%s: %w", in.Name, err)}
	}
	if named && !s.json {
		s.out.Say("%s", s.out.Paint(term.Quiet, "── "+term.Safe(in.Name)))
	}
	if len(c.Remarks) > 0 && !s.json {
		s.out.Say("%s", s.out.Paint(term.Quiet, "understood in spite of: "+strings.Join(c.Remarks, ", ")))
	}
	for i, obj := range c.Objects {
		o, err := describe.Any(obj, s.now())
		if err != nil {
			faults = append(faults, fmt.Errorf("%s: number %d, a %s: %w", in.Name, i+1, obj.Kind, err))
			continue
		}
		if out = append(out, o); s.json {
			continue
		}
		if i > 0 {
			s.out.Gap()
		}
		s.out.Describe(o, all)
	}
	for _, p := range c.Problems {
		faults = append(faults, fmt.Errorf("%s: %w", in.Name, p))
	}
	return out, faults
}
