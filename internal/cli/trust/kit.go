package trust

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/act/trusting"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

const aboutKit = `Pack a trust set for platforms: a folder for each, with the roots in the encoding and
under the names that the platform wants, a script or a policy where it has one, a
list of hashes for sha256sum -c, and a page that says what to do, what to start
again and how to see that it worked.

The scripts install, remove and check, do no more when run twice, touch nothing but
their own files, and need nothing beyond the base system. Without a set it is the
estate's own roots.`

func pack(s *session.Session) *cobra.Command {
	var platforms []string
	var out string
	c := &cobra.Command{
		Use:     "kit [SET] --for PLATFORM,...",
		Short:   "Pack a trust set for the platforms that are to trust it",
		Long:    aboutKit,
		Example: "  ironseal trust kit --for debian,java --out ../kits\n  ironseal trust kit --for all --out ../kits",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			e, err := s.Estate(ctx)
			if err != nil {
				return err
			}
			if len(platforms) == 0 {
				return session.Misused("trust kit: say for what: --for PLATFORM,... or --for all; there are: %s",
					strings.Join(trusting.PlatformNames(e), ", "))
			}
			if len(platforms) == 1 && platforms[0] == "all" {
				platforms = trusting.PlatformNames(e)
			}
			set, err := trusting.Set(ctx, e, strings.Join(args, ""))
			if err != nil {
				return err
			}
			replace := false
			dir := s.Path(out)
			s.Tidy(dir)
			for _, p := range platforms {
				if folder := trusting.KitDir(dir, set, p); trusting.PackedBefore(folder) && !replace {
					if err := s.Agree(ctx, fmt.Sprintf("%s holds an earlier kit: replace those that are there?",
						folder)); err != nil {
						return err
					}
					replace = true
				}
			}
			kits, err := trusting.Pack(ctx, e, set, platforms, dir, replace)
			if err != nil {
				return err
			}
			return printKits(s, kits)
		},
		ValidArgsFunction: s.TrustSets,
	}
	c.Flags().StringSliceVar(&platforms, "for", nil, "the `PLATFORM`s, or all")
	c.Flags().StringVar(&out, "out", ".", "the `DIR` in which the folders are made")
	return c
}

func printKits(s *session.Session, kits []trusting.Packed) error {
	if s.JSON {
		return s.PrintJSON(kits)
	}
	told := map[string]bool{}
	for _, k := range kits {
		s.Out.Say("%s %s   %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(k.Dir),
			s.Out.Paint(term.Quiet, span.Count(len(k.Files), "file")))
	}
	for _, k := range kits {
		for _, n := range k.Notes {
			if !told[n] {
				told[n] = true
				s.Out.Item(s.Out.Paint(term.Careful, "!"), term.Safe(k.Platform+": "+n))
			}
		}
	}
	return nil
}
