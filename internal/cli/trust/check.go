package trust

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/app/trust/machine"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/trust"
)

const aboutCheck = `Look into every store of trusted roots on this machine: the system's, those of Java runtimes, the
policies of Firefox and Chromium and your own profiles of them, and the variables for Node.js and
Python. It says whether each has the roots of the set, which of ours are out of date, and what
to run.

It changes nothing. The exit status is 4 if a root is missing somewhere, or if it found no store.

With the folder or archive of a kit, check the kit: whether every file is unchanged and none was
added, and whether a key that our authority certified for kits signed the list of hashes. This
needs only a root.`

func check(s *session.Session) *cobra.Command {
	var files, anchors []string
	var system string
	c := &cobra.Command{
		Use:     "check [SET|KIT]",
		Short:   "Check whether this machine trusts a set, or whether a kit is unchanged",
		Long:    aboutCheck,
		Example: "  ironseal trust check\n  ironseal trust check --store ../handed-out/root.pem",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			if len(args) == 1 {
				if _, err := os.Stat(s.Path(args[0])); err == nil {
					return checkKit(ctx, s, args[0], anchors)
				}
			}
			if len(anchors) > 0 {
				return session.Misused("trust check: --anchor is for a kit, and %s is none", strings.Join(args, ""))
			}
			e, set, err := setOf(ctx, s, args)
			if err != nil {
				return err
			}
			m := machine.Machine{Root: "/", Env: s.Env}
			if system != "" { // another system's files: this environment is not its own
				m = machine.Machine{Root: s.Path(system), Env: func(string) string { return "" }}
			}
			for i, f := range files {
				files[i] = s.Path(f)
			}
			checked, err := machine.CheckSet(ctx, e, m, set, files)
			if err != nil {
				return err
			}
			if err := printChecked(s, set.Name, checked); err != nil {
				return err
			}
			if len(checked) == 0 || slices.ContainsFunc(checked, func(c machine.Checked) bool {
				return len(c.Missing) > 0
			}) {
				return &session.Status{Code: session.No}
			}
			return nil
		},
		ValidArgsFunction: s.TrustSets,
	}
	c.Flags().StringArrayVar(&files, "store", nil,
		"look into this `FILE` too: PEM, DER, PKCS#7, PKCS#12 or Java's own form")
	c.Flags().StringArrayVar(&anchors, "anchor", nil,
		"of a kit: a `FILE` of trusted roots; those of the estate otherwise")
	c.Flags().StringVar(&system, "system", "", "look into another system, whose files are under this `DIR`")
	return c
}

// setOf finds the set that the argument names; without one, the estate's own.
func setOf(ctx context.Context, s *session.Session, args []string) (*estate.Estate, trust.Set, error) {
	e, err := s.Estate(ctx)
	if err != nil {
		return nil, trust.Set{}, err
	}
	set, err := anchors.Set(ctx, e, strings.Join(args, ""))
	return e, set, err
}

func printChecked(s *session.Session, set string, checked []machine.Checked) error {
	if s.JSON {
		out := []api.StoreCheck{}
		for _, c := range checked {
			out = append(out, api.StoreCheckOf(c.Store, c.Path, c.Kit, c.Note, c.There, c.Missing, c.Stale))
		}
		return s.PrintJSON(out)
	}
	if len(checked) == 0 {
		s.Out.Say("There is no store of trusted roots here that is known: name files with --store FILE.")
		return nil
	}
	var kits []string
	for _, c := range checked {
		mark, tone, said := "✓", term.Good, "all there"
		switch {
		case len(c.Missing) > 0 && len(c.There) > 0:
			mark, tone, said = "✗", term.Bad, fmt.Sprintf("%d of %d there", len(c.There), len(c.There)+len(c.Missing))
		case len(c.Missing) > 0:
			mark, tone, said = "✗", term.Bad, "not there"
		case len(c.Stale) > 0 || c.Note != "":
			mark, tone = "!", term.Careful
		}
		s.Out.Beside(fmt.Sprintf("%s  %s", s.Out.Paint(tone, fmt.Sprintf("%s %-11s", mark, said)),
			s.Out.Paint(term.Strong, c.Store)), s.Out.Paint(term.Quiet, term.Safe(c.Path)))
		if len(c.There) > 0 {
			for _, t := range c.Missing {
				s.Out.Item(" ", "missing: "+term.Safe(t))
			}
		}
		for _, t := range c.Stale {
			s.Out.Item(" ", "stale: "+term.Safe(t))
		}
		if c.Note != "" {
			s.Out.Item(" ", term.Safe(c.Note))
		}
		if len(c.Missing) > 0 {
			kits = append(kits, c.Kit)
		}
	}
	kits, here := machine.InstallHere(kits)
	if here {
		s.Advise(machine.InstallStep("install it on this machine", set))
	}
	if len(kits) > 0 {
		s.Advise(machine.KitStep("pack what is missing", set, kits))
	}
	return nil
}
