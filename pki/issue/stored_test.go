package issue

import (
	"bytes"
	"errors"
	"reflect"
	"testing"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/san"
	"ironseal/pki/span"
)

// A plan that is stored and computed again is the same plan, with the same digest.
func TestAStoredPlanIsComputedAgain(t *testing.T) {
	w := newWorld(t, 20, 10)
	for name, change := range map[string]func(in *Input){
		"as asked":      func(*Input) {},
		"a name more":   func(in *Input) { in.Amend.Add = []san.Name{typedName(t, "gate.ternbay.example")} },
		"a name less":   func(in *Input) { in.Amend.Drop = []san.Name{typedName(t, "booking.ternbay.example")} },
		"a lifetime":    func(in *Input) { in.Amend.Lifetime = span.Days(30) },
		"another name":  func(in *Input) { in.Amend.Subject = subject(t, "CN=Gate,O=Tern Bay Ferries,C=NO") },
		"names beside":  func(in *Input) { in.Beside = []san.Name{san.Found(san.DNS, "pier.ternbay.example")} },
		"a known key":   func(in *Input) { in.SeenAs = "CN=old" },
		"a part":        func(in *Input) { in.Part = 3 },
		"a flawed key":  func(in *Input) { in.KeyFlaws = finding.List{finding.New(finding.SharedPrime, "x")} },
		"a late record": func(in *Input) { in.Newest = in.Now.AddDate(0, 0, 1) },
		"limits": func(in *Input) {
			in.Amend.Permit = ext.Constraints{Permitted: []san.Constraint{constraint(t, "dns:ternbay.example")}}
		},
	} {
		t.Run(name, func(t *testing.T) {
			in := w.input(t, "web-server")
			change(&in)
			p, err := New(in)
			if err != nil {
				t.Fatal(err)
			}
			p.Replaces = w.services.Cert.Raw
			for i := range p.Findings {
				if p.Findings[i].Severity == finding.Waivable {
					p.Findings[i].Waived = "the office knows"
				}
			}
			data, err := p.Store()
			if err != nil {
				t.Fatal(err)
			}
			again, err := Recompute(data, w.all)
			if err != nil {
				t.Fatal(err)
			}
			if again.Digest() != p.Digest() || !reflect.DeepEqual(again.Rows, p.Rows) {
				t.Errorf("it is another plan: %+v", again.Rows)
			}
		})
	}
}

// What was changed after it was agreed to is refused.
func TestAStoredPlanThatWasChanged(t *testing.T) {
	w := newWorld(t, 20, 10)
	p, err := New(w.input(t, "web-server"))
	if err != nil {
		t.Fatal(err)
	}
	data, err := p.Store()
	if err != nil {
		t.Fatal(err)
	}
	other := newWorld(t, 20, 10)
	for name, c := range map[string]struct {
		data []byte
		with hierarchy.Hierarchy
		kind fault.Kind
	}{
		"another time": {bytes.Replace(data, []byte(`"now":"2`), []byte(`"now":"1`), 1), w.all,
			fault.Changed},
		"another issuer": {data, other.all, fault.Changed},
		"another version": {bytes.Replace(data, []byte(`"digest_version":2`),
			[]byte(`"digest_version":1`), 1), w.all, fault.BadInput},
		"a field that is not known": {bytes.Replace(data, []byte(`{`), []byte(`{"x":1,`), 1), w.all, fault.BadInput},
		"no plan":                   {[]byte("{"), w.all, fault.BadInput},
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := Recompute(c.data, c.with); !errors.Is(err, c.kind) {
				t.Errorf("%v, and it should be of the kind %q", err, c.kind)
			}
		})
	}
}

func typedName(t *testing.T, text string) san.Name {
	t.Helper()
	n, err := san.ParseTyped(text)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func constraint(t *testing.T, text string) san.Constraint {
	t.Helper()
	c, err := san.ParseConstraint(text)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func subject(t *testing.T, text string) *dn.Name {
	t.Helper()
	n, err := dn.ParseTyped(text)
	if err != nil {
		t.Fatal(err)
	}
	return &n
}
