package template

import (
	"fmt"
	"slices"
	"strings"
)

// Line is one line of a template in words.
type Line struct{ Label, Text string }

// Words says what the template does, a line a subject.
func (t Template) Words() []Line {
	var out []Line
	add := func(label, format string, args ...any) { out = append(out, Line{label, fmt.Sprintf(format, args...)}) }
	add("makes", "%s", map[string]string{Root: "a root: an authority that signs itself", Authority: "an authority below another", EndEntity: "a certificate for a server, a device or a person; never an authority"}[t.Makes])
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
	if t.IsAuthority() {
		if p := t.Limits.PathLength; p != nil {
			add("below it", "%d level(s) of authorities", *p)
		} else {
			add("below it", "any number of authorities")
		}
		return out
	}
	add("names", "%s", t.nameWords())
	return out
}

func (t Template) issuerWords() []string {
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
		out = []string{"nobody"}
	}
	return out
}

func (t Template) subjectWords() string {
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

func (t Template) nameWords() string {
	words := fmt.Sprintf("%d to %d of the kinds %s", t.Names.Least, t.Names.Most, orNone(t.Names.Kinds))
	if t.Names.Wildcards {
		words += "; wildcards allowed"
	} else {
		words += "; no wildcards"
	}
	if t.Names.Add {
		words += "; names may be added at signing"
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
