package ext

import (
	"encoding/asn1"
	"testing"
)

// What is written is read back; half of it, and noise, is an error and no panic.
func TestPolicyExtensions(t *testing.T) {
	a, b := asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 32473, 1}, asn1.ObjectIdentifier{2, 999, 1}
	m := Mappings([]Mapping{{a, b}, {b, a}})
	if got, err := ReadMappings(m.Value); err != nil || len(got) != 2 || !got[0].Subject.Equal(b) {
		t.Errorf("%v %v", got, err)
	}
	for _, l := range []Limits{{0, 1}, {-1, 300}, {2, -1}, {-1, -1}} {
		if got, err := ReadLimits(l.Extension().Value); err != nil || got != l {
			t.Errorf("%v: %v %v", l, got, err)
		}
	}
	if n, err := ReadInhibitAny(InhibitAnyPolicy(3).Value); err != nil || n != 3 {
		t.Errorf("%d %v", n, err)
	}
	for _, bad := range []string{"", "\x30", "\x30\x02\x05\x00", "\x30\x03\x80\x01\xff", "\x02\x01\xff",
		"\x30\x03\x82\x01\x01", "\x30\x80"} {
		if _, err := ReadMappings([]byte(bad)); err == nil {
			t.Errorf("mappings %q", bad)
		}
		if _, err := ReadLimits([]byte(bad)); err == nil {
			t.Errorf("limits %q", bad)
		}
		if _, err := ReadInhibitAny([]byte(bad)); err == nil {
			t.Errorf("inhibit %q", bad)
		}
	}
}

func FuzzPolicies(f *testing.F) {
	f.Add(Mappings([]Mapping{{AnyPolicy, AnyPolicy}}).Value)
	f.Add(Limits{0, 1}.Extension().Value)
	f.Add(InhibitAnyPolicy(1).Value)
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _ = ReadMappings(data)
		_, _ = ReadInhibitAny(data)
		_, _ = ReadPolicies(data)
		if l, err := ReadLimits(data); err == nil && (l.Explicit < -1 || l.Mapping < -1) {
			t.Error(l)
		}
	})
}
