package template

import (
	"fmt"
	"reflect"
	"strings"
)

// keysOf lists the TOML keys that may stand at a path inside a structure.
func keysOf(into any, path []string) []string {
	t := reflect.TypeOf(into)
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	for _, step := range path {
		for t.Kind() == reflect.Slice {
			t = t.Elem()
		}
		found := false
		for i := 0; t.Kind() == reflect.Struct && i < t.NumField(); i++ {
			if tomlKey(t.Field(i)) == step {
				t, found = t.Field(i).Type, true
				break
			}
		}
		if !found {
			return nil
		}
	}
	for t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	var out []string
	for i := 0; t.Kind() == reflect.Struct && i < t.NumField(); i++ {
		if k := tomlKey(t.Field(i)); k != "-" && k != "" {
			out = append(out, k)
		}
	}
	return out
}

func tomlKey(f reflect.StructField) string {
	k, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
	return k
}

// nearest finds the known key most like a word, when it is like it at all.
func nearest(word string, known []string) string {
	best, at := "", 1+len(word)/2
	for _, k := range known {
		if d := distance(strings.ToLower(word), k); d < at {
			best, at = k, d
		}
	}
	return best
}

// distance counts the insertions, deletions and changes from a to b.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := last
			if a[i] != b[j] {
				cost++
			}
			last = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

// Nearest finds the known word most like a word, when it is like it at all: for
// suggestions in errors.
func Nearest(word string, known []string) string { return nearest(word, known) }

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
		k := tomlKey(f)
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
