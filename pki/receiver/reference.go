package receiver

import (
	"fmt"
	"strings"

	"ironseal/pki/strict"
)

// Reference writes docs/receivers.md from the model.
func Reference() string {
	var b strings.Builder
	b.WriteString("# Receiver files\n\nThe program writes this page from its own tables. Do not edit it.\n\n")
	b.WriteString("One TOML file a kind of consumer, in `receivers/` of the estate; the file's name is the " +
		"receiver's name. Unknown keys are errors.\n\n")
	b.WriteString(strict.Keys(Receiver{}))
	b.WriteString("\n## Starter receivers\n\n| receiver | for |\n|---|---|\n")
	for _, name := range StarterNames() {
		if r, err := Parse(name, []byte(Starter(name))); err == nil {
			fmt.Fprintf(&b, "| `%s` | %s |\n", name, r.Purpose)
		}
	}
	return b.String()
}

// Lines are what a receiver is, in words.
func (r Receiver) Lines() []Line {
	out := []Line{}
	add := func(label string, list []string) {
		if len(list) > 0 {
			out = append(out, Line{label, strings.Join(list, ", ")})
		}
	}
	add("needs", r.Demands.Usages)
	add("keys", r.Demands.Keys)
	add("issuers' keys", r.Demands.IssuerKeys)
	add("names", r.Demands.Names)
	if r.Demands.Exportable {
		out = append(out, Line{"private key", "goes with it, and must be ours to give"})
	}
	for _, f := range r.Files {
		out = append(out, Line{f.Name, f.For + ": " + strings.Join(f.Parts, ", ") + " as " + string(f.Format)})
	}
	for i, s := range r.Page.Steps {
		out = append(out, Line{fmt.Sprintf("step %d", i+1), r.named(s, "{host}", true)})
	}
	for _, l := range []Line{{"downtime", r.Page.Away}, {"it worked when", r.Page.Worked}, {"rollback", r.Page.Back}} {
		if l.Text != "" {
			out = append(out, Line{l.Label, r.named(l.Text, "{host}", true)})
		}
	}
	return out
}

// Line is one thing that is to be known of a receiver.
type Line struct{ Label, Text string }
