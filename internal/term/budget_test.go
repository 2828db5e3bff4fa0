package term

import (
	"strings"
	"testing"
	"time"

	"ironseal/pki/specimen"
)

// A subject of a megabyte is wrapped in one pass.
func TestWrappingIsLinear(t *testing.T) {
	text := strings.Repeat("abcdefghijklm", 100_000)
	specimen.Within(t, time.Now, "1.3 MB without a blank", 200<<20, func() {
		if got := strings.Join(wrap(text, 60), ""); got != text {
			t.Error("something was lost")
		}
	})
}
