package template

import (
	"fmt"
	"slices"
	"strings"

	"ironseal/pki/span"
)

// Line is one line of a template in words.
type Line struct{ Label, Text string }

// Words says what the template does, a line a subject.
func (t *Template) Words() []Line {
	var out []Line
	add := func(label, format string, args ...any) { out = append(out, Line{label, fmt.Sprintf(format, args...)}) }
	add("makes", "%s", map[string]string{Root: "a root: an authority that signs itself",
		Authority: "an authority below another",
		EndEntity: "a certificate for a server, a device or a person; never an authority"}[t.Makes])
	add("signed by", "%s", strings.Join(t.issuerWords(), "; "))
	life := t.Lifetime.Words()
	if t.Longest != t.Lifetime {
		life += ", at most " + t.Longest.Words()
	}
	add("lives", "%s", life)
	add("keys", "%s", strings.Join(t.Keys, ", "))
	add("key usage", "%s", orNone(t.Usage))
	if !t.IsAuthority() {
		add("for", "%s", orNone(t.Extended))
	}
	add("subject", "takes over %s%s", orNone(t.Subject.Take), t.subjectWords())
	if len(t.Policies) > 0 {
		add("policies", "%s", strings.Join(t.Policies, ", "))
	}
	if all := slices.Concat(t.Publish.Lists, t.Publish.Issuers, t.Publish.OCSP); len(all) > 0 {
		add("names", "the addresses %s", strings.Join(all, ", "))
		out[len(out)-1].Label = "publishes"
	}
	if len(t.Senders) > 0 {
		add("requesters", "only %s", strings.Join(t.Senders, ", "))
	}
	if len(t.Findings.NeedsWaiver)+len(t.Findings.Allow) > 0 {
		add("findings", "need a waiver: %s; only warn: %s", orNone(t.Findings.NeedsWaiver), orNone(t.Findings.Allow))
	}
	if t.IsAuthority() {
		if p := t.Limits.PathLength; p != nil {
			add("below it", "%s of authorities", span.Count(*p, "level"))
		} else {
			add("below it", "any number of authorities")
		}
		return out
	}
	add("names", "%s", t.nameWords())
	if u := t.Unattended; len(u.By) > 0 {
		add("unattended", "%s", u.words(t))
	}
	return out
}

// words says how far a machine may go without a person.
func (u Unattended) words(t *Template) string {
	life := u.Lifetime
	if life.IsZero() {
		life = t.Lifetime
	}
	out := fmt.Sprintf("by %s, signed by %s: %s; for %s; at most %d a day; everything else waits for a person",
		strings.Join(u.By, ", "), u.Authority, strings.Join(u.Names, ", "), life.Words(), u.PerDay)
	for _, x := range []struct {
		on    bool
		words string
	}{{u.HeldNames, "names that the same party holds need no challenge"},
		{u.MakeKeys, "the server makes keys for machines that ask for it"},
		{u.Older, "SHA-1 and triple DES are taken for older devices"}} {
		if x.on {
			out += "; " + x.words
		}
	}
	return out
}

func (t *Template) issuerWords() []string {
	var out []string
	for _, i := range t.Issuers {
		switch i {
		case Any:
			i = "every authority"
		case AnyRoot:
			i = "every root"
		case AnyIntermediate:
			i = "every authority below a root"
		}
		out = append(out, i)
	}
	if len(out) == 0 {
		out = []string{"no authority"}
	}
	return out
}

func (t *Template) subjectWords() string {
	var b strings.Builder
	var fixed []string
	for k, v := range t.Subject.Fixed {
		fixed = append(fixed, k+"="+v)
	}
	slices.Sort(fixed)
	if len(fixed) > 0 {
		b.WriteString("; always " + strings.Join(fixed, ", "))
	}
	if len(t.Subject.Need) > 0 {
		b.WriteString("; needs " + strings.Join(t.Subject.Need, ", "))
	}
	return b.String()
}

func (t *Template) nameWords() string {
	words := fmt.Sprintf("%d to %d of the kinds %s", t.Names.Least, t.Names.Most, orNone(t.Names.Kinds))
	if t.Names.Wildcards {
		words += "; wildcards allowed"
	} else {
		words += "; no wildcards"
	}
	if t.Names.Add {
		words += "; names may be added at signing"
	}
	if len(t.Names.Patterns) > 0 {
		words += "; only " + strings.Join(t.Names.Patterns, ", ")
	}
	if len(t.Names.Networks) > 0 {
		words += "; addresses in " + strings.Join(t.Names.Networks, ", ")
	}
	if t.Names.CommonName {
		words += "; the common name becomes one"
	}
	return words
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, ", ")
}

// Change is one line in which two templates differ.
type Change struct {
	Label string `json:"what"`
	A     string `json:"a"`
	B     string `json:"b"`
}

// Compare says in words how two templates differ.
func Compare(a, b Template) []Change {
	var out []Change
	labels := []string{"title", "purpose"}
	x := map[string]string{"title": a.Title, "purpose": a.Purpose}
	y := map[string]string{"title": b.Title, "purpose": b.Purpose}
	for i, t := range []Template{a, b} {
		for _, l := range t.Words() {
			[]map[string]string{x, y}[i][l.Label] = l.Text
			if !slices.Contains(labels, l.Label) {
				labels = append(labels, l.Label)
			}
		}
	}
	for _, l := range labels {
		if x[l] != y[l] {
			out = append(out, Change{l, x[l], y[l]})
		}
	}
	return out
}

// Allowed are the patterns and networks that names must fit.
func (t *Template) Allowed() string {
	return strings.Join(slices.Concat(t.Names.Patterns, t.Names.Networks), ", ")
}
