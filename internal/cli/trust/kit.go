package trust

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/parties"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/kit"
	"ironseal/pki/span"
	trusted "ironseal/pki/trust"
)

const aboutKit = `Pack a trust set for platforms: a folder for each, with the roots in the right format and under the
right names, a script or a policy where the platform has one, a list of hashes for sha256sum -c,
and a page that says what to do, what to restart and how to see that it worked.

The scripts install, remove and check. Running one twice changes nothing more; they touch only
their own files, and need nothing beyond the base system. Without a set, the estate's own roots are
packed. A root is left out while an incident about its key is open.

With --sign-by, a key made for this purpose signs the list of hashes. The authority certifies that
key for 90 days, and it is thrown away. Then "trust check KIT" needs only a root to tell whether
the kit was changed.`

func pack(s *session.Session) *cobra.Command {
	var platforms []string
	var out, archive, policy, signBy, party, because string
	var waive []string
	c := &cobra.Command{
		Use:     "kit [SET] --for PLATFORM,...",
		Short:   "Pack a trust set for platforms",
		Long:    aboutKit,
		Example: "  ironseal trust kit --for debian,java --out ../kits\n  ironseal trust kit --for all --out ../kits",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			e, err := s.Estate(ctx)
			if err != nil {
				return err
			}
			sets := []string{strings.Join(args, "")}
			if party != "" {
				if platforms, sets, err = ofParty(ctx, e, party, platforms, args); err != nil {
					return err
				}
			}
			if len(platforms) == 0 {
				return session.Misused("trust kit: say for what: --for PLATFORM,... or --for all; there are: %s",
					strings.Join(anchors.PlatformNames(e), ", "))
			}
			if len(platforms) == 1 && platforms[0] == "all" {
				platforms = anchors.PlatformNames(e)
			}
			ask := anchors.PackAsk{Platforms: platforms, Dir: s.Path(out), Archive: archive}
			if policy != "" {
				ask.Policy = s.Path(policy)
			}
			if archive != "" && !slices.Contains(kit.Archives(), archive) {
				return session.Misused("--archive %s: use one of %s", archive, strings.Join(kit.Archives(), ", "))
			}
			ask.SignBy = signBy
			if ask.Waivers, err = session.Waivers(waive, because); err != nil {
				return err
			}
			return packSets(ctx, s, e, ask, sets)
		},
		ValidArgsFunction: s.TrustSets,
	}
	c.Flags().StringSliceVar(&platforms, "for", nil, "a `PLATFORM`, or all; may be repeated")
	c.Flags().StringVar(&archive, "archive", "", "one file each, zip or tar.gz, in place of a folder (`FORM`)")
	session.CompleteWords(c, "archive", kit.Archives()...)
	c.Flags().StringVar(&policy, "with-policy", "",
		"the policy `FILE` that a browser has already: the kit's keeps all of it")
	c.Flags().StringVar(&signBy, "sign-by", "",
		"sign the kits by a key that is made for it and certified by this `AUTHORITY`")
	s.PartyFlag(c, &party, "the `PARTY` that it is for: its platforms and sets, where none are named")
	s.WaiverFlags(c, &waive, &because)
	c.Flags().StringVar(&out, "out", ".", "the `DIR` in which the folders are made")
	return c
}

// ofParty takes from a party the platforms and the sets that were not typed.
func ofParty(ctx context.Context, e *estate.Estate, name string, platforms, sets []string) ([]string, []string, error) {
	p, err := parties.Find(ctx, e, name)
	if err != nil {
		return nil, nil, err
	}
	if len(platforms) == 0 {
		platforms = p.Platforms
	}
	if len(sets) == 0 {
		sets = p.Sets
	}
	if len(sets) == 0 {
		sets = []string{trusted.Own}
	}
	return platforms, sets, nil
}

func packSets(ctx context.Context, s *session.Session, e *estate.Estate, ask anchors.PackAsk, sets []string) error {
	var kits []anchors.Packed
	for _, name := range sets {
		var err error
		if ask.Set, err = anchors.Set(ctx, e, name); err != nil {
			return err
		}
		if err := agreeToPack(ctx, s, &ask); err != nil {
			return err
		}
		more, err := anchors.Pack(ctx, e, ask)
		if err != nil {
			return err
		}
		kits = append(kits, more...)
	}
	return printKits(s, kits)
}

// agreeToPack asks what has to be asked before kits are packed: whether to sign, and whether
// earlier ones may be replaced.
func agreeToPack(ctx context.Context, s *session.Session, ask *anchors.PackAsk) error {
	if ask.SignBy != "" {
		if err := s.Agree(ctx, fmt.Sprintf("Sign the kits? %s certifies a key that is used for this alone.",
			ask.SignBy)); err != nil {
			return err
		}
	}
	s.Tidy(ask.Dir)
	for _, p := range ask.Platforms {
		if at := ask.Path(p); anchors.PackedBefore(at) && !ask.Replace {
			if err := s.Agree(ctx, fmt.Sprintf("%s is an earlier kit: replace those that are there?", at)); err != nil {
				return err
			}
			ask.Replace = true
		}
	}
	return nil
}

func printKits(s *session.Session, kits []anchors.Packed) error {
	if s.JSON {
		return s.PrintJSON(kits)
	}
	for _, k := range kits {
		s.Out.Say("%s %s   %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(k.Path),
			s.Out.Paint(term.Quiet, span.Count(len(k.Files), "file")))
	}
	var notes []string
	about := map[string][]string{} // the platforms that a note is about
	for _, k := range kits {
		for _, n := range k.Notes {
			if about[n] == nil {
				notes = append(notes, n)
			}
			about[n] = append(about[n], k.Platform)
		}
	}
	for _, n := range notes {
		s.Out.Item(s.Out.Paint(term.Careful, "!"), term.Safe(strings.Join(about[n], ", ")+": "+n))
	}
	return nil
}
