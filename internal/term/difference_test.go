package term

import (
	"slices"
	"strings"
	"testing"
)

func TestDifference(t *testing.T) {
	for name, c := range map[string]struct{ from, to, want string }{
		"none":          {"a\nb\n", "a\nb\n", ""},
		"one line":      {"a\nb\nc\nd\ne\n", "a\nb\nX\nd\ne\n", "  …|  b|- c|+ X|  d|  …"},
		"added at end":  {"a\n", "a\nb\n", "  a|+ b"},
		"taken at once": {"a\nb\nc", "c", "- a|- b|  c"},
		"two places":    {"1\n2\n3\n4\n5\n6\n7", "0\n2\n3\n4\n5\n6\n8", "- 1|+ 0|  2|  …|  6|- 7|+ 8"},
		"moved":         {"a\nb\nc\n", "c\na\nb\n", "+ c|  a|  b|- c"},
	} {
		t.Run(name, func(t *testing.T) {
			if got := strings.Join(Difference(c.from, c.to, 1), "|"); got != c.want {
				t.Errorf("%s", got)
			}
		})
	}
	long := strings.Repeat("x\ny\n", 3000)
	if got := Difference("a\n"+long+"b", "c\n"+strings.ReplaceAll(long, "y", "z")+"d", 0); !slices.Contains(got,
		"+ d") {
		t.Error("the end of a long text is not shown")
	}
}
