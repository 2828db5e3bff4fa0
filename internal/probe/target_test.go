package probe

import (
	"fmt"
	"strings"
	"testing"
)

func TestTargets(t *testing.T) {
	const booking = "booking.ternbay.example"
	for typed, want := range map[string]Target{
		"booking.ternbay.example:443":             {booking, booking, "443", Direct, 0},
		" booking.ternbay.example. ":              {booking, booking, "443", Direct, 0},
		"https://booking.ternbay.example/a/b?c=d": {booking, booking, "443", Direct, 0},
		"booking.ternbay.example@192.0.2.17:8443": {booking, "192.0.2.17", "8443", Direct, 0},
		"mail.ternbay.example:25": {"mail.ternbay.example", "mail.ternbay.example", "25", SMTP,
			0},
		"smtp://mail.ternbay.example:2525": {"mail.ternbay.example", "mail.ternbay.example", "2525",
			SMTP, 0},
		"mail.ternbay.example@smtp://192.0.2.9": {"mail.ternbay.example", "192.0.2.9", "25", SMTP, 0},
		"tls://db.ternbay.example:5432": {"db.ternbay.example", "db.ternbay.example", "5432", Direct,
			0},
		"fähre.ternbay.example:443": {"xn--fhre-loa.ternbay.example", "xn--fhre-loa.ternbay.example",
			"443", Direct, 0},
		"Fähre.ternbay.example@192.0.2.17:8443":      {"xn--fhre-loa.ternbay.example", "192.0.2.17", "8443", Direct, 0},
		"smtp://mail.ternbay.example@192.0.2.9:2525": {"mail.ternbay.example", "192.0.2.9", "2525", SMTP, 0},
		"postgresql://db.ternbay.example":            {"db.ternbay.example", "db.ternbay.example", "5432", Postgres, 0},
		"[2001:db8::1]:993":                          {"2001:db8::1", "2001:db8::1", "993", Direct, 0},
		"2001:db8::1":                                {"2001:db8::1", "2001:db8::1", "443", Direct, 0},
		"postgres://db.ternbay.example": {"db.ternbay.example", "db.ternbay.example", "5432",
			Postgres, 0},
		"xmpp://chat.ternbay.example:5269": {"chat.ternbay.example", "chat.ternbay.example", "5269",
			XMPP, 0},
		"LDAPS://dir.ternbay.example": {"dir.ternbay.example", "dir.ternbay.example", "636",
			Direct, 0},
		"gate@imap://quay-gate_3.ternbay.example:143/box": {"gate", "quay-gate_3.ternbay.example", "143", IMAP, 0},
	} {
		t.Run(typed, func(t *testing.T) {
			got, err := ParseTarget(typed)
			if err != nil || got != want {
				t.Errorf("%q: %+v, %v", typed, got, err)
				return
			}
			if again, err := ParseTarget(got.String()); err != nil || again != got {
				t.Errorf("%q: written as %q it is another: %+v %v", typed, got, again, err)
			}
		})
	}
	for typed, want := range map[string]string{"": "host", ":443": "host", "a:0": "port", "a:99999": "port",
		"a:b": "port",
		"a b": "host", "a:1:2": "port", "imasp://a": "did you mean imap", "@a": "before the @", "a@b@c": "before the @",
		"smtp://a@b@c": "before the @", "a@smtp://b@c": "before the @",
		"a\u202eb": "host", "\x1b[2J": "host", "$(x)": "host", "a/b": "host", "..": "host", "x@\x07": "host"} {
		t.Run(typed, func(t *testing.T) {
			if _, err := ParseTarget(typed); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v", typed, err)
			}
		})
	}
}

func TestListsOfEndpoints(t *testing.T) {
	list, faults := ReadList([]byte("\ufeff# the quay\r\na.ternbay.example:443 # the gate\r\n\r\nb b\r\n" +
		"smtp://m.ternbay.example\r\na.ternbay.example\r\n"))
	if len(list) != 2 || list[1].Over != SMTP || list[0].Line != 2 || len(faults) != 1 ||
		!strings.HasPrefix(faults[0].Error(), "line 4: ") {
		t.Errorf("%+v %v", list, faults)
	}
	list, faults = ReadList([]byte("note;endpoint;name\r\nthe gate;192.0.2.7:443;gate.ternbay.example\r\n;x " +
		"y;\r\n;a;\u202e\r\n"))
	if len(list) != 1 || list[0].Name != "gate.ternbay.example" || list[0].Host != "192.0.2.7" || len(faults) != 2 {
		t.Errorf("%+v %v", list, faults)
	}
	if list, faults = ReadList([]byte("endpoint,nmae\na,b\n")); len(list) != 0 || len(faults) != 1 ||
		!strings.Contains(faults[0].Error(), `did you mean "name"`) {
		t.Errorf("%+v %v", list, faults)
	}
	var long strings.Builder
	for i := range 100_001 {
		fmt.Fprintf(&long, "h%d.ternbay.example\n", i)
	}
	if list, faults = ReadList([]byte(long.String())); len(list) != 100_000 || len(faults) != 1 {
		t.Errorf("%d endpoints, %v", len(list), faults)
	}
}

func FuzzReadList(f *testing.F) {
	f.Add([]byte("a.ternbay.example\nsmtp://b:25 # c\n"))
	f.Add([]byte("endpoint;name\na:1;b\n"))
	f.Add([]byte("0.."))
	f.Add([]byte("[::%:]:443\nfe80::1%eth0\n[fe80::1%eth0]:25"))
	f.Fuzz(func(t *testing.T, data []byte) {
		list, _ := ReadList(data)
		for _, target := range list {
			target.Line = 0
			if again, err := ParseTarget(target.String()); err != nil || again != target {
				t.Errorf("%+v is written as %q, and read as %+v: %v", target, target, again, err)
			}
		}
	})
}
