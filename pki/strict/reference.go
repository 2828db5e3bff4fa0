package strict

import (
	"fmt"
	"reflect"
	"strings"
)

// Keys is a table of the keys of a structure, for a reference page: their types, and
// their meanings from the tag "doc".
func Keys(of any) string {
	var b strings.Builder
	b.WriteString("| key | type | meaning |\n|---|---|---|\n")
	writeKeys(&b, reflect.TypeOf(of), "")
	return b.String()
}

func writeKeys(b *strings.Builder, t reflect.Type, prefix string) {
	for i := range t.NumField() {
		f := t.Field(i)
		k := Key(f)
		if k == "-" || k == "" {
			continue
		}
		kind := f.Type.String()
		switch {
		case f.Type.Kind() == reflect.Struct && f.Type.Name() != "Span":
			fmt.Fprintf(b, "| `[%s%s]` | table | %s |\n", prefix, k, f.Tag.Get("doc"))
			writeKeys(b, f.Type, k+".")
			continue
		case f.Type.Kind() == reflect.Slice && f.Type.Elem().Kind() == reflect.Struct:
			fmt.Fprintf(b, "| `[[%s%s]]` | tables, one or several | %s |\n", prefix, k, f.Tag.Get("doc"))
			writeKeys(b, f.Type.Elem(), k+".")
			continue
		case f.Type.Name() == "Span":
			kind = "lifetime"
		case f.Type.Kind() == reflect.Slice:
			kind = "list of strings"
		case f.Type.Kind() == reflect.Map:
			kind = "table of strings"
		case f.Type.Kind() == reflect.Pointer:
			kind = "number"
		case f.Type.Kind() == reflect.String:
			kind = "string"
		case kind == "int":
			kind = "number"
		case kind == "bool":
			kind = "true or false"
		}
		fmt.Fprintf(b, "| `%s%s` | %s | %s |\n", prefix, k, kind, f.Tag.Get("doc"))
	}
}
