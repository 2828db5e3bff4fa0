package cli

import (
	"strings"
	"testing"

	"ironseal/internal/cli/session"
	"ironseal/pki/finding"
	"ironseal/pki/handover"
)

// What scripts and files of earlier versions say is still understood.
func TestEarlierNames(t *testing.T) {
	root := root(&session.Session{}, "")
	for option, in := range map[string][]string{
		"seal":      {"request", "draft"},
		"seal-with": {"certificate", "handover"},
	} {
		t.Run("option "+option, func(t *testing.T) {
			c, _, err := root.Find(in)
			if err != nil {
				t.Fatal(err)
			}
			if f := c.Flags().Lookup(option); f == nil || f.Name == option {
				t.Errorf("%v: --%s is %v", in, option, f)
			}
		})
	}
	for typed, now := range map[string]string{"courier pack": "pack", "authority take-in": "import"} {
		t.Run("command "+typed, func(t *testing.T) {
			c, _, err := root.Find(strings.Fields(typed))
			if err != nil || c.Name() != now {
				t.Errorf("%s, %v", c.Name(), err)
			}
		})
	}
	for code, now := range map[finding.Code]finding.Code{"key-in-doubt": finding.SuspectedKey,
		"anchor-in-doubt": finding.SuspectedAnchor, "another-generation-in-doubt": finding.SuspectedGeneration} {
		t.Run("code "+string(code), func(t *testing.T) {
			if rule, ok := finding.Lookup(code); !ok || rule.Code != now {
				t.Errorf("%s, %v", rule.Code, ok)
			}
		})
	}
	if f := handover.FormatNamed("key-sealed"); f != handover.KeyEncrypted {
		t.Errorf("key-sealed is %s", f)
	}
}
