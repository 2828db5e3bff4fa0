package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// Some commands have modes, and not every flag has a meaning in every mode. A flag
// without one is wrong usage: whoever typed --seal must not get an open key.

// onlyFlags refuses every flag of the command that was typed and is not among those
// that a mode uses. mode says which it is, as a person would.
func onlyFlags(cmd *cobra.Command, mode string, used ...string) error {
	var lost []string
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if cmd.InheritedFlags().Lookup(f.Name) == nil && !slices.Contains(used, f.Name) {
			lost = append(lost, "--"+f.Name)
		}
	})
	if len(lost) == 0 {
		return nil
	}
	return usage("%s: %s has no meaning %s: leave it out, or see %s --help", cmd.CommandPath(), strings.Join(lost, " "),
		mode, cmd.CommandPath())
}

// oneOf refuses a flag's word that is none of those that it takes.
func oneOf(flag, typed string, words ...string) error {
	if typed == "" || slices.Contains(words, typed) {
		return nil
	}
	return usage("--%s %q: use one of %s", flag, typed, strings.Join(words, ", "))
}

// shellWord writes a path so that a shell takes it for one word.
func shellWord(path string) string {
	if path != "" && strings.IndexFunc(path, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("/._-+,:@%=", r))
	}) < 0 {
		return path
	}
	return "'" + strings.ReplaceAll(path, "'", `'\''`) + "'"
}
