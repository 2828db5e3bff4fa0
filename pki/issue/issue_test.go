package issue

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/san"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
	"ironseal/pki/template"
)

var now = specimen.Now

// world is a root and an authority below it.
type world struct {
	root, services *specimen.Entity
	all            hierarchy.Hierarchy
}

func newWorld(t testing.TB, rootLife, servicesLife int, limits ...string) world {
	var w world
	w.root = specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root,O=Tern Bay", Authority: true,
		Until: now.AddDate(rootLife, 0, 0)})
	w.services = specimen.Make(t, w.root, specimen.Plan{Subject: "CN=Services,O=Tern Bay", Authority: true, Zero: true,
		Until: now.AddDate(servicesLife, 0, 0), Permit: limits})
	r := &hierarchy.Authority{Handle: "root"}
	s := &hierarchy.Authority{Handle: "services", Parent: r}
	rg := &hierarchy.Generation{Number: 1, Certificate: w.root.Cert, Authority: r}
	sg := &hierarchy.Generation{Number: 1, Certificate: w.services.Cert, Issuer: rg, Authority: s}
	r.Generations, s.Generations = []*hierarchy.Generation{rg}, []*hierarchy.Generation{sg}
	w.all = hierarchy.Hierarchy{r, s}
	return w
}

func starter(t testing.TB, name string) template.Template {
	t.Helper()
	tm, err := template.Parse(name, []byte(template.Starter(name)), nil)
	if err != nil {
		t.Fatal(err)
	}
	return tm
}

func (w world) input(t testing.TB, templateName string) Input {
	return Input{Template: starter(t, templateName), Issuer: w.all[1].Current(), Others: w.all, Now: now,
		BeginsBefore: 10 * time.Minute,
		Request: specimen.Request(t, nil, "CN=booking.ternbay.example,O=Tern Bay Ferries",
			[]string{"booking.ternbay.example"})}
}

func plan(t testing.TB, in Input) Plan {
	t.Helper()
	p, err := New(in)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestTheSignedCertificateIsWhatTheSheetSays(t *testing.T) {
	w := newWorld(t, 20, 10)
	in := w.input(t, "web-server")
	p := plan(t, in)
	if len(p.Findings) > 0 {
		t.Errorf("a tidy request has findings: %v", p.Findings)
	}
	serial, err := Serial(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c, err := Sign(p, serial, w.services.Signer, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	x, err := x509.ParseCertificate(c.Raw)
	if err != nil {
		t.Fatal(err)
	}
	roots, mids := x509.NewCertPool(), x509.NewCertPool()
	r, _ := x509.ParseCertificate(w.root.Cert.Raw)
	m, _ := x509.ParseCertificate(w.services.Cert.Raw)
	roots.AddCert(r)
	mids.AddCert(m)
	if _, err := x.Verify(x509.VerifyOptions{Roots: roots, Intermediates: mids, CurrentTime: now,
		DNSName: "booking.ternbay.example"}); err != nil {
		t.Error(err)
	}
	if x.IsCA || x.KeyUsage != x509.KeyUsageDigitalSignature || len(x.ExtKeyUsage) != 1 ||
		x.ExtKeyUsage[0] != x509.ExtKeyUsageServerAuth {
		t.Errorf("authority %v, usage %b %v", x.IsCA, x.KeyUsage, x.ExtKeyUsage)
	}
	if !x.NotBefore.Equal(now.Add(-10*time.Minute)) || !x.NotAfter.Equal(now.AddDate(0, 0, 397)) {
		t.Errorf("from %s until %s", x.NotBefore, x.NotAfter)
	}
	if string(x.AuthorityKeyId) != string(m.SubjectKeyId) || string(x.RawIssuer) != string(m.RawSubject) {
		t.Error("issuer name and key identifier must repeat the issuer's")
	}
}

// Each way a plan is refused or changed, by the code that a person is shown.
func TestPlansNameWhatIsWrong(t *testing.T) {
	w := newWorld(t, 20, 10)
	caAsk := ext.Basic{Authority: true, PathLength: -1}.Extension()
	clientAsk := ext.ExtendedExtension((&template.Template{Extended: []string{"clientAuth"}}).ExtendedUsage(), false)
	odd := ext.Extension{ID: []int{1, 2, 3, 4, 5}, Value: []byte{5, 0}}
	rsa := specimen.Key(t, key.RSA2048)
	for _, c := range []struct {
		what   string
		change func(in *Input)
		want   finding.Code
		refuse bool
	}{
		{"asks to be an authority", func(in *Input) {
			in.Request = specimen.Request(t, nil, "CN=a.example",
				[]string{"a.example"}, caAsk)
		}, finding.AsksAuthority, true},
		{"asks for a usage", func(in *Input) {
			in.Request = specimen.Request(t, nil, "CN=a.example", []string{"a.example"}, clientAsk)
		}, finding.AsksUsage, false},
		{"asks for an extension", func(in *Input) {
			in.Request = specimen.Request(t, nil, "CN=a.example",
				[]string{"a.example"}, odd)
		}, finding.AsksExtension, false},
		{"no names at all", func(in *Input) { in.Request = specimen.Request(t, nil, "CN=Harbour Master", nil) },
			finding.NameMissing, true},
		{"mail address for a server", func(in *Input) {
			in.Request = specimen.Request(t, nil, "CN=a.example", []string{"a.example", "crew@a.example"})
		}, finding.NameNotAllowed, true},
		{"key of an authority", func(in *Input) {
			in.Request = specimen.Request(t, w.root.Signer, "CN=a.example", []string{"a.example"})
		}, finding.AuthorityKey, true},
		{"subject of an authority", func(in *Input) {
			in.Request = specimen.Request(t, nil, "CN=services,O=TERN  BAY", []string{"a.example"})
		}, finding.SubjectTaken, true},
		{"key seen before", func(in *Input) { in.SeenAs = "CN=other" }, finding.KeyReused, false},
		{"clock behind", func(in *Input) { in.Newest = now.Add(time.Hour) }, finding.ClockBehind, true},
		{"template not listed", func(in *Input) { in.Issuer = w.all[0].Current() }, finding.NotListed, true},
		{"authority's template for a leaf's issuer",
			func(in *Input) { in.Template = starter(t, "intermediate-authority") }, finding.PathTooShort, true},
		{"Ed25519 for browsers", func(in *Input) {
			in.Request = specimen.Request(t, specimen.Key(t, key.Ed25519), "CN=a.example", []string{"a.example"})
		}, finding.KeyNotAllowed, true},
		{"too long a life", func(in *Input) { in.Amend.Lifetime = span.Years(3) }, finding.LifeLimited, false},
		{"too many names", func(in *Input) {
			var names []string
			for i := range 101 {
				names = append(names, fmt.Sprintf("h%d.ternbay.example", i))
			}
			in.Request = specimen.Request(t, nil, "CN=h1.ternbay.example", names)
		}, finding.ManyNames, true},
		{"name outside constraints", func(in *Input) {
			in.Issuer = newWorld(t, 20, 10,
				"ships.example").all[1].Current()
		}, finding.OutsideNames, true},
		{"dropped name that is not there", func(in *Input) { in.Amend.Drop = specimen.Names(t, "x.example") },
			finding.DropMissed, true},
		{"required field missing", func(in *Input) {
			in.Template = starter(t, "client")
			in.Request = specimen.Request(t, nil, "O=Tern Bay Ferries", nil)
		}, finding.SubjectMissing, true},
		{"wildcard for a peer", func(in *Input) {
			in.Template = starter(t, "mutual-peer")
			in.Request = specimen.Request(t, rsa, "CN=*.ternbay.example", []string{"*.ternbay.example"})
		}, finding.NameNotAllowed, true},
		{"bad country", func(in *Input) {
			in.Request.Subject = rawName(t, "C", "no")
		}, finding.BadField, false},
	} {
		t.Run(c.what, func(t *testing.T) {
			in := w.input(t, "web-server")
			c.change(&in)
			p := plan(t, in)
			if !p.Findings.Has(c.want) {
				t.Errorf("%s: %v, want %s", c.what, p.Findings.Codes(), c.want)
			}
			refused := len(p.Findings.Refusing()) > 0
			if refused != c.refuse {
				t.Errorf("%s: refused %v by %v", c.what, refused, p.Findings.Refusing().Codes())
			}
			serial, _ := Serial(rand.Reader)
			got, err := Sign(p, serial, w.services.Signer, rand.Reader)
			var r *Refused
			if c.refuse && !errors.As(err, &r) {
				t.Errorf("%s: signing gives %v", c.what, err)
			}
			if !c.refuse && err != nil {
				t.Errorf("%s: %v", c.what, err)
			}
			if got != nil && (got.IsAuthority() || got.Usage&ext.KeyCertSign != 0) {
				t.Errorf("%s: an authority came out", c.what)
			}
		})
	}
}

// rawName makes a name that our own builder would refuse.
func rawName(t testing.TB, short, value string) dn.Name {
	t.Helper()
	n, err := dn.Parse(short + "=#0c" + fmt.Sprintf("%02x%x", len(value), value))
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func TestLifeNeverPassesAnyoneAbove(t *testing.T) {
	for _, c := range []struct {
		root, services int
		cut            string
	}{{20, 10, ""}, {20, 1, "services (g1)"}, {1, 10, "root (g1)"}} {
		t.Run(c.cut, func(t *testing.T) {
			w := newWorld(t, c.root, c.services)
			p := plan(t, w.input(t, "web-server"))
			for _, above := range []*specimen.Entity{w.root, w.services} {
				if p.Draft.NotAfter.After(above.Cert.NotAfter) {
					t.Errorf("it outlives %s", above.Cert.Title())
				}
			}
			if got := p.Findings.Has(finding.LifeShortened); got != (c.cut != "") {
				t.Errorf("root %d, services %d: %v", c.root, c.services, p.Findings)
			}
			for _, f := range p.Findings {
				if f.Code == finding.LifeShortened &&
					(!strings.Contains(f.Message, c.cut) || !strings.Contains(f.Message, "32 days")) {
					t.Errorf("it must say by how much and whose end did it: %s", f.Message)
				}
			}
		})
	}
	w := newWorld(t, 20, 10)
	in := w.input(t, "web-server")
	in.Now = now.AddDate(11, 0, 0)
	if p := plan(t, in); !p.Findings.Has(finding.LifeOver) {
		t.Errorf("an ended authority can grant nothing: %v", p.Findings.Codes())
	}
}

func TestNamesAreAmendedWithTheirCauses(t *testing.T) {
	w := newWorld(t, 20, 10)
	in := w.input(t, "web-server")
	in.Request = specimen.Request(t, nil, "CN=gate.ternbay.example,OU=Quay,UID=x",
		[]string{"old.ternbay.example", "keep.ternbay.example"})
	in.Request.Names = append(in.Request.Names, san.Found(san.DNS, "192.0.2.9"),
		san.Found(san.DNS, "KEEP.ternbay.example."))
	in.Amend.Add = specimen.Names(t, "192.0.2.43", "keep.ternbay.example")
	in.Amend.Drop = specimen.Names(t, "old.ternbay.example")
	p := plan(t, in)
	var got []string
	for _, n := range p.Names {
		got = append(got, n.String())
	}
	if want := "dns:keep.ternbay.example ip:192.0.2.9 dns:gate.ternbay.example ip:192.0.2.43"; strings.Join(got,
		" ") != want {
		t.Errorf("names %v, want %s", got, want)
	}
	causes := map[string]string{}
	for _, r := range p.Rows {
		if r.Field == "name" {
			causes[r.Asked+">"+r.Signed] = r.Cause
		}
		if r.Field == "subject" && !strings.Contains(r.Cause, "UID not taken over") {
			t.Errorf("subject row %+v", r)
		}
	}
	for k, word := range map[string]string{"dns:old.ternbay.example>": "dropped", ">ip:192.0.2.43": "added",
		">dns:gate.ternbay.example": "common name", "dns:192.0.2.9>ip:192.0.2.9": "address"} {
		t.Run(k, func(t *testing.T) {
			if !strings.Contains(causes[k], word) {
				t.Errorf("%s: cause %q", k, causes[k])
			}
		})
	}
}

func TestDigestNamesEverythingThatIsAgreedTo(t *testing.T) {
	w := newWorld(t, 20, 10)
	base := w.input(t, "web-server")
	first := plan(t, base)
	if again := plan(t, base); again.Digest() != first.Digest() || fmt.Sprint(again.Rows) != fmt.Sprint(first.Rows) {
		t.Error("the same inputs must give the same sheet")
	}
	for what, change := range map[string]func(in *Input){
		"a second later":  func(in *Input) { in.Now = in.Now.Add(time.Second) },
		"a name more":     func(in *Input) { in.Amend.Add = specimen.Names(t, "x.example") },
		"another life":    func(in *Input) { in.Amend.Lifetime = span.Days(30) },
		"another request": func(in *Input) { in.Request = specimen.Request(t, nil, "CN=a.example", nil) },
		"a changed template": func(in *Input) {
			tm, err := template.Parse("web-server", []byte(template.Starter("web-server")+"\n# changed\n"), nil)
			if err != nil {
				t.Fatal(err)
			}
			in.Template = tm
		},
	} {
		t.Run(what, func(t *testing.T) {
			in := base
			change(&in)
			if plan(t, in).Digest() == first.Digest() {
				t.Errorf("%s: the digest stays the same", what)
			}
		})
	}
	extended := func(id asn1.ObjectIdentifier, critical bool) Plan {
		p := plan(t, base)
		p.Draft.Extensions = append(p.Draft.Extensions, ext.Extension{ID: id, Critical: critical, Value: []byte{5, 0}})
		return p
	}
	waived := func(code finding.Code, why string) Plan {
		p := plan(t, base)
		p.Findings = finding.List{{Code: code, Severity: finding.Waivable, Waived: why}}
		return p
	}
	instead := plan(t, base)
	instead.Replaces = base.Issuer.Certificate.Raw
	seen := map[[32]byte]string{first.Digest(): "the sheet itself"}
	for what, p := range map[string]Plan{"a critical extension": extended(asn1.ObjectIdentifier{1, 3, 6, 1}, true),
		"one that is not, with an arc more": extended(asn1.ObjectIdentifier{1, 3, 6, 1, 1}, false),
		"not critical":                      extended(asn1.ObjectIdentifier{1, 3, 6, 1}, false),
		"a waiver":                          waived(finding.NoGain, "a"), "another reason": waived(finding.NoGain, "b"),
		"another code": waived(finding.ParentEnding, "a"), "in the place of another": instead} {
		t.Run(what, func(t *testing.T) {
			if other, taken := seen[p.Digest()]; taken {
				t.Errorf("%s and %s have the same digest", what, other)
			}
			seen[p.Digest()] = what
		})
	}
}

func TestWaiversPassStopsAndNeverBars(t *testing.T) {
	w := newWorld(t, 20, 10)
	in := w.input(t, "web-server")
	in.Request = specimen.Request(t, nil, "CN=a.example", []string{"a.example"},
		ext.Basic{Authority: true, PathLength: -1}.Extension())
	p := plan(t, in)
	l, err := p.Findings.Waive(7, []finding.Waiver{{Request: 7, Code: finding.AsksAuthority,
		Because: "its firmware always asks"}})
	if err != nil || len(l.Refusing()) > 0 {
		t.Errorf("%v %v", err, l.Refusing())
	}
	if l, err := p.Findings.Waive(7, []finding.Waiver{{Request: 8, Code: finding.AsksAuthority,
		Because: "other"}}); err != nil || len(l.Refusing()) == 0 {
		t.Error("a waiver for another request must not count")
	}
	in.Newest = now.Add(time.Hour)
	p = plan(t, in)
	for _, bad := range []finding.Waiver{{Code: finding.ClockBehind, Because: "in a hurry"},
		{Code: finding.ManyNames, Because: "x"}, {Code: finding.AsksAuthority, Because: " "}} {
		if _, err := p.Findings.Waive(7, []finding.Waiver{bad}); err == nil {
			t.Errorf("waiver %v was taken", bad)
		}
	}
}

func TestSignRefusesAForeignKey(t *testing.T) {
	w := newWorld(t, 20, 10)
	p := plan(t, w.input(t, "web-server"))
	serial, _ := Serial(rand.Reader)
	if c, err := Sign(p, serial, w.root.Signer, rand.Reader); err == nil {
		t.Errorf("%s was signed by a key that is not the issuer's", c.Title())
	}
}

func BenchmarkPlan(b *testing.B) {
	in := newWorld(b, 20, 10).input(b, "web-server")
	for b.Loop() {
		if _, err := New(in); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkSign(b *testing.B) {
	w := newWorld(b, 20, 10)
	p := plan(b, w.input(b, "web-server"))
	serial, _ := Serial(rand.Reader)
	for b.Loop() {
		if _, err := Sign(p, serial, w.services.Signer, rand.Reader); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkRawSignAndVerify is the cost that nothing can avoid: one signature
// and one verification.
func BenchmarkRawSignAndVerify(b *testing.B) {
	signer := specimen.Key(b, key.P256)
	message := make([]byte, 500)
	for b.Loop() {
		if _, err := key.SignedObject(message, signer, rand.Reader); err != nil {
			b.Fatal(err)
		}
	}
}
