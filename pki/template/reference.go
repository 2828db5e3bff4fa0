package template

import (
	"fmt"
	"reflect"
	"strings"

	"ironseal/pki/strict"
)

// Reference writes docs/templates.md from the model.
func Reference() string {
	var b strings.Builder
	b.WriteString("# Template files\n\nWritten from the program's model by `go run ./cmd/ironseal reference docs`; " +
		"do not edit.\n\n")
	b.WriteString("One TOML file a template, in `templates/` of the estate; the file's name is the template's name. " +
		"Unknown keys are errors.\n\n")
	b.WriteString("| key | type | meaning |\n|---|---|---|\n")
	writeKeys(&b, reflect.TypeOf(Template{}), "")
	b.WriteString("\n## Starter templates\n")
	for _, name := range StarterNames() {
		fmt.Fprintf(&b, "\n### %s\n\n```toml\n%s```\n", name, Starter(name))
	}
	return b.String()
}

func writeKeys(b *strings.Builder, t reflect.Type, prefix string) {
	for i := range t.NumField() {
		f := t.Field(i)
		k := strict.Key(f)
		if k == "-" || k == "" {
			continue
		}
		kind := f.Type.String()
		switch {
		case f.Type.Kind() == reflect.Struct && f.Type.Name() != "Span":
			fmt.Fprintf(b, "| `[%s%s]` | table | %s |\n", prefix, k, f.Tag.Get("doc"))
			writeKeys(b, f.Type, k+".")
			continue
		case f.Type.Name() == "Span":
			kind = "lifetime"
		case f.Type.Kind() == reflect.Slice:
			kind = "list of strings"
		case f.Type.Kind() == reflect.Map:
			kind = "table of strings"
		case f.Type.Kind() == reflect.Pointer:
			kind = "number"
		case kind == "int":
			kind = "number"
		case kind == "bool":
			kind = "true or false"
		}
		fmt.Fprintf(b, "| `%s%s` | %s | %s |\n", prefix, k, kind, f.Tag.Get("doc"))
	}
}
