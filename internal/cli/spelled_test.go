package cli

import (
	"slices"
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
			if child(root(&session.Session{}, ""), strings.Fields(line)[1]) == nil {
				t.Errorf("%q: there is no such command", line)
			}
		})
	}
}

// anyHas reports whether some command has an option.
func anyHas(name string) bool {
	top := root(&session.Session{}, "")
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

// Where the first word is a command, only that one is made; it is the same as among all, and whoever asks for one that
// is not there hears of all.
func TestOneCommandIsMade(t *testing.T) {
	for _, c := range topLevel() {
		one := root(&session.Session{}, c.name)
		made := child(one, c.name)
		if made == nil || made.Name() != c.name {
			t.Errorf("%s is made as %v", c.name, made)
		}
		if n := len(one.Commands()); (n == 1) == slices.Contains(aboutAll, c.name) {
			t.Errorf("%s: %d commands were made", c.name, n)
		}
	}
	if all := root(&session.Session{}, "--estate"); len(all.Commands()) != len(topLevel()) {
		t.Errorf("%d of %d commands were made", len(all.Commands()), len(topLevel()))
	}
	var out, errs strings.Builder
	app := session.App{Stdin: strings.NewReader(""), Stdout: &out, Stderr: &errs,
		Env: func(string) string { return "" }}
	if code := Run(t.Context(), app, []string{"certificate", "kit"}); code != session.Usage ||
		!strings.Contains(errs.String(), "did you mean ironseal trust kit?") {
		t.Errorf("exit status %d: %s", code, errs.String())
	}
}
