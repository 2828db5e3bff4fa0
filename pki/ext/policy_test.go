package ext_test

import (
	"encoding/asn1"
	"testing"

	"ironseal/pki/ext"
	"ironseal/pki/specimen"
)

// What is written is read back; half of it, and noise, is an error and no panic.
func TestPolicyExtensions(t *testing.T) {
	a, b := asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 32473, 1}, asn1.ObjectIdentifier{2, 999, 1}
	m := specimen.Mappings([]ext.Mapping{{Issuer: a, Subject: b}, {Issuer: b, Subject: a}})
	if got, err := ext.ReadMappings(m.Value); err != nil || len(got) != 2 || !got[0].Subject.Equal(b) {
		t.Errorf("%v %v", got, err)
	}
	for _, l := range []ext.Limits{{Explicit: 0, Mapping: 1}, {Explicit: -1, Mapping: 300}, {Explicit: 2, Mapping: -1},
		{Explicit: -1, Mapping: -1}} {
		if got, err := ext.ReadLimits(specimen.Limits(l).Value); err != nil || got != l {
			t.Errorf("%v: %v %v", l, got, err)
		}
	}
	if n, err := ext.ReadInhibitAny(specimen.InhibitAnyPolicy(3).Value); err != nil || n != 3 {
		t.Errorf("%d %v", n, err)
	}
	for _, bad := range []string{"", "\x30", "\x30\x02\x05\x00", "\x30\x03\x80\x01\xff", "\x02\x01\xff",
		"\x30\x03\x82\x01\x01", "\x30\x80"} {
		if _, err := ext.ReadMappings([]byte(bad)); err == nil {
			t.Errorf("mappings %q", bad)
		}
		if _, err := ext.ReadLimits([]byte(bad)); err == nil {
			t.Errorf("limits %q", bad)
		}
		if _, err := ext.ReadInhibitAny([]byte(bad)); err == nil {
			t.Errorf("inhibit %q", bad)
		}
	}
}

func FuzzPolicies(f *testing.F) {
	f.Add(specimen.Mappings([]ext.Mapping{{Issuer: ext.AnyPolicy, Subject: ext.AnyPolicy}}).Value)
	f.Add([]byte("\x30\x06\x80\x01\x00\x81\x01\x01"))
	f.Add(specimen.InhibitAnyPolicy(1).Value)
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _ = ext.ReadMappings(data)
		_, _ = ext.ReadInhibitAny(data)
		_, _ = ext.ReadPolicies(data)
		if l, err := ext.ReadLimits(data); err == nil && (l.Explicit < -1 || l.Mapping < -1) {
			t.Error(l)
		}
	})
}
