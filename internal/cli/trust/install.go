package trust

import (
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/app/trust/machine"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

const aboutHere = `It shows what will change and asks first. Without --for it is the system's store; with it any
platform whose kit has a script, such as node, python, curl, git or go. If a step fails, this
run is undone. It touches only its own files, and needs administrator rights.

On Windows the system's own calls change the store. Windows may ask once more before it changes
your own store (--mine).`

func install(s *session.Session) *cobra.Command {
	return here(s, "install", "Install a trust set on this machine",
		"Install a trust set on this machine. "+aboutHere)
}

func remove(s *session.Session) *cobra.Command {
	return here(s, "remove", "Remove a trust set from this machine",
		"Remove the roots of a set from this machine. "+aboutHere)
}

// here is an act on this machine.
func here(s *session.Session, act, short, long string) *cobra.Command {
	var platforms []string
	var mine bool
	c := &cobra.Command{
		Use:     act + " [SET]",
		Short:   short,
		Long:    long,
		Example: "  ironseal trust " + act + " --for node,python",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			e, set, err := setOf(ctx, s, args)
			if err != nil {
				return err
			}
			if len(platforms) == 0 {
				platforms = machine.Machine{Root: "/", Env: s.Env}.Systems()
			}
			change, err := machine.PlanChange(ctx, e, act, set, platforms, mine)
			if err != nil {
				return err
			}
			defer change.Close()
			if change.Empty() {
				if s.JSON {
					return s.PrintJSON(change.Platforms)
				}
				s.Out.Say("%s nothing to do: it is so already", s.Out.Paint(term.Good, "✓"))
				return nil
			}
			if !s.JSON {
				printChange(s, change)
			}
			if err := s.Agree(ctx, fmt.Sprintf("Do as shown on this machine: %s?",
				span.Count(len(set.Anchors), "anchor"))); err != nil {
				return err
			}
			head, err := change.Do(ctx, e)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(change.Platforms)
			}
			s.Out.Say("%s done   journal %s", s.Out.Paint(term.Good, "✓"), head)
			return nil
		},
		ValidArgsFunction: s.TrustSets,
	}
	c.Flags().BoolVar(&mine, "mine", false, "your own store instead of the machine's, on Windows; needs no "+
		"administrator rights")
	c.Flags().StringSliceVar(&platforms, "for", nil, "for this `PLATFORM` instead of the system's store; may be "+
		"repeated")
	return c
}

func printChange(s *session.Session, c *machine.Change) {
	s.Out.Say("%s", s.Out.Paint(term.Strong, "On this machine, with the set "+c.Set.Name))
	for _, a := range c.Set.Anchors {
		s.Out.Gap()
		drawAnchor(s, a)
	}
	s.Out.Gap()
	for _, p := range c.Platforms {
		for _, step := range p.Steps {
			s.Out.Say("  %s %s", s.Out.Paint(term.Quiet, fmt.Sprintf("%-9s", p.Platform)), term.Safe(step))
		}
	}
	s.Out.Gap()
}
