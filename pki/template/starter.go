package template

import (
	"embed"

	"ironseal/pki/strict"
)

//go:embed starter/*.toml
var starters embed.FS

var embedded = strict.Embedded{Files: starters, Dir: "starter"}

// StarterNames lists the templates that a new estate begins with.
func StarterNames() []string { return embedded.Names() }

// Starter returns the file of a starter template, or "".
func Starter(name string) string { return embedded.Text(name) }
