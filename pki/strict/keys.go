package strict

import (
	"fmt"
	"reflect"
	"strings"
)

// fieldsAt lists the fields that may stand at a path inside a structure.
func fieldsAt(into any, path []string) []reflect.StructField {
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
			if Key(t.Field(i)) == step {
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
	var out []reflect.StructField
	for i := 0; t.Kind() == reflect.Struct && i < t.NumField(); i++ {
		if k := Key(t.Field(i)); k != "-" && k != "" {
			out = append(out, t.Field(i))
		}
	}
	return out
}

// keysOf lists the TOML keys that may stand at a path inside a structure.
func keysOf(into any, path []string) (out []string) {
	for _, f := range fieldsAt(into, path) {
		out = append(out, Key(f))
	}
	return out
}

// Key is the TOML key of a field; "-" for none.
func Key(f reflect.StructField) string {
	k, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
	return k
}

// Nearest finds the known word most like a word, when it is like it at all: for
// suggestions in errors.
func Nearest(word string, known []string) string { return Near(word, known, len(word)/2) }

// Near is the word of a list that is reached by the fewest changes, up to so many; "" where none is.
func Near(word string, known []string, most int) string {
	best, at := "", 1+most
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

// Fill makes lists that were left out empty ones, all the way down, so that they are
// lists wherever they are written.
func Fill(into any) { fill(reflect.ValueOf(into).Elem()) }

func fill(v reflect.Value) {
	switch {
	case v.Kind() == reflect.Slice && v.IsNil() && v.CanSet():
		v.Set(reflect.MakeSlice(v.Type(), 0, 0))
	case v.Kind() == reflect.Slice && v.Type().Elem().Kind() == reflect.Struct:
		for i := range v.Len() {
			fill(v.Index(i))
		}
	case v.Kind() == reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() {
				fill(v.Field(i))
			}
		}
	}
}

// Offered helps someone who named what there is not: the name that was probably meant, and
// those that there are.
func Offered(name string, known []string) string {
	all := "there are: " + strings.Join(known, ", ")
	if near := Nearest(name, known); near != "" {
		return fmt.Sprintf("did you mean %q? %s", near, all)
	}
	return all
}
