// Command ironseal runs a private certificate authority. This file builds the
// real world (clock, randomness, terminal, file system) and hands it to cli.
package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"os/signal"
	"os/user"
	"runtime/debug"
	"syscall"
	"time"

	"ironseal/internal/cli"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	giveUpLater := context.AfterFunc(ctx, func() { time.AfterFunc(patience, giveUp) })
	restore := term.ShowUTF8()
	code := cli.Run(ctx, session.App{
		Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Console: term.Device{}, Now: time.Now,
		Random: rand.Reader, Shell: term.ParentShell(),
		Actor: actor(), Env: os.Getenv, Version: version(),
	}, os.Args[1:])
	giveUpLater() // it ended on its own
	stop()
	restore()
	os.Exit(code)
}

// patience is how long what is under way has to end on its own after Ctrl-C or
// SIGTERM: to finish a change that was begun, to set the terminal right.
const patience = 900 * time.Millisecond

// giveUp ends whatever computes on. That is safe at any moment: what was shown is on
// record, and what is not on record was not shown.
func giveUp() {
	fmt.Fprintln(os.Stderr, "ironseal: stopped in the middle of a computation; what was on record before stays")
	os.Exit(session.Failed)
}

// actor is who the journal names.
func actor() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return fmt.Sprintf("uid %d", os.Getuid())
}

// version tells the build's revision.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "of unknown build"
	}
	revision, changed := "unknown revision", ""
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			revision = s.Value[:min(12, len(s.Value))]
		case s.Key == "vcs.modified" && s.Value == "true":
			changed = ", changed since"
		}
	}
	return fmt.Sprintf("%s (%s%s), %s", info.Main.Version, revision, changed, info.GoVersion)
}
