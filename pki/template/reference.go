package template

import (
	"fmt"
	"strings"

	"ironseal/pki/strict"
)

// Reference writes docs/templates.md from the model.
func Reference() string {
	var b strings.Builder
	b.WriteString("# Template files\n\nThe program writes this page from its own tables. Do not edit it.\n\n")
	b.WriteString("One TOML file a template, in `templates/` of the estate; the file's name is the template's name. " +
		"Unknown keys are errors.\n\n")
	b.WriteString(strict.Keys(Template{}))
	b.WriteString("\n## Starter templates\n")
	for _, name := range StarterNames() {
		fmt.Fprintf(&b, "\n### %s\n\n```toml\n%s```\n", name, Starter(name))
	}
	return b.String()
}
