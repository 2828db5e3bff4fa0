package cli

import (
	"strings"
	"testing"

	"ironseal/internal/cli/session"
	"ironseal/internal/cli/spell"
)

// Every act that the program can advise is a command with options that there are, or an option that some command has.
func TestEveryAdviceCanBeTyped(t *testing.T) {
	for act, line := range spell.All() {
		t.Run(string(act), func(t *testing.T) {
			if strings.HasPrefix(line, "--") {
				if name, _, _ := strings.Cut(strings.TrimPrefix(line, "--"), " "); !anyHas(name) {
					t.Errorf("no command has the option --%s", name)
				}
				return
			}
			if why := unknown(line); why != "" {
				t.Errorf("%q: %s", line, why)
			}
			if child(root(&session.Session{}), strings.Fields(line)[1]) == nil {
				t.Errorf("%q: there is no such command", line)
			}
		})
	}
}

// anyHas reports whether some command has an option.
func anyHas(name string) bool {
	top := root(&session.Session{})
	list := append(top.Commands(), top)
	for i := 0; i < len(list); i++ {
		if list[i].Flags().Lookup(name) != nil || list[i].PersistentFlags().Lookup(name) != nil {
			return true
		}
		if list[i] != top {
			list = append(list, list[i].Commands()...)
		}
	}
	return false
}
