package spell

import (
	"fmt"
	"strings"

	"ironseal/pki/finding"
)

// Findings writes the registry of findings as the page docs/findings.md.
func Findings() string {
	var b strings.Builder
	b.WriteString("# Findings\n\nThe program writes this page from its own tables. Do not edit it.\n\n" +
		"*Refused* findings cannot be waived. Findings that need a waiver pass with `--waive CODE --because TEXT`. " +
		"Warnings and notes stop nothing.\n\n" +
		"| code | severity | meaning | why it matters | what to do |\n|---|---|---|---|---|\n")
	for _, r := range finding.Rules() {
		f := finding.Finding{Remedy: r.Remedy, Next: r.Next}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", r.Code, r.Severity, r.Title, r.Why, Speller{}.List(f.Steps()))
	}
	return b.String()
}
