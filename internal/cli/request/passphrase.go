package request

import (
	"github.com/spf13/cobra"

	"ironseal/internal/app/ca/passphrases"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
)

func requestPassphrase(s *session.Session) *cobra.Command {
	var files []string
	c := &cobra.Command{
		Use:   "passphrase REQUEST",
		Short: "Encrypt a draft's key under another passphrase, or under its first one",
		Long: `Encrypt a draft's key under another passphrase, or under its first one. The key stays the same.
Copies that were handed over stay as they are.`,
		Example: `  ironseal request passphrase R1
  ironseal request passphrase R1 --new-passphrase-file new.txt`,
		Args: session.Exactly(1, "a request, such as R7"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			secret, err := s.NewPassphrase(files)(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			defer clear(secret)
			file, head, err := passphrases.Draft(cmd.Context(), e, args[0], secret)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"file": file, "journal_head": head.String()})
			}
			s.Out.Say("%s %s is encrypted under the new passphrase   journal %s", s.Out.Paint(term.Good, "✓"),
				term.Safe(file), head)
			return nil
		},
		ValidArgsFunction: s.Requests,
	}
	c.Flags().StringArrayVar(&files, "new-passphrase-file", nil, "read the new passphrase from a `FILE`")
	return c
}
