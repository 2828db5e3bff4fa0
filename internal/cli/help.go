package cli

import (
	"errors"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/strict"
)

// tasks are the commands in the order in which people come to need them. A command
// that is in none of them is shown last.
var tasks = []struct {
	name     string
	commands []string
}{
	{"set up", []string{"estate", "authority", "template"}},
	{"receive", []string{"request", "read"}},
	{"sign", []string{"sign"}},
	{"hand over", []string{"certificate", "receiver", "convert", "transfer"}},
	{"trust", []string{"trust", "party"}},
	{"revoke", []string{"revoke", "unhold", "revocations", "incident"}},
	{"renew", []string{"forecast", "due", "changeover"}},
	{"check", []string{"verify", "probe", "journal"}},
	{"learn", []string{"demo", "help", "reference", "completion", "version"}},
}

// statuses are the exit statuses, for whoever writes scripts.
var statuses = [][2]string{{"0", "done"}, {"1", "failed"}, {"2", "wrong usage"},
	{"3", "refused by findings, or declined at the sheet"}, {"4", "the answer is no"},
	{"5", "with --alarm: done, and something needs attention soon"}}

// environment are the variables that are read.
var environment = [][2]string{{"IRONSEAL_ESTATE", "the estate's directory"},
	{"IRONSEAL_PASSPHRASE_FILE", "a file that passphrases are read from"},
	{"NO_COLOR", "no colour"}, {"COLORFGBG", "the terminal's colours: the last number is the background's"},
	{"COLUMNS", "how wide lines may be"}}

// valueWords describe the values of options whose text names none.
var valueWords = sync.OnceValue(func() map[string]string {
	return map[string]string{"as": "FORM", "because": "TEXT", "by": "HANDLE", "color": "WHEN", "count": "N",
		"lifetime": "SPAN", "name": "NAME", "levels-below": "N", "policy": "OID", "request": "REQUEST",
		"state": "STATE", "subject": "DN", "suspect": "TEXT", "template": "TEMPLATE", "title": "TEXT", "usage": "USAGE",
		"with": "WHAT", "new-passphrase-file": "[HANDLE=]FILE", "fingerprint": "HEX", "authority": "HANDLE",
		"may-certify": "NAME", "may-not-certify": "NAME"}
})

// option writes an option with a word for its value, and what it does.
func option(f *pflag.Flag) (name, text string) {
	value, text := pflag.UnquoteUsage(f)
	switch {
	case f.Value.Type() == "bool":
		value = ""
	case !strings.Contains(f.Usage, "`"):
		if value = valueWords()[f.Name]; value == "" {
			value = "TEXT"
		}
	}
	if d := strings.Trim(f.DefValue, "[]"); d != "" && d != "false" && d != "0" && d != "0s" {
		text += "; " + d + " when left out"
	}
	if f.NoOptDefVal != "" && value != "" { // its value may be left out, and is joined to it
		return "--" + f.Name + "[=" + value + "]", text
	}
	return strings.TrimSpace("--" + f.Name + " " + value), text
}

// help prints what a command is for, how it is typed, and what belongs to it.
func help(s *session.Session, c *cobra.Command, _ []string) {
	s.Screens() // nothing ran before that knows the options
	text := c.Long
	if text == "" {
		text = c.Short + "."
	}
	for _, paragraph := range strings.Split(text, "\n\n") {
		if strings.Contains(paragraph, "ironseal ") { // it is laid out
			s.Out.Say("%s", paragraph)
		} else {
			s.Out.Wrapped(0, term.Normal, strings.Join(strings.Fields(paragraph), " "))
		}
		s.Out.Gap()
	}
	line := strings.TrimSuffix(c.UseLine(), " [flags]")
	if c.HasAvailableSubCommands() {
		line = c.CommandPath() + " COMMAND"
	}
	s.Out.Say("%s", line)
	if c.Example != "" {
		section(s, "for example")
		s.Out.Say("%s", strings.TrimRight(c.Example, "\n"))
	}
	commands(s, c)
	options(s, "options", c.LocalNonPersistentFlags())
	if !c.HasParent() {
		options(s, "options of every command", c.PersistentFlags())
		section(s, "exit status")
		pairs(s, statuses)
		section(s, "environment")
		pairs(s, environment)
		return
	}
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Quiet, "options of every command: ironseal --help"))
}

func section(s *session.Session, title string) {
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Strong, title))
}

func pairs(s *session.Session, list [][2]string) {
	width := 0
	for _, p := range list {
		width = max(width, len(p[0]))
	}
	for _, p := range list {
		s.Out.Pair(2, min(width, 34), p[0], p[1])
	}
}

// commands prints the commands below one: those of the program by task.
func commands(s *session.Session, c *cobra.Command) {
	rest := map[string][2]string{}
	for _, sub := range c.Commands() {
		if !sub.Hidden {
			rest[sub.Name()] = [2]string{sub.Name(), sub.Short}
		}
	}
	if len(rest) == 0 {
		return
	}
	if c.HasParent() {
		section(s, "commands")
		var list [][2]string
		for _, sub := range c.Commands() {
			if _, ok := rest[sub.Name()]; ok {
				list = append(list, rest[sub.Name()])
			}
		}
		pairs(s, list)
		return
	}
	for _, t := range tasks {
		section(s, t.name)
		for _, name := range t.commands {
			if p, ok := rest[name]; ok {
				s.Out.Pair(2, 12, p[0], p[1])
			}
		}
	}
}

func options(s *session.Session, title string, flags *pflag.FlagSet) {
	var list [][2]string
	flags.VisitAll(func(f *pflag.Flag) {
		if !f.Hidden && f.Name != "help" && f.Name != "version" {
			name, text := option(f)
			list = append(list, [2]string{name, text})
		}
	})
	if len(list) > 0 {
		section(s, title)
		pairs(s, list)
	}
}

// unknownOption adds what was probably meant to an error about an option.
func unknownOption(c *cobra.Command, err error) error {
	missing, is := errors.AsType[*pflag.NotExistError](err)
	if !is || missing.GetSpecifiedShortnames() != "" {
		return session.Misused("%w: see %s --help", err, c.CommandPath())
	}
	typed := missing.GetSpecifiedName()
	var known []string
	c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
	slices.Sort(known)
	if near := strict.Nearest(typed, known); near != "" {
		return session.Misused("%s has no option --%s: did you mean --%s?", c.CommandPath(), typed, near)
	}
	return session.Misused("%s has no option --%s: see %s --help", c.CommandPath(), typed, c.CommandPath())
}
