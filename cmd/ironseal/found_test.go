package main

import (
	"strings"
	"testing"
)

// A certificate is found by whatever a person has of it, in any spelling, by commands that look and by those
// that act.
func TestACertificateIsFoundByWhatAPersonHas(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.send("pier.ternbay.example", []string{"pier.ternbay.example"})
	p.must("sign", "R1", "--template", "web-server", "--by", "services", "--yes")
	field := func(name, which string) string {
		return strings.TrimSpace(p.must("certificate", "show", name, "--field", which))
	}
	serial, sha1, sha256 := field("R1", "serial"), field("R1", "sha1"), field("R1", "sha256")
	colons := func(s string) string {
		var parts []string
		for i := 0; i < len(s); i += 2 {
			parts = append(parts, s[i:i+2])
		}
		return strings.ToUpper(strings.Join(parts, ":"))
	}
	for name, typed := range map[string]string{"request": "R1", "name": "PIER.ternbay.example", "serial": serial[:8],
		"serial with colons": colons(serial), "SHA-1": sha1, "SHA-1 with colons": colons(sha1),
		"SHA-1 with what consoles paste": "\u200e" + strings.ReplaceAll(colons(sha1), ":", " "),
		"SHA-256":                        sha256, "SHA-256 with its name": "SHA-256: " + colons(sha256)} {
		t.Run(name, func(t *testing.T) {
			p := p
			p.t = t
			if got := strings.TrimSpace(p.must("certificate", "show", typed, "--field", "serial")); got != serial {
				t.Errorf("%q is %s", typed, got)
			}
		})
	}
	if got := field("tern bay ferries SERVICES", "serial"); got != field("services", "serial") {
		t.Errorf("by its common name: %s", got)
	}
	p.refused(1, `did you mean "pier.ternbay.example"`, "certificate", "show", "pire.ternbay.example")
	p.must("certificate", "export", colons(sha1), "--out", "../pier.pem")
	p.must("revoke", strings.ToUpper(sha1), "--reason", "superseded", "--yes")
	p.must("estate", "check")
}

// Lists are searched by holder, key and day, and the journal by act, object, person and day.
func TestListsAndTheJournalAreSearched(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	for i, host := range []string{"pier", "mole"} {
		p.must("request", "draft", host+".ternbay.example", "--out", "../drafts")
		p.must("request", "receive", "../drafts/"+host+".ternbay.example.request.pem", "--from", host+" team")
		p.must("sign", []string{"R1", "R2"}[i], "--template", "web-server", "--by", "services", "--yes")
	}
	key := strings.TrimSpace(p.must("certificate", "show", "R2", "--field", "key_sha256"))
	for name, c := range map[string]struct {
		args []string
		want string // what is listed of the two, in order
	}{
		"by holder":       {[]string{"--held-by", "pier team"}, "pier"},
		"by another":      {[]string{"--held-by", "nobody"}, ""},
		"by key":          {[]string{"--key", key}, "mole"},
		"signed since":    {[]string{"--signed-since", "2020-01-01", "--template", "web-server"}, "mole pier"},
		"signed before":   {[]string{"--signed-before", "2020-01-01"}, ""},
		"ends before":     {[]string{"--ends-before", "2020-01-01"}, ""},
		"ends since, key": {[]string{"--ends-since", "2020-01-01", "--key", key[:12]}, "mole"},
	} {
		t.Run(name, func(t *testing.T) {
			p := p
			p.t = t
			out := p.must(append([]string{"certificate", "list"}, c.args...)...)
			got := []string{}
			for _, host := range []string{"mole", "pier"} {
				if strings.Contains(out, host+".ternbay.example") {
					got = append(got, host)
				}
			}
			if strings.Join(got, " ") != c.want {
				t.Errorf("%v: %s", got, out)
			}
		})
	}
	if out := p.must("journal", "list", "--act", "sign", "--object", "R2"); strings.Count(out, "sign") != 1 {
		t.Error(out)
	}
	if out := p.must("journal", "list", "--who", "nobody"); !strings.Contains(out, "No entry fits") {
		t.Error(out)
	}
	p.refused(2, "not a time", "journal", "list", "--since", "yesterday")
}
