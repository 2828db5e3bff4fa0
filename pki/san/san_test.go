package san

import (
	"strings"
	"testing"

	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

func TestTypedNamesAreRecognisedByShape(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"booking.ternbay.example", "dns:booking.ternbay.example"},
		{" Booking.TernBay.Example. ", "dns:booking.ternbay.example"},
		{"192.0.2.7", "ip:192.0.2.7"},
		{"[2001:DB8::7]", "ip:2001:db8::7"},
		{"::ffff:192.0.2.7", "ip:192.0.2.7"},
		{"crew@ternbay.example", "email:crew@ternbay.example"},
		{"https://ternbay.example/x", "uri:https://ternbay.example/x"},
		{"UPN:mate@ternbay.example", "upn:mate@ternbay.example"},
		{"*.ternbay.example", "dns:*.ternbay.example"},
		{"fjære.ternbay.example", "dns:xn--fjre-woa.ternbay.example"},
		{"gate_3", "dns:gate_3"},
	} {
		t.Run(c.in, func(t *testing.T) {
			n, err := ParseTyped(c.in)
			if err != nil || n.String() != c.want {
				t.Errorf("ParseTyped(%q) = %s, %v; want %s", c.in, n, err, c.want)
			}
		})
	}
}

func TestTypedNamesThatAreNoNamesAreRefused(t *testing.T) {
	for _, s := range []string{"", " ", "a..b", "-a.example", "a b", "../../etc/x", "*", "a.*.example", "w*.example",
		"ip:host", "ip:fe80::1%eth0",
		"email:x", "email:a b@x", "a\nb.example", strings.Repeat("a", 64) + ".example",
		strings.Repeat("abcdefg.", 40) + "example"} {
		if n, err := ParseTyped(s); err == nil {
			t.Errorf("ParseTyped(%q) = %s, want an error", s, n)
		}
	}
}

func TestEncodedNamesReadBack(t *testing.T) {
	var names []Name
	for _, s := range []string{"a.example", "192.0.2.7", "2001:db8::7", "crew@ternbay.example",
		"https://ternbay.example/", "upn:mate@ternbay.example"} {
		n, err := ParseTyped(s)
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, n)
	}
	der, err := Encode(names)
	if err != nil {
		t.Fatal(err)
	}
	back, err := Read(der)
	if err != nil || len(back) != len(names) {
		t.Fatalf("read back %v, %v", back, err)
	}
	for i := range names {
		if !back[i].Same(names[i]) {
			t.Errorf("%s came back as %s", names[i], back[i])
		}
	}
}

func TestMatchByRFC9525(t *testing.T) {
	var names []Name
	for _, s := range []string{"booking.ternbay.example", "*.quay.ternbay.example", "ip:192.0.2.43"} {
		n, _ := ParseTyped(s)
		names = append(names, n)
	}
	names = append(names, Found(DNS, "192.0.2.44"))
	for host, want := range map[string]bool{
		"booking.ternbay.example": true, "BOOKING.ternbay.example.": true, "booking": false,
		"x.booking.ternbay.example": false,
		"a.quay.ternbay.example":    true, "a.b.quay.ternbay.example": false, "quay.ternbay.example": false,
		"*.quay.ternbay.example": false,
		"192.0.2.43":             true, "[192.0.2.43]": true, "::ffff:192.0.2.43": true, "192.0.2.44": false, "": false,
	} {
		t.Run(host, func(t *testing.T) {
			if _, got := Match(names, host); got != want {
				t.Errorf("Match(%q) = %v, want %v", host, got, want)
			}
		})
	}
}

func TestConstraints(t *testing.T) {
	for _, c := range []struct {
		constraint, name string
		excluding, want  bool
	}{
		{"ternbay.example", "dns:a.ternbay.example", false, true},
		{"ternbay.example", "dns:ternbay.example", false, true},
		{"ternbay.example", "dns:xternbay.example", false, false},
		{".ternbay.example", "dns:ternbay.example", false, false},
		{"ternbay.example", "dns:*.ternbay.example", false, true},
		{"a.ternbay.example", "dns:*.ternbay.example", false, false},
		{"a.ternbay.example", "dns:*.ternbay.example", true, true},
		{"192.0.2.0/24", "ip:192.0.2.9", false, true},
		{"192.0.2.0/24", "ip:198.51.100.9", false, false},
		{"2001:db8::/32", "ip:2001:db8::9", false, true},
		{"email:ternbay.example", "email:a@ternbay.example", false, true},
		{"email:ternbay.example", "email:a@x.ternbay.example", false, false},
		{"email:.ternbay.example", "email:a@x.ternbay.example", false, true},
		{"mate@ternbay.example", "email:mate@TERNBAY.example", false, true},
		{"mate@ternbay.example", "email:cook@ternbay.example", false, false},
		{"uri:.ternbay.example", "uri:https://a.ternbay.example:1/x", false, true},
		{"ternbay.example", "ip:192.0.2.9", false, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			k, err := ParseConstraint(c.constraint)
			if err != nil {
				t.Fatal(err)
			}
			n, err := ParseTyped(c.name)
			if err != nil {
				t.Fatal(err)
			}
			if got := k.Covers(n, c.excluding); got != c.want {
				t.Errorf("%s covers %s (excluding %v) = %v, want %v", k, n, c.excluding, got, c.want)
			}
			der, err := k.DER()
			if err != nil {
				t.Fatal(err)
			}
			back, err := ReadConstraint(der, casn1.Tag(der[0]))
			if err != nil || back.String() != k.String() {
				t.Errorf("%s came back as %s, %v", k, back, err)
			}
		})
	}
}

func FuzzRead(f *testing.F) {
	n, _ := ParseTyped("a.example")
	u, _ := ParseTyped("upn:a@b.example")
	der, _ := Encode([]Name{n, u})
	f.Add(der)
	f.Add([]byte{0x30, 0x04, 0x87, 0x02, 1, 2})
	f.Fuzz(func(t *testing.T, der []byte) {
		names, err := Read(der)
		if err != nil {
			return
		}
		for _, n := range names {
			_, _, _, _ = n.Fault(), n.Key(), n.Readable(), n.String()
			if b, err := n.DER(); err != nil || len(b) == 0 {
				t.Fatal("a name that was read keeps its bytes")
			}
		}
		_, _ = Match(names, "a.example")
	})
}
