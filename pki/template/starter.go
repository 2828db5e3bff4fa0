package template

import (
	"embed"
	"slices"
	"strings"
)

//go:embed starter/*.toml
var starters embed.FS

// StarterNames lists the templates that a new estate begins with.
func StarterNames() []string {
	entries, err := starters.ReadDir("starter")
	if err != nil {
		return nil // the directory is part of the program
	}
	var out []string
	for _, e := range entries {
		out = append(out, strings.TrimSuffix(e.Name(), ".toml"))
	}
	slices.Sort(out)
	return out
}

// Starter returns the file of a starter template, or "".
func Starter(name string) string {
	b, err := starters.ReadFile("starter/" + name + ".toml")
	if err != nil {
		return ""
	}
	return string(b)
}
