package bundle

import (
	"bytes"
	"encoding/base64"
	"encoding/pem"
	"strings"
	"testing"
	"unicode/utf16"
)

// object is a DER structure of the shape of a request, long enough to span
// several lines of base 64.
func object(fill byte) []byte {
	inner := []byte{0x02, 0x01, 0x00, 0x30, 0x00, 0x30, 0x03, 0x06, 0x01, fill, 0xa0, 0x81, 0xb0, 0x04, 0x81, 0xad}
	inner = append(inner, bytes.Repeat([]byte{fill}, 0xad)...)
	tbs := append([]byte{0x30, 0x81, byte(len(inner))}, inner...)
	body := append(tbs, 0x30, 0x00, 0x03, 0x02, 0x00, fill)
	return append([]byte{0x30, 0x81, byte(len(body))}, body...)
}

func armoured(label string, der []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der}))
}

func utf16le(s string, mark bool) []byte {
	var out []byte
	if mark {
		out = []byte{0xff, 0xfe}
	}
	for _, u := range utf16.Encode([]rune(s)) {
		out = append(out, byte(u), byte(u>>8))
	}
	return out
}

func utf16be(s string) []byte {
	out := []byte{0xfe, 0xff}
	for _, u := range utf16.Encode([]rune(s)) {
		out = append(out, byte(u>>8), byte(u))
	}
	return out
}

func TestUntidyInputIsUnderstood(t *testing.T) {
	der := object(7)
	p := armoured("CERTIFICATE REQUEST", der)
	b64 := base64.StdEncoding.EncodeToString(der)
	lines := strings.Split(strings.TrimSpace(p), "\n")
	indent := func(by string) string { return by + strings.Join(lines, "\n"+by) + "\n" }
	for what, data := range map[string][]byte{
		"PEM":                  []byte(p),
		"the other label":      []byte(armoured("NEW CERTIFICATE REQUEST", der)),
		"DER":                  der,
		"DER with padding":     append(bytes.Clone(der), "\r\n"...),
		"CRLF":                 []byte(strings.ReplaceAll(p, "\n", "\r\n")),
		"lone CR":              []byte(strings.ReplaceAll(p, "\n", "\r")),
		"blank lines":          []byte(strings.ReplaceAll(p, "\n", "\n\n")),
		"one long line":        []byte(lines[0] + strings.Join(lines[1:len(lines)-1], "") + lines[len(lines)-1]),
		"one line with blanks": []byte(strings.ReplaceAll(strings.TrimSpace(p), "\n", " ")),
		"indented":             []byte(indent("    ")),
		"tabs":                 []byte(indent("\t")),
		"quoted":               []byte(indent("> ")),
		"quoted twice":         []byte(indent("> > ")),
		"quoted with a name":   []byte(indent("Anna> ")),
		"quoted with bars":     []byte(indent("| ")),
		"mail around it":       []byte("Dear all,\n\nplease sign this - thanks.\n\n" + p + "\n-- \nThe mail team\n"),
		"byte-order mark":      append([]byte{0xef, 0xbb, 0xbf}, p...),
		"UTF-16 little":        utf16le(p, true),
		"UTF-16 big":           utf16be(p),
		"UTF-16 without mark":  utf16le(p, false),
		"non-breaking":         []byte(strings.ReplaceAll(p, "\n", "\u00a0\n")),
		"zero-width":           []byte(strings.ReplaceAll(p, "\n", "\u200b\n\u200d")),
		"long dashes":          []byte(strings.ReplaceAll(p, "-----", "———")),
		"no END line":          []byte(strings.Join(lines[:len(lines)-1], "\n")),
		"bare base 64":         []byte(strings.Join(lines[1:len(lines)-1], "\n")),
		"bare, one line":       []byte(b64),
		"bare in a sentence":   []byte("the request:\n" + b64 + "\nregards"),
		"bare, indented":       []byte("  " + strings.Join(lines[1:len(lines)-1], "\n  ")),
		"bare, quoted":         []byte("\"" + b64 + "\""),
		"escaped line ends":    []byte(strings.ReplaceAll(p, "\n", `\n`)),
		"JSON":                 []byte(`{"request": "` + strings.ReplaceAll(p, "\n", `\r\n`) + `"}`),
		"header lines":         []byte(lines[0] + "\nComment: made by a device\n\n" + strings.Join(lines[1:], "\n")),
		"quoted-printable": []byte(lines[0] + "\n" +
			strings.ReplaceAll(strings.Join(lines[1:len(lines)-1], "=\n"), "==", "=3D=3D") + "\n" +
			lines[len(lines)-1]),
		"URL-safe alphabet": []byte(lines[0] + "\n" + base64.RawURLEncoding.EncodeToString(der) + "\n" +
			lines[len(lines)-1]),
		"Windows code page text": append([]byte("Gr\xfc\xdfe,\n\n"), p...),
	} {
		t.Run(what, func(t *testing.T) {
			c, err := Read(data)
			if err != nil || len(c.Objects) != 1 || len(c.Problems) > 0 {
				t.Errorf("%s: %d objects, problems %v, error %v", what, len(c.Objects), c.Problems, err)
				return
			}
			if !bytes.Equal(c.Objects[0].DER, der) {
				t.Errorf("%s: other bytes came out", what)
			}
		})
	}
}

func TestSeveralObjectsAreAllFound(t *testing.T) {
	a, b := object(7), object(9)
	for what, data := range map[string][]byte{
		"PEM": []byte("first\n" + armoured("CERTIFICATE REQUEST", a) + "\nsecond\n" +
			armoured("CERTIFICATE REQUEST", b)),
		"DER": append(bytes.Clone(a), b...),
		"no END": []byte(strings.Replace(armoured("CERTIFICATE REQUEST", a), "-----END CERTIFICATE REQUEST-----", "",
			1) + armoured("CERTIFICATE REQUEST", b)),
		"bare": []byte(base64.StdEncoding.EncodeToString(a) + "\n\n" + base64.StdEncoding.EncodeToString(b)),
		"one line": []byte(strings.ReplaceAll(armoured("CERTIFICATE REQUEST", a)+armoured("CERTIFICATE REQUEST", b),
			"\n", "")),
	} {
		t.Run(what, func(t *testing.T) {
			c, err := Read(data)
			if err != nil || len(c.Objects) != 2 || !bytes.Equal(c.Objects[0].DER, a) || !bytes.
				Equal(c.Objects[1].DER, b) {
				t.Errorf("%s: %d objects, problems %v, %v", what, len(c.Objects), c.Problems, err)
			}
		})
	}
}

func TestWhatIsNoObjectIsToldWithItsLine(t *testing.T) {
	der := object(7)
	p := armoured("CERTIFICATE REQUEST", der)
	half := p[:len(p)/2]
	for _, c := range []struct{ what, data, word string }{
		{"empty", "", "empty"},
		{"blank", " \r\n\t ", "empty"},
		{"prose", "Dear all, where is the request?", "no certificate, request or key"},
		{"cut", half, "cut short"},
		{"cut DER", string(der[:90]), "cut short: it should have"},
		{"nothing inside", "text\n-----BEGIN CERTIFICATE REQUEST-----\n-----END CERTIFICATE REQUEST-----\n",
			"line 2: the certificate request is empty"},
		{"changed", strings.Replace(p, "BwcH", "B%cH", 1), "not base 64"},
		{"cut bare", base64.StdEncoding.EncodeToString(der[:100]), "cut short"},
	} {
		t.Run(c.what, func(t *testing.T) {
			got, err := Read([]byte(c.data))
			text := ""
			if err != nil {
				text = err.Error()
			}
			for _, p := range got.Problems {
				text += p.Error()
			}
			if len(got.Objects) > 0 || !strings.Contains(text, c.word) {
				t.Errorf("%s: %d objects, %q; want %q", c.what, len(got.Objects), text, c.word)
			}
		})
	}
}

func TestNoiseIsBounded(t *testing.T) {
	noise := make([]byte, 10<<20)
	state := uint32(1)
	for i := range noise {
		state = state*1664525 + 1013904223
		noise[i] = byte(state >> 24)
	}
	if c, err := Read(noise); err == nil {
		t.Errorf("%d objects in noise", len(c.Objects))
	}
	if _, err := Read(make([]byte, MostBytes+1)); err == nil {
		t.Error("too much input must be refused")
	}
	letters := bytes.Repeat([]byte("MIIBIjANBgkqhkiG9w0BAQEFAAOCAQ8A\n"), 100_000)
	if c, err := Read(letters); err == nil && len(c.Objects)+len(c.Problems) > 2*MostObjects {
		t.Errorf("%d objects", len(c.Objects))
	}
}

func FuzzRead(f *testing.F) {
	der := object(7)
	p := armoured("CERTIFICATE REQUEST", der)
	for _, s := range [][]byte{der, []byte(p), utf16le(p, true), []byte("> " + p),
		[]byte(base64.StdEncoding.EncodeToString(der)), []byte("-----BEGIN X-----")} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		c, err := Read(data)
		if err != nil {
			return
		}
		for _, o := range c.Objects {
			if want, ok := wantedLength(o.DER); !ok || want != len(o.DER) {
				t.Fatal("an object must be one whole structure")
			}
			if again, err := Read(o.DER); err != nil || len(again.Objects) != 1 {
				t.Fatalf("its own DER cannot be parsed: %v", err)
			}
		}
	})
}

// What is written piece by piece is what is made in memory, and its size is known before.
func TestPEMPieceByPiece(t *testing.T) {
	for _, k := range []Kind{Certificate, List, EncryptedKey} {
		for size := range 200 {
			der := bytes.Repeat([]byte{0x30}, size)
			var b bytes.Buffer
			if err := WritePEM(&b, k, der); err != nil {
				t.Fatal(err)
			}
			if !bytes.Equal(b.Bytes(), PEM(k, der)) || SizeOfPEM(k, size) != int64(b.Len()) {
				t.Errorf("%v of %d octets: %d were told, and these came:\n%s", k, size, SizeOfPEM(k, size), b.Bytes())
			}
		}
	}
}
