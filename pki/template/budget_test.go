package template

import (
	"strings"
	"testing"
	"time"

	"ironseal/pki/specimen"
)

// A name that its sender chose cannot keep a pattern busy.
func TestPatternsAreQuick(t *testing.T) {
	name := strings.Repeat("a", 4000) + ".b"
	specimen.Within(t, time.Now, "a pattern of six stars", 1<<20, func() {
		if fitsPattern("*a*a*a*a*a*a.c", name) {
			t.Error("it fits, and should not")
		}
		if !fitsPattern("*a*a*a*a*a*a.b", name) {
			t.Error("it does not fit, and should")
		}
	})
}
