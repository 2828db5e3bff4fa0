package trust

import (
	"context"
	"errors"
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
)

const aboutKit = `Pack a trust set for platforms: a folder for each, with the roots in the right format and under the
right names, a script or a policy where the platform has one, a list of hashes for sha256sum -c,
and a page that says what to do, what to restart and how to see that it worked.

The scripts install, remove and check. Running one twice changes nothing more; they touch only
their own files, and need nothing beyond the base system. Without a set, the estate's own roots are
packed. A root is left out while an incident about its key is open.

With --party, the party's platforms and sets are taken. Of several parties, or of all, each has a
folder of its own.

With --sign-by, a key made for this purpose signs the list of hashes. The authority certifies that
key for 90 days, and it is thrown away. Then "trust check KIT" needs only a root to tell whether
the kit was changed.`

func pack(s *session.Session) *cobra.Command {
	var platforms, party, waive []string
	var out, archive, policy, signBy, because string
	c := &cobra.Command{
		Use:   "kit [SET] --for PLATFORM,...",
		Short: "Pack a trust set for platforms",
		Long:  aboutKit,
		Example: "  ironseal trust kit --for debian,java --out ../kits\n  ironseal trust kit --for all --out ../kits\n" +
			"  ironseal trust kit --party all --out ../kits",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			e, err := s.Estate(ctx)
			if err != nil {
				return err
			}
			if len(platforms) == 0 && len(party) == 0 {
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
			return packFor(ctx, s, e, ask, party, args)
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
	c.Flags().StringSliceVar(&party, "party", nil,
		"the `PARTY` that it is for, or all: its platforms and sets, where none are named; may be repeated")
	session.Register(c, "party", s.Parties)
	s.WaiverFlags(c, &waive, &because)
	c.Flags().StringVar(&out, "out", ".", "the `DIR` in which the folders are made")
	return c
}

// packFor packs a set, for parties where they are named.
func packFor(ctx context.Context, s *session.Session, e *estate.Estate, ask anchors.PackAsk, names,
	sets []string) error {
	if len(names) > 0 {
		asks, none, err := parties.Kits(ctx, e, names, ask, sets)
		if err != nil {
			return err
		}
		if everybody := slices.Contains(names, parties.Everybody); everybody && len(asks) == 0 {
			return session.Misused("trust kit: no party has a platform on record: add one with party change, or say " +
				"for what: --for PLATFORM,...")
		} else if len(none) > 0 && !everybody {
			return session.Misused("trust kit: no platform is on record of %s: add one with party change, or say for "+
				"what: --for PLATFORM,...", strings.Join(none, ", "))
		}
		return packAll(ctx, s, e, asks, none)
	}
	var err error
	if ask.Set, err = anchors.Set(ctx, e, strings.Join(sets, "")); err != nil {
		return err
	}
	return packAll(ctx, s, e, []anchors.PackAsk{ask}, nil)
}

func packAll(ctx context.Context, s *session.Session, e *estate.Estate, asks []anchors.PackAsk, none []string) error {
	if err := agreeToPack(ctx, s, asks); err != nil {
		return err
	}
	kits, err := anchors.PackAll(ctx, e, asks)
	if err != nil && len(kits) == 0 {
		return err
	}
	return errors.Join(printKits(s, kits, none), err)
}

// agreeToPack asks what has to be asked before kits are packed: whether to sign, and whether
// earlier ones may be replaced.
func agreeToPack(ctx context.Context, s *session.Session, asks []anchors.PackAsk) error {
	if len(asks) == 0 {
		return nil
	}
	if by := asks[0].SignBy; by != "" {
		if err := s.Agree(ctx, fmt.Sprintf("Sign the kits? %s certifies a key that is used for this alone.",
			by)); err != nil {
			return err
		}
	}
	var earlier []string
	for i, ask := range asks {
		if i == 0 || ask.Dir != asks[i-1].Dir {
			s.Tidy(ask.Dir)
		}
		for _, p := range ask.Platforms {
			if at := ask.Path(p); anchors.PackedBefore(at) {
				earlier, asks[i].Replace = append(earlier, at), true
			}
		}
	}
	switch len(earlier) {
	case 0:
		return nil
	case 1:
		return s.Agree(ctx, earlier[0]+" is an earlier kit: replace it?")
	}
	return s.Agree(ctx, fmt.Sprintf("%s and %d more are earlier kits: replace them?", earlier[0], len(earlier)-1))
}

// some names the first few of many.
func some(names []string) string {
	const most = 5
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

func printKits(s *session.Session, kits []anchors.Packed, none []string) error {
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
			if !slices.Contains(about[n], k.Platform) {
				about[n] = append(about[n], k.Platform)
			}
		}
	}
	for _, n := range notes {
		s.Out.Item(s.Out.Paint(term.Careful, "!"), term.Safe(strings.Join(about[n], ", ")+": "+n))
	}
	if len(none) > 0 {
		s.Out.Item(s.Out.Paint(term.Careful, "!"), term.Safe("no platform is on record of "+some(none)))
	}
	return nil
}
