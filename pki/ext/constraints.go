package ext

import (
	"errors"
	"fmt"
	"slices"
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
		return out, errors.New("name constraints: there are none in it")
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
	for _, n := range append(implied(subject, list), list...) {
		if why := c.breachBy(n); why != "" {
			return why
		}
	}
	if subject.IsEmpty() {
		return ""
	}
	restricted, inside := false, false
	for _, k := range c.Permitted {
		if k.Kind() == san.Directory {
			restricted, inside = true, inside || k.OnSubject(subject)
		}
	}
	if restricted && !inside {
		return fmt.Sprintf("the subject %s is not under a permitted directory name", subject)
	}
	for _, k := range c.Excluded {
		if k.OnSubject(subject) {
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

func (c Constraints) breachBy(n san.Name) string {
	restricted, inside := false, false
	var permitted []string
	for _, k := range c.Permitted {
		if k.Kind() == n.Kind() {
			restricted, inside = true, inside || k.Covers(n, false)
			permitted = append(permitted, k.Value())
		}
	}
	excluded := slices.ContainsFunc(c.Excluded, func(k san.Constraint) bool { return k.Kind() == n.Kind() })
	if why := n.Unjudged(); why != "" && (restricted || excluded) {
		return fmt.Sprintf("%s cannot be held against the constraints: %s", n, why)
	}
	if restricted && !inside {
		return fmt.Sprintf("%s is not within %s", n, strings.Join(permitted, " or "))
	}
	for _, k := range c.Excluded {
		if k.Kind() == n.Kind() && (k.Covers(n, true) || n.Kind() == san.Other || n.Kind() == san.OID ||
			n.Kind() == san.UPN) {
			return fmt.Sprintf("%s is within the excluded %s", n, k.Value())
		}
	}
	return ""
}
