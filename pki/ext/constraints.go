package ext

import (
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/dn"
	"ironseal/pki/san"
)

// Constraints is a name constraints extension (RFC 5280 section 4.2.1.10).
type Constraints struct {
	Permitted, Excluded []san.Constraint
}

// IsEmpty reports whether nothing is constrained.
func (c Constraints) IsEmpty() bool { return len(c.Permitted)+len(c.Excluded) == 0 }

// ReadConstraints decodes a name constraints extension.
func ReadConstraints(value []byte) (Constraints, error) {
	in := cryptobyte.String(value)
	var seq cryptobyte.String
	var out Constraints
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() {
		return out, errors.New("name constraints: not one ASN.1 sequence")
	}
	if seq.Empty() {
		return out, errors.New("name constraints: the extension has none")
	}
	for i, list := range []*[]san.Constraint{&out.Permitted, &out.Excluded} {
		var trees cryptobyte.String
		var there bool
		if !seq.ReadOptionalASN1(&trees, &there, casn1.Tag(i).ContextSpecific().Constructed()) {
			return out, errors.New("name constraints: a list cannot be parsed")
		}
		if there && trees.Empty() {
			return out, errors.New("name constraints: a list is empty")
		}
		for !trees.Empty() {
			var tree, base cryptobyte.String
			var tag casn1.Tag
			if !trees.ReadASN1(&tree, casn1.SEQUENCE) || !tree.ReadAnyASN1Element(&base, &tag) || len(*list) == 4096 {
				return out, errors.New("name constraints: a subtree cannot be parsed")
			}
			if !tree.Empty() {
				return out, errors.New("name constraints: a subtree has a minimum or a maximum, which RFC 5280 forbids")
			}
			c, err := san.ReadConstraint(base, tag)
			if err != nil {
				return out, err
			}
			*list = append(*list, c)
		}
	}
	if !seq.Empty() {
		return out, errors.New("name constraints: something unknown follows")
	}
	return out, nil
}

// Extension encodes the constraints, critical as section 4.2.1.10 asks.
func (c Constraints) Extension() (Extension, error) {
	var b cryptobyte.Builder
	var fault error
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for i, list := range [][]san.Constraint{c.Permitted, c.Excluded} {
			if len(list) == 0 {
				continue
			}
			b.AddASN1(casn1.Tag(i).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
				for _, k := range list {
					der, err := k.DER()
					if err != nil {
						fault = err
						return
					}
					b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddBytes(der) })
				}
			})
		}
	})
	if fault != nil {
		return Extension{}, fault
	}
	der, err := b.Bytes()
	return Extension{ID: NameConstraintID, Critical: true, Value: der}, err
}

// Words says what is permitted and what is excluded.
func (c Constraints) Words() string {
	var out []string
	for _, k := range c.Permitted {
		out = append(out, "only "+k.String())
	}
	for _, k := range c.Excluded {
		out = append(out, "not "+k.String())
	}
	return strings.Join(out, ", ")
}

// Breach says why a subject and its names are outside the constraints, or "".
// Directory constraints hold for the subject too, mail constraints for every mail
// address in it, and constraints on hosts for common names that are hosts, where
// no DNS name is listed: some clients take those for names.
func (c Constraints) Breach(subject dn.Name, list []san.Name) string {
	if c.IsEmpty() { // as nearly all are
		return ""
	}
	return c.Bounds().Breach(subject, list)
}

// Bounds are constraints in the form in which many names are compared with them: the cost of a name
// does not grow with the number of constraints.
type Bounds struct {
	permitted, excluded map[san.Kind]*san.Trees
	words               map[san.Kind]string // what is permitted, for messages
}

// Bounds puts constraints into that form.
func (c Constraints) Bounds() Bounds {
	return Bounds{byKind(c.Permitted), byKind(c.Excluded), permittedWords(c.Permitted)}
}

func byKind(list []san.Constraint) map[san.Kind]*san.Trees {
	kinds := map[san.Kind][]san.Constraint{}
	for _, k := range list {
		kinds[k.Kind()] = append(kinds[k.Kind()], k)
	}
	out := map[san.Kind]*san.Trees{}
	for kind, list := range kinds {
		out[kind] = san.NewTrees(list)
	}
	return out
}

// mostTold is how many permitted names a message tells.
const mostTold = 8

func permittedWords(list []san.Constraint) map[san.Kind]string {
	told, out := map[san.Kind][]string{}, map[san.Kind]string{}
	for _, k := range list {
		switch n := len(told[k.Kind()]); {
		case n < mostTold:
			told[k.Kind()] = append(told[k.Kind()], k.Value())
		case n == mostTold:
			told[k.Kind()] = append(told[k.Kind()], "others")
		}
	}
	for kind, list := range told {
		out[kind] = strings.Join(list, " or ")
	}
	return out
}

// Breach is Constraints.Breach.
func (l Bounds) Breach(subject dn.Name, list []san.Name) string {
	for _, n := range append(implied(subject, list), list...) {
		if why := l.breachBy(n); why != "" {
			return why
		}
	}
	if subject.IsEmpty() {
		return ""
	}
	if t := l.permitted[san.Directory]; t.Any() {
		if _, inside := t.Subject(subject); !inside {
			return fmt.Sprintf("the subject %s is not under a permitted directory name", subject)
		}
	}
	if t := l.excluded[san.Directory]; t.Any() {
		if k, within := t.Subject(subject); within {
			return fmt.Sprintf("the subject %s is under the excluded %s", subject, k)
		}
	}
	return ""
}

// implied are the names that a subject brings along.
func implied(subject dn.Name, list []san.Name) []san.Name {
	var out []san.Name
	for _, a := range subject.All("emailAddress") {
		out = append(out, san.Found(san.Email, a))
	}
	for _, n := range list {
		if n.Kind() == san.DNS {
			return out
		}
	}
	for _, cn := range subject.All("CN") {
		if n, ok := san.HostName(cn); ok && strings.Contains(n.Value(), ".") {
			out = append(out, n)
		}
	}
	return out
}

func (l Bounds) breachBy(n san.Name) string {
	permitted, excluded := l.permitted[n.Kind()], l.excluded[n.Kind()]
	if !permitted.Any() && !excluded.Any() {
		return ""
	}
	if why := n.Unjudged(); why != "" {
		return fmt.Sprintf("%s cannot be held against the constraints: %s", n, why)
	}
	if permitted.Any() {
		if _, inside := permitted.Covers(n, false); !inside {
			return fmt.Sprintf("%s is not within %s", n, l.words[n.Kind()])
		}
	}
	if !excluded.Any() {
		return ""
	}
	if k, within := excluded.Covers(n, true); within {
		return fmt.Sprintf("%s is within the excluded %s", n, k.Value())
	}
	if n.Kind() == san.Other || n.Kind() == san.OID || n.Kind() == san.UPN { // such names cannot be compared
		return fmt.Sprintf("%s may be within what is excluded of its kind", n)
	}
	return ""
}
