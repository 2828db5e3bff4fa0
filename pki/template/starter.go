package template

import (
	"embed"

	"ironseal/pki/strict"
)

//go:embed starter/*.toml
var starters embed.FS

var embedded = strict.Embedded{Files: starters, Dir: "starter"}

// Serving is the template of the certificate of the program's own server. Estates that were made before it use the
// program's own.
const Serving = "serve-tls"

// Registering is the template of the certificate that opens and answers messages of SCEP.
const Registering = "registration"

// StarterNames lists the templates that a new estate begins with.
func StarterNames() []string { return embedded.Names() }

// Starter returns the file of a starter template, or "".
func Starter(name string) string { return embedded.Text(name) }
