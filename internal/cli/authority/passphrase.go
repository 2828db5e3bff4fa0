package authority

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ca/passphrases"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

func authorityPassphrase(s *session.Session) *cobra.Command {
	var all, check bool
	var files []string
	c := &cobra.Command{
		Use:   "passphrase HANDLE...",
		Short: "Change the passphrase of an authority's keys, or check that one opens them",
		Long: `Change the passphrase of authorities' keys. The keys and certificates stay the same; the key
files are encrypted again, at today's cost. All generations of an authority get the same
passphrase. If a run was cut off, run the same command again.

Backups made before still open with the old passphrase.`,
		Example: `  ironseal authority passphrase services
  ironseal authority passphrase services --check
  ironseal authority passphrase --all --passphrase-file old.txt --new-passphrase-file new.txt`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if all == (len(args) > 0) {
				return session.Misused("authority passphrase: name the authorities, or give --all")
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			keys, err := passphrases.Of(cmd.Context(), e, args)
			switch {
			case err != nil:
				return err
			case len(keys) == 0:
				return fmt.Errorf("no key of an authority is kept here")
			case check:
				return checkPassphrases(s, cmd, e, keys)
			}
			return changePassphrases(s, cmd, e, keys, files)
		},
		ValidArgsFunction: s.Handles,
	}
	c.Flags().BoolVar(&all, "all", false, "all authorities whose keys are kept here")
	c.Flags().BoolVar(&check, "check", false, "only check that the passphrase opens the keys")
	c.Flags().StringArrayVar(&files, "new-passphrase-file", nil,
		"read the new passphrase from `[HANDLE=]FILE`; may be repeated")
	return c
}

func checkPassphrases(s *session.Session, cmd *cobra.Command, e *estate.Estate, keys []passphrases.Key) error {
	if err := passphrases.Check(cmd.Context(), e, keys); err != nil {
		return err
	}
	names := named(keys)
	if s.JSON {
		return s.PrintJSON(map[string]any{"opened": names})
	}
	s.Out.Say("%s The passphrase opens %s: %s", s.Out.Paint(term.Good, "✓"), span.Count(len(keys), "key"),
		strings.Join(names, ", "))
	return nil
}

func named(keys []passphrases.Key) []string {
	var names []string
	for _, k := range keys {
		names = append(names, k.Name)
	}
	return names
}

func changePassphrases(s *session.Session, cmd *cobra.Command, e *estate.Estate, keys []passphrases.Key,
	files []string) error {
	list, head, err := passphrases.Change(cmd.Context(), e, keys, s.NewPassphrase(files))
	if err != nil {
		return err
	}
	if s.JSON {
		return s.PrintJSON(map[string]any{"changed": list, "journal_head": head.String()})
	}
	for _, k := range list {
		if k.Already {
			s.Out.Say("%s %s had the new passphrase already", s.Out.Paint(term.Good, "✓"), k.Name)
		} else {
			s.Out.Say("%s %s has the new passphrase", s.Out.Paint(term.Good, "✓"), k.Name)
		}
	}
	s.Out.Say("  journal %s", head)
	s.Out.Hung("!", term.Careful, "Backups that were made before still open with the earlier passphrase. Delete them "+
		"where the earlier one must not open anything any more.")
	s.Next(session.Hint{Why: "make a backup", Command: "ironseal estate backup FILE"})
	return nil
}
