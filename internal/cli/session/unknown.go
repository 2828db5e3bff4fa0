package session

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/pki/strict"
)

// all is the key of what adds the commands that were not made.
type all struct{}

// WithAll keeps what adds all commands, for whoever has to look through them.
func WithAll(ctx context.Context, add func()) context.Context {
	return context.WithValue(ctx, all{}, add)
}

// UnknownCommand says that there is no such command, and which was probably meant: one with this name
// elsewhere, else one that is spelt alike.
func UnknownCommand(c *cobra.Command, typed string) error {
	if ctx := c.Context(); ctx != nil {
		if add, ok := ctx.Value(all{}).(func()); ok {
			add()
		}
	}
	if there := named(c.Root(), typed); len(there) == 1 {
		return Misused("%s has no command %q: did you mean %s?", c.CommandPath(), typed, there[0])
	}
	var known []string
	for _, sub := range c.Commands() {
		if !sub.Hidden {
			known = append(known, sub.Name())
		}
	}
	slices.Sort(known)
	if near := strict.Nearest(typed, known); near != "" {
		return Misused("%s has no command %q: did you mean %s %s?", c.CommandPath(), typed, c.CommandPath(), near)
	}
	return Misused("%s has no command %q: see %s --help", c.CommandPath(), typed, c.CommandPath())
}

// named lists the commands of a name, wherever they are.
func named(c *cobra.Command, name string) (out []string) {
	for _, sub := range c.Commands() {
		if sub.Hidden {
			continue
		}
		if sub.Name() == name {
			out = append(out, sub.CommandPath())
		}
		out = append(out, named(sub, name)...)
	}
	return out
}

// instead is what to type after a command was used wrongly: its first example, or its help.
func instead(c *cobra.Command) string {
	if first, _, _ := strings.Cut(strings.TrimSpace(c.Example), "\n"); first != "" {
		return "for example: " + first
	}
	return "see " + c.CommandPath() + " --help"
}
