package authority

import (
	"context"
	"path/filepath"
	"sync"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ca/custody"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/term"
	"ironseal/pki/journal"
)

func authorityCustody(s *session.Session) *cobra.Command {
	var to string
	var confirm bool
	c := &cobra.Command{
		Use:   "custody HANDLE --to agent|records|folder",
		Short: "Say who holds an authority's key: an SSH agent, the records, or a folder of this machine",
		Long: `With --to agent, let an SSH agent hold the keys of an authority that are in files here: the agent that
SSH_AUTH_SOCK names, which may be on another machine, with a forwarded socket. Where the agent does
not hold the key yet, as a token would, it is put into it. The agent must sign with it before anything
is changed. The key and the certificates stay the same.

The sealed file is moved into the folder aside. Keep a copy of it off this machine: an agent forgets
a key that is not on a token when it ends.

An agent signs 250 KiB at once. Longer revocation lists need parts (part-size in the settings).

With --to records, the sealed files stand in the records, for every machine that shares them. They are
sealed as before: who reads the records still needs the passphrase. The files here are moved into the
folder aside. Delete copies of them at other machines, or move them aside there: "estate check" names
them. With --to folder, the sealed files come back into the folder keys of this machine.`,
		Example: "  ironseal authority custody services --to agent\n  ironseal authority custody services --to records",
		Args:    session.Exactly(1, "the authority's handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return moveKeys(cmd, s, args[0], to, confirm)
		},
		ValidArgsFunction: s.Handles,
	}
	c.Flags().StringVar(&to, "to", "", "who is to hold it: `agent`, records or folder")
	c.Flags().BoolVar(&confirm, "confirm", false, "let the agent ask before each use")
	session.CompleteWords(c, "to", "agent", estate.KeepRecords, estate.KeepFolder)
	return c
}

// moveKeys lets someone else hold an authority's keys.
func moveKeys(cmd *cobra.Command, s *session.Session, handle, to string, confirm bool) error {
	move := map[string]func(context.Context, *estate.Estate, string) ([]custody.Moved, journal.Head, error){
		"agent": func(ctx context.Context, e *estate.Estate, handle string) ([]custody.Moved, journal.Head, error) {
			return custody.ToAgent(ctx, e, handle, confirm)
		},
		estate.KeepRecords: custody.ToRecords, estate.KeepFolder: custody.ToFolder}[to]
	if move == nil {
		return session.Misused("say who is to hold the key: --to agent, --to records or --to folder")
	}
	if confirm && to != "agent" {
		return session.Misused("--confirm goes with --to agent")
	}
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return err
	}
	words := custodyWords()[to]
	if need := e.Needs(event.KeyHeld{}); need > 1 {
		if err := agreeToHandle(s, cmd, e, event.KeyHeld{}, handle, to, words.title, words.question); err != nil {
			return err
		}
	}
	list, head, err := move(cmd.Context(), e, handle)
	if err != nil {
		return err
	}
	if s.JSON {
		return s.PrintJSON(map[string]any{"keys": list, "journal_head": head.String()})
	}
	for _, m := range list {
		s.Out.Say("%s the key of %s %s   %s", s.Out.Paint(term.Good, "✓"), m.Name, words.done,
			s.Out.Paint(term.Quiet, "journal "+head.String()))
		if m.Aside != "" {
			s.Out.Say("  its sealed file is %s now", term.Safe(filepath.Join("aside", filepath.Base(m.Aside))))
		}
	}
	return nil
}

// custodyWords say what becomes of a key, for a proposal, a question, and when it is done.
var custodyWords = sync.OnceValue(func() map[string]struct{ title, question, done string } {
	return map[string]struct{ title, question, done string }{
		"agent": {"let an agent hold the key of", "Let an agent hold the key?", "is held by the SSH agent"},
		estate.KeepRecords: {"let the records keep the sealed key of", "Let the records keep the sealed key?",
			"stands sealed in the records"},
		estate.KeepFolder: {"bring the sealed key to one machine: that of", "Bring the sealed key to this machine?",
			"stands sealed in the folder keys of this machine"},
	}
})
