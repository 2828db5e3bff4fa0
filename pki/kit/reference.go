package kit

import (
	"fmt"
	"strings"

	"ironseal/pki/strict"
)

// Reference writes docs/platforms.md from the model.
func Reference() string {
	var b strings.Builder
	b.WriteString("# Platform files\n\nThe program writes this page from its own tables. Do not edit it.\n\n")
	b.WriteString("Kits are packed for platforms. The program knows those below; a TOML file in `platforms/` of the " +
		"estate adds one or takes the place of one, and its name is the platform's. Unknown keys are errors.\n\n")
	b.WriteString(strict.Keys(Platform{}))
	fmt.Fprintf(&b,
		"\nForms: %s.\n\n## Platforms\n\nThe column *tried* says how the tests of the program try the kit: *run for "+
			"real* on the system or with the program that it is for, *against a stand-in* for a command of the "+
			"system, or *only parsed* by a reader that is not ours.\n\n| platform | what | tried | who trusts the "+
			"roots then |\n|---|---|---|---|\n",
		strings.Join(formNames(), ", "))
	for _, name := range StarterNames() {
		if p, err := Parse(name, []byte(Starter(name))); err == nil {
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", name, p.Title, triedWords[p.Tried], p.Covers)
		}
	}
	return b.String()
}
