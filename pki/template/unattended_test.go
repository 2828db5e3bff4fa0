package template

import (
	"strings"
	"testing"

	"ironseal/pki/san"
)

const machines = "title = \"Gate\"\nmakes = \"end-entity\"\nissuers = [\"any\"]\nlifetime = \"90d\"\nkeys = " +
	"[\"ecdsa-p256\"]\n" +
	"[names]\nkinds = [\"dns\", \"ip\"]\nmost = 9\n[unattended]\n"

// What may be signed without a person is written without doubt, or the template is refused.
func TestUnattendedIsChecked(t *testing.T) {
	const good = "by = [\"est\"]\nauthority = \"services\"\nnames = [\"dns:*.quay.ternbay.example\"]\nper-day = 5\n"
	if _, err := Parse("gate", []byte(machines+good), nil); err != nil {
		t.Fatal(err)
	}
	for from, to := range map[string]string{
		`by = ["est"]`: `by = ["fax"]`, `authority = "services"`: `authority = ""`,
		`names = ["dns:*.quay.ternbay.example"]`: `names = []`,
		`"dns:*.quay.ternbay.example"`:           `"dns:*"`,
		`"dns:*.quay.ternbay.example" `:          "",
		`dns:*.quay`:                             `dns:q*.quay`,
		`"dns:*.quay.ternbay.example"]`:          `"ip:192.0.2.7"]`,
		`dns:*.quay.ternbay.example`:             `email:*.ternbay.example`,
		`per-day = 5`:                            `per-day = 0`,
		"by = [\"est\"]\n":                       "",
	} {
		text := strings.Replace(good, from, to, 1)
		if text == good {
			continue
		}
		if _, err := Parse("gate", []byte(machines+text), nil); err == nil || !strings.Contains(err.Error(),
			"unattended") {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := Parse("gate", []byte(strings.Replace(machines, "end-entity", "root", 1)+good), nil); err == nil {
		t.Error("a root is made without a person")
	}
}

// A pattern covers what is below a domain, and no wildcard, no look-alike, no other kind.
func TestUnattendedNames(t *testing.T) {
	u := Unattended{Names: []string{"dns:*.quay.ternbay.example", "dns:one.ternbay.example", "ip:192.0.2.0/24"}}
	for name, want := range map[string]bool{
		"dns:gate.quay.ternbay.example": true, "dns:a.b.quay.ternbay.example": true,
		"dns:GATE.Quay.Ternbay.Example": true,
		"dns:one.ternbay.example":       true, "ip:192.0.2.9": true,
		"dns:quay.ternbay.example": false, "dns:*.quay.ternbay.example": false, "dns:evilquay.ternbay.example": false,
		"dns:gate.quay.ternbay.example.reef.example": false, "ip:198.51.100.9": false,
		"dns:two.one.ternbay.example":     false,
		"email:gate@quay.ternbay.example": false, "uri:https://gate.quay.ternbay.example/": false,
	} {
		n, err := san.ParseTyped(name)
		if err != nil {
			t.Fatal(err)
		}
		if got := u.Covers(n); got != want {
			t.Errorf("%s: %v", name, got)
		}
	}
}
