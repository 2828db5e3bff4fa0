// Package trust knows sets of anchors: which certificates a group of machines should hold,
// for what, and within which names.
//
// A set is a text that people can read and compare: TOML with each anchor's certificate in
// PEM. Without any, there is one already: the estate's own roots that still matter.
package trust

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/san"
	"ironseal/pki/strict"
)

// Own is the name of the set that every estate has: its own roots that still matter.
const Own = "own"

// Purpose is what an anchor is trusted for.
type Purpose string

// The purposes, as stores and policies tell them apart.
const (
	Servers Purpose = "servers"
	Clients Purpose = "clients"
	Mail    Purpose = "mail"
	Code    Purpose = "code"
)

// Purposes lists all purposes, in the order in which they are shown.
func Purposes() []Purpose { return []Purpose{Servers, Clients, Mail, Code} }

// Anchor is a certificate that is trusted, and what for.
type Anchor struct {
	Certificate *cert.Certificate
	From        string // where it came from: a generation of ours, a file, an endpoint
	Purposes    []Purpose
	Permitted   []san.Constraint // it counts for these names alone; empty for all
	Compromise  string           // why no machine is to be given it, as a sentence; "" where nothing is known
}

// Set is a named list of anchors.
type Set struct {
	Name    string
	Title   string
	Anchors []Anchor
}

// Sound is the set without the anchors whose key is suspected, and those, each with why.
func (s Set) Sound() (Set, []string) {
	out := s
	out.Anchors = nil
	var left []string
	for _, a := range s.Anchors {
		if a.Compromise == "" {
			out.Anchors = append(out.Anchors, a)
			continue
		}
		sum := a.Certificate.SHA256()
		left = append(left, fmt.Sprintf("%s (%x…) is left out. %s", a.Certificate.Title(), sum[:4], a.Compromise))
	}
	return out, left
}

// Bounds on what is read.
const (
	MostBytes   = 4 << 20
	MostAnchors = 500
)

type setFile struct {
	Title   string       `toml:"title" doc:"what the set is for, in a few words"`
	Anchors []anchorFile `toml:"anchor" doc:"a certificate that is trusted"`
}

type anchorFile struct {
	From        string   `toml:"from" doc:"where it came from"`
	Purposes    []string `toml:"purposes" doc:"what for: servers, clients, mail, code; servers when left out"`
	Permitted   []string `toml:"permitted" doc:"the names that it counts for, such as dns:partner.example; all when left out"`
	Certificate string   `toml:"certificate" doc:"the certificate, in PEM"`
}

// Parse reads a set's file. Reading is strict.
func Parse(name string, data []byte) (Set, error) {
	out := Set{Name: name}
	fail := func(err error) (Set, error) { return out, fmt.Errorf("sets/%s.toml: %w", name, err) }
	if len(data) > MostBytes {
		return fail(fmt.Errorf("it is larger than %d bytes", MostBytes))
	}
	var f setFile
	if err := strict.Read(data, &f); err != nil {
		return out, fmt.Errorf("sets/%s.toml:%w", name, err)
	}
	if f.Title == "" {
		return fail(errors.New("title is missing: say what the set is for"))
	}
	if len(f.Anchors) > MostAnchors {
		return fail(fmt.Errorf("it has more than %d anchors", MostAnchors))
	}
	out.Title = f.Title
	for i, a := range f.Anchors {
		anchor, err := a.read()
		if err != nil {
			return fail(fmt.Errorf("anchor %d: %w", i+1, err))
		}
		if err := out.Add(anchor); err != nil {
			return fail(fmt.Errorf("anchor %d: %w", i+1, err))
		}
	}
	return out, nil
}

func (f anchorFile) read() (Anchor, error) {
	c, err := bundle.Read([]byte(f.Certificate))
	if err != nil {
		return Anchor{}, err
	}
	list := c.Of(bundle.Certificate)
	if len(list) != 1 || len(c.Objects) != 1 {
		return Anchor{}, errors.New("certificate: it is to hold one certificate in PEM, and nothing else")
	}
	a := Anchor{From: f.From}
	if a.Certificate, err = cert.Read(list[0].DER); err != nil {
		return a, err
	}
	if a.Purposes, err = ParsePurposes(f.Purposes); err != nil {
		return a, err
	}
	a.Permitted, err = ParsePermitted(f.Permitted)
	return a, err
}

// ParsePurposes reads purposes that were typed; without any, it is servers.
func ParsePurposes(typed []string) ([]Purpose, error) {
	if len(typed) == 0 {
		return []Purpose{Servers}, nil
	}
	var out []Purpose
	for _, t := range typed {
		p := Purpose(strings.ToLower(strings.TrimSpace(t)))
		if !slices.Contains(Purposes(), p) {
			return nil, fmt.Errorf("purpose %q: use one of servers, clients, mail, code", t)
		}
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out, nil
}

// ParsePermitted reads names that an anchor counts for.
func ParsePermitted(typed []string) (out []san.Constraint, err error) {
	for _, t := range typed {
		c, err := san.ParseConstraint(t)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// Add adds an anchor that is not in the set yet.
func (s *Set) Add(a Anchor) error {
	if s.Find(a.Certificate) != nil {
		return fmt.Errorf("%s is in the set already", a.Certificate.Title())
	}
	if len(s.Anchors) >= MostAnchors {
		return fmt.Errorf("a set has at most %d anchors", MostAnchors)
	}
	s.Anchors = append(s.Anchors, a)
	return nil
}

// Find finds the anchor that is a certificate; nil when none is.
func (s *Set) Find(c *cert.Certificate) *Anchor {
	for i, a := range s.Anchors {
		if bytes.Equal(a.Certificate.Raw, c.Raw) {
			return &s.Anchors[i]
		}
	}
	return nil
}

// Sums are the SHA-256 fingerprints of its anchors, in hex, in order of size.
func (s Set) Sums() []string {
	out := []string{}
	for _, a := range s.Anchors {
		out = append(out, fmt.Sprintf("%x", a.Certificate.SHA256()))
	}
	slices.Sort(out)
	return out
}

// Bytes writes a set's file. Its values are quoted as TOML quotes them, so that no
// text of a certificate's can become a key.
func (s Set) Bytes() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "# A trust set: the roots that machines should trust.\ntitle = %s\n", quoted(s.Title))
	for _, a := range s.Anchors {
		fmt.Fprintf(&b, "\n[[anchor]] # %s, until %s\nfrom        = %s\npurposes    = %s\n",
			comment(a.Certificate.Title()),
			a.Certificate.NotAfter.Format("2006-01-02"), quoted(a.From), quotedList(a.Purposes))
		if len(a.Permitted) > 0 {
			fmt.Fprintf(&b, "permitted   = %s\n", quotedList(a.Permitted))
		}
		fmt.Fprintf(&b, "certificate = '''\n%s'''\n", bundle.PEM(bundle.Certificate, a.Certificate.Raw))
	}
	return b.Bytes()
}

// quoted writes a TOML basic string, which a JSON string is.
func quoted(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		return `""`
	}
	return string(b)
}

func quotedList[T any](list []T) string {
	texts := make([]string, len(list))
	for i, x := range list {
		texts[i] = quoted(fmt.Sprint(x))
	}
	return "[" + strings.Join(texts, ", ") + "]"
}

// comment keeps a text on its line.
func comment(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r > 0x7e {
			return '?'
		}
		return r
	}, s)
}

// Findings says what speaks against a certificate as an anchor, with what was probably
// meant.
func Findings(c *cert.Certificate, now time.Time) finding.List {
	var out finding.List
	add := func(code finding.Code, format string, args ...any) {
		out = append(out, finding.New(code, format, args...))
	}
	switch {
	case len(c.Broken) > 0:
		add(finding.Malformed, "%s breaks the rules: %s.", c.Title(), c.Broken[0])
	case !c.IsAuthority() && !c.SelfSigned():
		add(finding.AnchorLeaf,
			"%s is a machine's or a person's certificate, signed by %s: its root was probably meant.",
			c.Title(), c.Issuer)
	case !c.IsAuthority():
		add(finding.AnchorSelf, "%s is self-signed and no authority: it vouches for itself alone.", c.Title())
	case !c.SelfSigned():
		add(finding.AnchorMiddle, "%s was signed by %s: it is an intermediate.", c.Title(), c.Issuer)
	}
	if c.HasUsage && c.IsAuthority() && c.Usage&ext.KeyCertSign == 0 {
		add(finding.IssuerNotUsable, "%s may not sign certificates.", c.Title())
	}
	switch {
	case now.After(c.NotAfter):
		add(finding.AnchorExpired, "%s expired on %s.", c.Title(), c.NotAfter.Format("2006-01-02"))
	case now.Before(c.NotBefore):
		add(finding.AnchorEarly, "%s is not valid before %s.", c.Title(), c.NotBefore.Format("2006-01-02"))
	}
	if c.Algorithm.Weak() && c.SelfSigned() {
		add(finding.AnchorDigest, "%s is signed with %s.", c.Title(), c.Algorithm.Name)
	}
	return append(out, c.Key.Weakness()...)
}
