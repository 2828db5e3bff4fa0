package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"ironseal/internal/api"
)

// What scripts rely on: every field that docs/json.md promises is there and of its type,
// nothing else is there, and what is printed keeps the rules of the page's head.
func TestJSONKeepsItsPromises(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	for _, host := range []string{"a.ternbay.example", "b.ternbay.example"} {
		n := p.send(host, []string{host, "192.0.2.7"})
		p.must("sign", n, "--template", "web-server", "--yes")
	}
	p.send("pier", []string{"pier"})
	p.must("certificate", "export", "R1", "--with", "root", "--out", "../chain.pem")
	p.must("certificate", "handover", "R1", "--for", "nginx", "--out", "..", "--to", "the yard")
	p.must("authority", "renew", "services", "--yes")
	shapes := map[string]api.Shape{}
	for _, s := range api.Shapes() {
		shapes[s.Noun] = s
	}
	for _, c := range []struct{ args, noun string }{
		{"certificate show R1", "certificate"}, {"authority show services", "certificate"},
		{"authority show root", "certificate"}, {"read ../chain.pem", "certificate"},
		{"certificate list --state any", "certificate in a list"}, {"request show R3", "request"},
		{"request show R1", "request"}, {"request list --state any", "request in a list"},
		{"authority list", "authority in a list"}, {"authority tree", "branch"}, {"template list", "template"},
		{"template show client", "template"}, {"verify ../chain.pem --name a.ternbay.example", "verdict"},
		{"journal list", "entry"}, {"journal show J4", "entry"}, {"estate status", "status"},
		{"due --within 3y", "due"}, {"forecast", "forecast"}, {"estate check", "check"},
		{"estate backup ../b.tar", "backup"}, {"serve --check", "served address"},
		{"desk invite Ana --template web-server", "invitation"}, {"desk list", "invitation"}, {"desk end Ana", ""},
		{"enrol code gates --template web-server --names ternbay.example", "enrolment code"},
		{"enrol account web --template web-server --names ternbay.example", "account credential"},
		{"enrol list", "enrolment code"}, {"enrol show gates", "enrolled machines"}, {"enrol end gates", ""},
		{"receiver list", ""}, {"receiver check", ""}, {"template check", ""},
		{"template compare client web-server", ""}, {"certificate compare R1 R2", ""}, {"journal verify", ""},
		{"verify ../chain.pem --name wrong.example", "verdict"}, {"version", ""},
		{"trust show", "trust set"}, {"trust list", "trust set"},
		{"trust kit --for debian --out ../kits", ""}, {"request receive ../chain.pem", ""},
		{"certificate handover R2 --for nginx --out ..", ""}, {"sign R3 --template web-server --yes", ""},
		{"request draft c.ternbay.example --out ..", "request"}, {"sign --all --template web-server --yes", ""},
		{"revocations publish --to ../public --ocsp ../answers", ""}, {"revocations list", "revocation list"},
		{"revoke R2 --reason hold --yes", "revocation"}, {"unhold R2 --because found", ""},
		{"revocations check ../public/services.g1.crl", "checked list"},
		{"revocations show ../public/services.g1.crl", ""}, {"revoke --replaced", ""}, {"incident list", ""},
		{"incident open services.g1 --because lost", "incident, known"}, {"incident list", "incident"},
		{"incident show I1", "incident, known"}, {"incident close I1 --unfinished --because none", ""},
		{"verify ../chain.pem --revocations ../public/services.g1.lists.pem", "verdict"}, {"due --within 3y", "due"},
	} {
		t.Run(c.args, func(t *testing.T) {
			p := p.with(t)
			r := p.run("", append(strings.Fields(c.args), "--json")...)
			if r.out == "" && r.code != 0 {
				return // an error is told in words
			}
			var v any
			if err := json.Unmarshal([]byte(r.out), &v); err != nil {
				t.Errorf("%s: %v\n%s", c.args, err, r.out)
				return
			}
			lint(t, c.args, "", v)
			if list, ok := v.([]any); ok && c.noun != "" && len(list) == 0 {
				t.Errorf("%s lists nothing", c.args)
			}
			if c.noun != "" {
				fits(t, c.args, shapes[c.noun], v)
			}
		})
	}
}

// fits holds an object, or every object of a list, against its shape.
func fits(t *testing.T, about string, s api.Shape, v any) {
	t.Helper()
	if list, ok := v.([]any); ok {
		for _, x := range list {
			fits(t, about, s, x)
		}
		return
	}
	object, _ := v.(map[string]any)
	known := map[string]bool{}
	for _, f := range s.Fields {
		known[f.Name] = true
		x, there := object[f.Name]
		if !there && f.Must {
			t.Errorf("%s: the field %q is missing", about, f.Name)
		}
		kind := reflect.ValueOf(x).Kind()
		if kind == reflect.Float64 {
			kind = reflect.Int
		}
		if there && kind != f.Kind {
			t.Errorf("%s: the field %q is a %s, and the page says %s", about, f.Name, kind, f.Kind)
		}
	}
	for name := range object {
		if !known[name] {
			t.Errorf("%s: the page knows no field %q of a %s", about, name, s.Noun)
		}
	}
}

var (
	fieldName = regexp.MustCompile(`^[a-z0-9_.-]+$`)
	momentish = regexp.MustCompile(`^\d{4}-\d\d-\d\d`)
)

// lint looks for what no JSON of ours may have.
func lint(t *testing.T, about, name string, v any) {
	t.Helper()
	switch v := v.(type) {
	case nil:
		t.Errorf("%s: %q is null", about, name)
	case map[string]any:
		for k, x := range v {
			if !fieldName.MatchString(k) {
				t.Errorf("%s: the field %q is not in lower case", about, k)
			}
			lint(t, about, k, x)
		}
	case []any:
		for _, x := range v {
			lint(t, about, name, x)
		}
	case string:
		if momentish.MatchString(v) && name != "a" && name != "b" {
			if _, err := time.Parse(time.RFC3339, v); err != nil {
				t.Errorf("%s: %q is no time of RFC 3339: %s", about, name, v)
			}
		}
	}
}

// Manual pages are there for every command, and man reads them where it is installed.
func TestManualPages(t *testing.T) {
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	p.must("reference", "--man", "man1")
	pages, err := filepath.Glob(filepath.Join(p.dir, "man1", "*.1"))
	if err != nil || len(pages) < 50 {
		t.Fatalf("%d pages, %v", len(pages), err)
	}
	page, err := os.ReadFile(filepath.Join(p.dir, "man1", "ironseal-sign.1"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{".TH IRONSEAL\\-SIGN 1", ".SH SYNOPSIS", "\\-\\-add\\-name NAME", ".SH EXIT STATUS"} {
		if !strings.Contains(string(page), want) {
			t.Errorf("%q is missing", want)
		}
	}
}
