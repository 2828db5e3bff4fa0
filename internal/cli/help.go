package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

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
	{"take in", []string{"request", "read"}},
	{"sign", []string{"sign"}},
	{"hand out", []string{"certificate", "convert", "courier"}},
	{"renew", []string{"forecast", "due", "changeover"}},
	{"check", []string{"verify", "journal"}},
	{"learn", []string{"demo", "help", "completion", "version"}},
}

// statuses are the exit statuses, for whoever writes scripts.
var statuses = [][2]string{{"0", "done"}, {"1", "failed"}, {"2", "wrong usage"},
	{"3", "refused by findings, or declined at the sheet"}, {"4", "the answer is no"},
	{"5", "with --alarm: done, and something needs attention soon"}}

// environment are the variables that are read.
var environment = [][2]string{{"IRONSEAL_ESTATE", "the estate's directory"},
	{"IRONSEAL_PASSPHRASE_FILE", "a file that passphrases are read from"},
	{"NO_COLOR", "no colour"}, {"COLUMNS", "how wide lines may be"}}

// valueWords stand for the values of options whose text names none.
var valueWords = map[string]string{"as": "FORM", "because": "TEXT", "by": "HANDLE", "color": "WHEN", "count": "N",
	"lifetime": "SPAN", "name": "NAME", "path-length": "N", "policy": "OID", "request": "REQUEST",
	"state": "STATE", "subject": "DN", "suspect": "TEXT", "template": "TEMPLATE", "title": "TEXT", "usage": "USAGE",
	"with": "WHAT", "authority": "HANDLE", "permit-name": "NAME", "exclude-name": "NAME"}

// option writes an option with a word for its value, and what it does.
func option(f *pflag.Flag) (name, text string) {
	value, text := pflag.UnquoteUsage(f)
	switch {
	case f.Value.Type() == "bool":
		value = ""
	case !strings.Contains(f.Usage, "`"):
		if value = valueWords[f.Name]; value == "" {
			value = "TEXT"
		}
	}
	if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "[]" && f.DefValue != "0" {
		text += "; " + f.DefValue + " when left out"
	}
	return strings.TrimSpace("--" + f.Name + " " + value), text
}

// help prints what a command is for, how it is typed, and what belongs to it.
func (s *Session) help(c *cobra.Command, _ []string) {
	s.screens() // nothing ran before that knows the options
	text := c.Long
	if text == "" {
		text = c.Short + "."
	}
	for _, paragraph := range strings.Split(text, "\n\n") {
		if strings.Contains(paragraph, "ironseal ") { // it is laid out
			s.out.Say("%s", paragraph)
		} else {
			s.out.Wrapped(0, term.Normal, strings.Join(strings.Fields(paragraph), " "))
		}
		s.out.Gap()
	}
	line := strings.TrimSuffix(c.UseLine(), " [flags]")
	if c.HasAvailableSubCommands() {
		line = c.CommandPath() + " COMMAND"
	}
	s.out.Say("%s", line)
	if c.Example != "" {
		s.section("for example")
		s.out.Say("%s", strings.TrimRight(c.Example, "\n"))
	}
	s.commands(c)
	s.options("options", c.LocalNonPersistentFlags())
	if !c.HasParent() {
		s.options("options of every command", c.PersistentFlags())
		s.section("exit status")
		s.pairs(statuses)
		s.section("environment")
		s.pairs(environment)
		return
	}
	s.out.Gap()
	s.out.Say("%s", s.out.Paint(term.Quiet, "options of every command: ironseal --help"))
}

func (s *Session) section(title string) {
	s.out.Gap()
	s.out.Say("%s", s.out.Paint(term.Strong, title))
}

func (s *Session) pairs(list [][2]string) {
	width := 0
	for _, p := range list {
		width = max(width, len(p[0]))
	}
	for _, p := range list {
		s.out.Pair(2, min(width, 34), p[0], p[1])
	}
}

// commands prints the commands below one: those of the program by task.
func (s *Session) commands(c *cobra.Command) {
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
		s.section("commands")
		var list [][2]string
		for _, sub := range c.Commands() {
			if _, ok := rest[sub.Name()]; ok {
				list = append(list, rest[sub.Name()])
			}
		}
		s.pairs(list)
		return
	}
	for _, t := range tasks {
		s.section(t.name)
		for _, name := range t.commands {
			if p, ok := rest[name]; ok {
				s.out.Pair(2, 12, p[0], p[1])
			}
		}
	}
}

func (s *Session) options(title string, flags *pflag.FlagSet) {
	var list [][2]string
	flags.VisitAll(func(f *pflag.Flag) {
		if !f.Hidden && f.Name != "help" && f.Name != "version" {
			name, text := option(f)
			list = append(list, [2]string{name, text})
		}
	})
	if len(list) > 0 {
		s.section(title)
		s.pairs(list)
	}
}

// unknownCommand says that there is no such command, and which was probably meant.
func unknownCommand(c *cobra.Command, typed string) error {
	var known []string
	for _, sub := range c.Commands() {
		if !sub.Hidden {
			known = append(known, sub.Name())
		}
	}
	slices.Sort(known)
	if near := strict.Nearest(typed, known); near != "" {
		return usage("%s has no command %q: did you mean %s %s?", c.CommandPath(), typed, c.CommandPath(), near)
	}
	return usage("%s has no command %q: see %s --help", c.CommandPath(), typed, c.CommandPath())
}

// unknownOption adds what was probably meant to an error about an option.
func unknownOption(c *cobra.Command, err error) error {
	_, typed, found := strings.Cut(err.Error(), "unknown flag: --")
	if !found {
		return usage("%w: see %s --help", err, c.CommandPath())
	}
	var known []string
	c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
	slices.Sort(known)
	if near := strict.Nearest(typed, known); near != "" {
		return usage("%s has no option --%s: did you mean --%s?", c.CommandPath(), typed, near)
	}
	return usage("%s has no option --%s: see %s --help", c.CommandPath(), typed, c.CommandPath())
}
