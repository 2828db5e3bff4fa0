package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/cli/session"
	"ironseal/internal/demo"
	"ironseal/internal/term"
)

// stories are what the demo plays.
var stories = []string{"founding", "renewal", "devices", "stolen", "desk", "machines", "team"}

func demoCommand(s *session.Session) *cobra.Command {
	var full bool
	var story string
	c := &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Watch an authority being set up, step by step, with made-up data",
		Long: `Play the Tern Bay Ferries scenario: every command as a person would type it, then its output. It
asks nothing, and leaves an estate that you can use.

--story renewal plays fourteen years in a rehearsal. --story devices puts eight live devices
right and changes their root. --story stolen follows a lost authority key until nothing
depends on it. --story desk serves an estate: a colleague asks for a certificate in a browser.
--story machines lets machines get and renew their certificates themselves. --story team lets
several people share an estate: signed acts, roles, agreement of two, custodians of a key.`,
		Example: "  ironseal demo\n  ironseal demo /tmp/ternbay --full-keys\n  ironseal demo /tmp/history --story renewal",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return session.Misused("demo takes one directory")
			}
			dir := demo.FreeDir()
			if len(args) == 1 {
				dir = s.Path(args[0])
			}
			if err := session.OneOf("story", story, stories...); err != nil {
				return err
			}
			return play(cmd.Context(), s, dir, full, story)
		},
	}
	c.Flags().StringVar(&story, "story", "founding", "the `STORY` to play: founding, renewal, devices, stolen, "+
		"desk, machines or team")
	session.CompleteWords(c, "story", stories...)
	c.Flags().BoolVar(&full, "full-keys", false, "make the keys that a real authority would have (rsa-4096)")
	return c
}

// stageOf is where a story is played: what it types runs as if a person had typed it.
func stageOf(ctx context.Context, s *session.Session, dir string, full bool) demo.Stage {
	return demo.Stage{
		Dir: dir, FullKeys: full,
		Narrate: func(text string) {
			s.Out.Gap()
			for _, l := range strings.Split(text, "\n") {
				s.Out.Say("%s", s.Out.Paint(term.Accent, strings.TrimRight("# "+l, " ")))
			}
		},
		Answer: func(good bool, text string) {
			mark, tone := "✓", term.Good
			if !good {
				mark, tone = "✗", term.Careful
			}
			s.Out.Wrapped(0, tone, mark+" "+term.Safe(text))
		},
		Type: func(line string, args []string) error { return typed(ctx, s, inStory(s), line, args) },
		Catch: func(line string, args []string) (string, error) {
			var said strings.Builder
			app := inStory(s)
			app.Stdout = io.MultiWriter(s.Stdout, &said)
			err := typed(ctx, s, app, line, args)
			return said.String(), err
		},
		Serve: func(line string) (func(), error) { return background(ctx, s, line) },
	}
}

func typed(ctx context.Context, s *session.Session, app session.App, line string, args []string) error {
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Strong, "$ "+line))
	if code := Run(ctx, app, append([]string{"--color", s.Colour}, args...)); code != session.Done {
		return fmt.Errorf("exit status %d", code)
	}
	return nil
}

// inStory is the world of commands that a story types.
func inStory(s *session.Session) session.App {
	app, env := s.App, s.Env
	app.Env = func(name string) string {
		switch name {
		case "IRONSEAL_PASSPHRASE_FILE":
			return demo.PassphraseFile
		case "IRONSEAL_ESTATE":
			return ""
		}
		return env(name)
	}
	return app
}

// begun is what a command that keeps running prints once it has begun.
const begun = "Ctrl-C"

// background types a command that keeps running, and returns once it has begun.
func background(ctx context.Context, s *session.Session, line string) (stop func(), err error) {
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Strong, "$ ironseal "+line))
	app := inStory(s)
	out := &until{to: s.Stdout, text: begun, seen: make(chan struct{})}
	var said bytes.Buffer // its log is no part of the story
	app.Stdout, app.Stderr = out, &said
	running, cancel := context.WithCancel(ctx)
	done := make(chan int, 1)
	go func() {
		done <- Run(running, app, append([]string{"--color", s.Colour}, demo.Split(line)...))
	}()
	select {
	case code := <-done:
		cancel()
		return nil, fmt.Errorf("exit status %d: %s", code, strings.TrimSpace(said.String()))
	case <-out.seen:
	}
	return func() {
		cancel()
		<-done
	}, nil
}

// until passes on what is written, up to and with a text, and drops the rest.
type until struct {
	to   io.Writer
	text string
	seen chan struct{}
	over bool
}

func (u *until) Write(p []byte) (int, error) {
	if u.over {
		return len(p), nil
	}
	if bytes.Contains(p, []byte(u.text)) {
		u.over = true
		defer close(u.seen)
	}
	return u.to.Write(p)
}

func play(ctx context.Context, s *session.Session, dir string, full bool, story string) error {
	stage := stageOf(ctx, s, dir, full)
	play := demo.Play
	switch story {
	case "devices":
		play = demo.PlayDevices
	case "stolen":
		play = demo.PlayStolen
	case "desk":
		play = demo.PlayDesk
	case "machines":
		play = demo.PlayMachines
	case "team":
		play = demo.PlayTeam
	case "renewal":
		play = func(ctx context.Context, stage demo.Stage) error { return demo.PlayRenewal(ctx, stage, s.Moment()) }
	}
	if err := play(ctx, stage); err != nil {
		return err
	}
	here, err := os.Getwd()
	if err != nil {
		return errors.Join(errors.New("demo: the estate is made, and its directory cannot be determined"), err)
	}
	s.Out.Gap()
	s.Out.Say("The estate stays in %s. Continue with it:", term.Safe(here))
	if story == "renewal" {
		s.Out.Say("  %s", s.Out.Paint(term.Accent,
			s.Shell.Then(s.Shell.Go(here), "ironseal forecast --horizon 30y --as-of 2040-01-01")))
		return nil
	}
	s.Out.Say("  %s", s.Out.Paint(term.Accent,
		s.Shell.Then(s.Shell.Go(here), s.Shell.Set("IRONSEAL_PASSPHRASE_FILE", filepath.Join(filepath.Dir(here),
			"passphrase.txt")))))
	if story == "founding" {
		s.Out.Say("  %s", s.Out.Paint(term.Accent, "ironseal sign R5 --template web-server"))
	}
	return nil
}
