package session

import (
	"slices"

	"github.com/spf13/cobra"

	"ironseal/pki/strict"
)

// UnknownCommand says that there is no such command, and which was probably meant.
func UnknownCommand(c *cobra.Command, typed string) error {
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
