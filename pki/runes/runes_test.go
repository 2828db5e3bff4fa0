package runes

import (
	"encoding/json"
	"testing"
)

// One of each kind that has fooled somebody: controls, turning the direction,
// tags above U+FFFF, fillers, selectors, bytes that are no text.
var hostile = []string{"\x1b", "\x00", "\x7f", "\u0085", "\u202e", "\u2066", "\u200b", "\u00ad", "\ufeff", "\U000e0041",
	"\U000e01ef", "\u115f", "\u3164", "\uffa0", "\ufe0f",
	"\u034f", "\u2800", "\u2028", "\u180e", "\U0001d173", "\xff", "\ufffd"}

func TestHostileCharactersAreShown(t *testing.T) {
	for _, h := range hostile {
		text := "gate" + h + ".ternbay.example"
		if !Misleading(text) {
			t.Errorf("%q passes for harmless", h)
		}
		if shown := Escape(text); Misleading(shown) || shown == "gate.ternbay.example" {
			t.Errorf("%q is shown as %q", h, shown)
		}
	}
	for _, fine := range []string{"pier.ternbay.example", "fjære", "Gare maritime « Sterne »", "港", "a b", "é"} {
		if Misleading(fine) || Escape(fine) != fine {
			t.Errorf("%q is called hostile", fine)
		}
	}
}

// JSON stays JSON, says the same, and shows nothing hostile.
func TestJSONStaysJSON(t *testing.T) {
	for _, h := range hostile {
		want := map[string]string{"name": "gate" + h, "other": "fine"}
		data, err := json.MarshalIndent(want, "", "  ")
		if err != nil {
			t.Fatal(err)
		}
		shown := JSON(string(data))
		var got, plain map[string]string
		if err := json.Unmarshal([]byte(shown), &got); err != nil {
			t.Fatalf("%q: %v", h, err)
		}
		if err := json.Unmarshal(data, &plain); err != nil {
			t.Fatal(err)
		}
		if got["name"] != plain["name"] {
			t.Errorf("%q reads back as %q", plain["name"], got["name"])
		}
		for _, r := range shown {
			if r != '\n' && Hostile(r) {
				t.Errorf("%q stands in the JSON as it is", r)
			}
		}
	}
}

func TestClip(t *testing.T) {
	if Clip("fjære", 10) != "fjære" || Clip("fjære", 3) != "fjæ…" {
		t.Error(Clip("fjære", 3))
	}
}
