package san

import (
	"strings"
	"testing"

	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

// What no client can match is reported as such, whoever asks, and nothing panics on it.
func TestNamesThatNoClientMatches(t *testing.T) {
	long := strings.Repeat("abcdefg.", 32) + "example"
	for _, c := range []struct {
		kind        Kind
		value, word string
	}{
		{DNS, "*.", "whole part"}, {DNS, "*", "whole part"}, {DNS, "", "empty"}, {DNS, ".", "empty"},
		{DNS, "..", "too many"}, {DNS, "*.example", "top-level"},
		{DNS, "*.*.ternbay.example", "whole part"}, {DNS, "10.0.0.1.", "is an address"}, {DNS, "::1", "is an address"},
		{DNS, "::1%zone", "letters"},
		{DNS, "10.1", "number"}, {DNS, "gate ", "letters"}, {DNS, " gate", "letters"}, {DNS, long, "253"},
		{DNS, "xn--a.example", "internationalised"},
		{DNS, "xn--0.ternbay.example", "internationalised"}, {DNS, "a\u00ad.example", "letters"},
		{IP, "10.0.0", "4 or 16"}, {IP, "0a00000105 (5 bytes)", "4 or 16"}, {IP, "fe80::1%eth0", "4 or 16"},
		{Email, "a@b@c.example", "not allowed"}, {Email, "a@", "empty"}, {Email, "@b.example", "NAME@HOST"},
		{Email, "crew", "NAME@HOST"}, {Email, "a@" + long, "253"},
		{UPN, "a@b@c.example", "not allowed"}, {URI, "no scheme", "SCHEME"}, {URI, "https://" + long + "/", "253"},
		{URI, "https://a..b/", "too many"},
	} {
		t.Run(c.value, func(t *testing.T) {
			n := Found(c.kind, c.value)
			if !strings.Contains(n.Fault(), c.word) {
				t.Errorf("%s: the fault is %q, want one with %q", n, n.Fault(), c.word)
			}
			if n.IsWildcard() || n.IsShort() {
				t.Errorf("%s: it has a fault, and counts as a wildcard or a short name", n)
			}
			_, _, _, _, _ = n.Readable(), n.Under(), n.Address(), n.Fresh(), n.Host()
			if _, ok := Match([]Name{n}, c.value); ok {
				t.Errorf("%s matches", n)
			}
		})
	}
	for _, fine := range []Name{Found(DNS, "*.ternbay.example"), Found(DNS, "gate_3"),
		Found(DNS, "xn--fjre-woa.ternbay.example"), Found(DNS, "Gate.TernBay.example."),
		Found(URI, "urn:ietf:rfc:5280"), Found(URI, "https://192.0.2.7/"), Found(Email, "o'neil+crew@ternbay.example"),
		Found(IP, "::ffff:192.0.2.7")} {
		if fine.Fault() != "" {
			t.Errorf("%s: %s", fine, fine.Fault())
		}
	}
}

// An address in another form is the same address.
func TestAddressesAreValues(t *testing.T) {
	mapped, plain := FromDER(append([]byte{0x87, 16}, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, 10, 0, 0, 1),
		casn1.Tag(7).ContextSpecific()), Found(IP, "10.0.0.1")
	if !mapped.Same(plain) || mapped.Fresh().Value() != "10.0.0.1" {
		t.Errorf("%s is not %s", mapped, plain)
	}
	odd := FromDER([]byte{0x87, 5, 10, 0, 0, 1, 0}, casn1.Tag(7).ContextSpecific())
	if odd.Fault() == "" || odd.Unjudged() == "" {
		t.Errorf("%s: five bytes pass for an address", odd)
	}
	if k, err := ParseConstraint("10.0.0.0/8"); err != nil || !k.Covers(mapped, true) {
		t.Errorf("%s does not cover %s: %v", k, mapped, err)
	}
	wide, err := ReadConstraint(append([]byte{0x87, 32, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, 10, 0, 0, 0}, 255,
		255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 0, 0, 0), casn1.Tag(7).ContextSpecific())
	if err != nil || wide.Covers(plain, false) || !wide.Covers(plain, true) || wide.Value() != "::ffff:10.0.0.0/104" {
		t.Errorf("a network in the form of IPv6: %s, %v", wide, err)
	}
}

// Constraints are compared as RFC 5280 sections 4.2.1.10 and 7.5 say.
func TestConstraintsOnMailAndHosts(t *testing.T) {
	covers := func(c string, n Name) bool {
		k, err := ParseConstraint(c)
		if err != nil {
			t.Fatal(err)
		}
		return k.Covers(n, false)
	}
	for _, c := range []struct {
		constraint string
		name       Name
		want       bool
	}{
		{"Mate@ternbay.example", Found(Email, "Mate@TernBay.example"), true},
		{"Mate@ternbay.example", Found(Email, "mate@ternbay.example"), false},
		{"uri:ternbay.example", Found(URI, "https://ternbay.example./x"), true},
		{"uri:evil.example", Found(URI, "https:evil.example"), false},
	} {
		t.Run(c.constraint, func(t *testing.T) {
			if got := covers(c.constraint, c.name); got != c.want {
				t.Errorf("%s covers %s: %v", c.constraint, c.name, got)
			}
		})
	}
	for _, n := range []Name{Found(URI, "https:evil.example"), Found(URI, "urn:x:y"), Found(URI, "https://192.0.2.7/"),
		Found(DNS, "*.")} {
		if n.Unjudged() == "" {
			t.Errorf("%s can be held against a constraint", n)
		}
	}
	for _, bad := range []string{"a..b", "*.example", "x@y@z", "dns:a@b", "uri:a@b"} {
		if k, err := ParseConstraint(bad); err == nil {
			t.Errorf("%q is the constraint %s", bad, k)
		}
	}
}
