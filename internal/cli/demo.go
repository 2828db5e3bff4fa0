package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/demo"
	"ironseal/internal/term"
)

func (s *session) demoCommand() *cobra.Command {
	var full bool
	c := &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Watch a whole authority being set up, from nothing to a live proof",
		Long: `Play the Tern Bay Ferries scenario: every command as a person would type it, then
its output. It asks nothing, and leaves an estate that you can go on with.`,
		Example: "  ironseal demo\n  ironseal demo /tmp/ternbay --full-keys",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("demo takes one directory")
			}
			dir := demo.FreeDir()
			if len(args) == 1 {
				dir = s.path(args[0])
			}
			return s.demo(cmd.Context(), dir, full)
		},
	}
	c.Flags().BoolVar(&full, "full-keys", false, "make the keys that a real authority would have (rsa-4096)")
	return c
}

func (s *session) demo(ctx context.Context, dir string, full bool) error {
	env := s.Env
	stage := demo.Stage{
		Dir: dir, FullKeys: full,
		Narrate: func(text string) {
			s.out.Gap()
			for _, l := range strings.Split(text, "\n") {
				s.out.Say("%s", s.out.Paint(term.Accent, strings.TrimRight("# "+l, " ")))
			}
		},
		Answer: func(good bool, text string) {
			mark, tone := "✓", term.Good
			if !good {
				mark, tone = "✗", term.Careful
			}
			s.out.Wrapped(0, tone, mark+" "+term.Safe(text))
		},
		Type: func(line string, args []string) error {
			s.out.Gap()
			s.out.Say("%s", s.out.Paint(term.Strong, "$ "+line))
			app := s.App
			app.Env = func(name string) string {
				switch name {
				case "IRONSEAL_PASSPHRASE_FILE":
					return demo.PassphraseFile
				case "IRONSEAL_ESTATE":
					return ""
				}
				return env(name)
			}
			if code := app.Run(ctx, append([]string{"--color", s.colour}, args...)); code != Done {
				return fmt.Errorf("exit status %d", code)
			}
			return nil
		},
	}
	if err := demo.Play(ctx, stage); err != nil {
		return err
	}
	here, err := os.Getwd()
	if err != nil {
		return errors.Join(errors.New("demo: the estate is made, and its directory cannot be told"), err)
	}
	s.out.Gap()
	s.out.Say("The estate stays in %s. Go on with it:", term.Safe(here))
	s.out.Say("  %s", s.out.Paint(term.Accent, "cd "+term.Safe(here)+" && export IRONSEAL_PASSPHRASE_FILE="+filepath.Join(filepath.Dir(here), "passphrase.txt")))
	s.out.Say("  %s", s.out.Paint(term.Accent, "ironseal sign R5 --template web-server"))
	return nil
}
