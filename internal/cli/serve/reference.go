package serve

import (
	_ "embed" // the texts of the page

	"ironseal/internal/httpd"
)

//go:embed text/begins.md
var begins string

//go:embed text/runs.md
var runs string

// Reference is the page on serving.
func Reference() string { return begins + httpd.Reference() + runs }
