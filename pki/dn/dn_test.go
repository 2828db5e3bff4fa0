package dn

import (
	"bytes"
	"crypto/x509/pkix"
	"encoding/asn1"
	"strings"
	"testing"
)

func must(t *testing.T, s string) Name {
	t.Helper()
	n, err := Parse(s)
	if err != nil {
		t.Fatalf("Parse(%q): %v", s, err)
	}
	return n
}

// The examples of RFC 4514 section 4, as far as their types are of this trade.
func TestParseAndPrintByRFC4514(t *testing.T) {
	for _, c := range []struct{ in, out string }{
		{"UID=jsmith,DC=example,DC=net", "UID=jsmith,DC=example,DC=net"},
		{"OU=Sales+CN=J.  Smith,DC=example,DC=net", "OU=Sales+CN=J.  Smith,DC=example,DC=net"},
		{`CN=James \"Jim\" Smith\, III,DC=example,DC=net`, `CN=James \"Jim\" Smith\, III,DC=example,DC=net`},
		{`CN=Before\0dAfter,DC=example,DC=net`, "CN=Before\rAfter,DC=example,DC=net"},
		{"1.3.6.1.4.1.1466.0=#04024869", "1.3.6.1.4.1.1466.0=#04024869"},
		{`CN=Lu\C4\8Di\C4\87`, "CN=Lučić"},
		{` CN = Tern Bay ; O="Ferries, Ltd" `, `CN=Tern Bay,O=Ferries\, Ltd`},
		{`CN=\ blank\ `, `CN=\ blank\ `},
		{`CN=\#hash`, `CN=\#hash`},
	} {
		t.Run(c.in, func(t *testing.T) {
			if got := must(t, c.in).String(); got != c.out {
				t.Errorf("Parse(%q).String() = %q, want %q", c.in, got, c.out)
			}
		})
	}
}

func TestEncodingIsWhatTheStandardLibraryReads(t *testing.T) {
	n := must(t, "CN=harbour.ternbay.example,OU=Quay 3,O=Tern Bay Ferries,C=NO")
	var seq pkix.RDNSequence
	if rest, err := asn1.Unmarshal(n.DER(), &seq); err != nil || len(rest) > 0 {
		t.Fatalf("the standard library does not read it: %v", err)
	}
	var p pkix.Name
	p.FillFromRDNSequence(&seq)
	if p.CommonName != "harbour.ternbay.example" || p.Country[0] != "NO" || seq[0][0].Type.String() != "2.5.4.6" {
		t.Errorf("read back as %v", p)
	}
}

func TestParseRefuses(t *testing.T) {
	for _, s := range []string{"harbour", "CN=", "CN=a,", "=x", "XX=y", "C=NOR", "C=no", `CN=a\`, `CN="a`, `CN="a"b`,
		"CN=#zz", "CN=a\x00b", "DC=blåskjell", "CN=" + string(bytes.Repeat([]byte("x"), 65))} {
		if n, err := Parse(s); err == nil {
			t.Errorf("Parse(%q) = %s, want an error", s, n)
		}
	}
}

func TestEqualByRFC5280(t *testing.T) {
	printable := must(t, "CN=Tern Bay Root,O=Ferries")
	utf8 := Name{rdns: [][]Attribute{
		{{Type: asn1.ObjectIdentifier{2, 5, 4, 10}, Tag: 12, Text: "FERRIES"}},
		{{Type: asn1.ObjectIdentifier{2, 5, 4, 3}, Tag: 12, Text: "tern  bay root "}},
	}}
	if !printable.Equal(utf8) {
		t.Error("case, blanks and string type must not count")
	}
	if printable.Equal(must(t, "O=Ferries,CN=Tern Bay Root")) {
		t.Error("the order of parts must count")
	}
	if !must(t, "CN=a+OU=b").Equal(must(t, "OU=b+CN=a")) {
		t.Error("the order within one part must not count")
	}
	if !printable.Within(must(t, "O=ferries")) || must(t, "O=ferries").Within(printable) {
		t.Error("a subtree holds names that begin with its base")
	}
}

func TestReadKeepsTheBytesAndTakesWhatDevicesSend(t *testing.T) {
	// PrintableString with an underscore and an at sign, as devices send it.
	der := []byte{0x30, 0x13, 0x31, 0x11, 0x30, 0x0f, 0x06, 0x03, 0x55, 0x04, 0x03, 0x13, 0x08, 'g', 'a', 't', 'e', '_',
		'3', '@', 'x'}
	n, err := Read(der)
	if err != nil {
		t.Fatal(err)
	}
	if n.CommonName() != "gate_3@x" || !bytes.Equal(n.DER(), der) {
		t.Errorf("got %q, %x", n.CommonName(), n.DER())
	}
}

func TestTypedOrder(t *testing.T) {
	a, err := ParseTyped("C=NO, O=Tern Bay Ferries, CN=Root")
	if err != nil || a.String() != "CN=Root,O=Tern Bay Ferries,C=NO" {
		t.Errorf("country first: %s, %v", a, err)
	}
	b, _ := ParseTyped("CN=Root,O=Tern Bay Ferries,C=NO")
	if !a.Equal(b) {
		t.Error("both ways of writing must give one name")
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"CN=a", "CN=a+OU=b,C=NO", "1.2.3=#0500", "DC=x,DC=y"} {
		n, _ := Parse(s)
		f.Add(n.DER())
	}
	f.Add([]byte{0x30, 0x80, 0, 0})
	f.Fuzz(func(t *testing.T, der []byte) {
		n, err := Read(der)
		if err != nil {
			return
		}
		_ = n.String()
		if !bytes.Equal(n.DER(), der) || !n.Equal(n) {
			t.Fatal("the bytes must stay, and a name equals itself")
		}
	})
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"CN=a", `CN=\ a\ ,O="x,y"`, "CN=#0c0161", "C=NO+CN=b", `CN=\`, "C=#0c01D1"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		n, err := Parse(s)
		if err != nil {
			return
		}
		back, err := Parse(n.String())
		hexed := strings.Contains(s, "#") // hex can hold what may not be typed, such as a country of one letter
		if !hexed && (err != nil || !back.Equal(n)) {
			t.Fatalf("%q -> %q: %v", s, n, err)
		}
		if again, err := Read(n.DER()); err != nil || !again.Equal(n) {
			t.Fatalf("%q: its own encoding does not read back: %v", s, err)
		}
	})
}
