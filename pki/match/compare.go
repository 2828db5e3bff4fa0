package match

import (
	"fmt"
	"slices"
	"strings"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/key"
)

// Difference is one thing in which two certificates differ.
type Difference struct {
	Field string `json:"field"`
	A     string `json:"a"`
	B     string `json:"b"`
	Means string `json:"means,omitempty"` // what that does, where it does something
}

// Compare says in words how two certificates differ: the good server's against
// the bad one's, the old against the new.
func Compare(a, b *cert.Certificate) []Difference {
	var out []Difference
	add := func(field, x, y, means string) {
		if x != y {
			out = append(out, Difference{field, x, y, means})
		}
	}
	add("subject", a.Subject.String(), b.Subject.String(), "")
	onlyA, onlyB := lists(nameTexts(a), nameTexts(b))
	add("names", strings.Join(onlyA, ", "), strings.Join(onlyB, ", "), "clients match alternative names only")
	add("issuer", a.Issuer.String(), b.Issuer.String(), "another chain must be sent with it")
	if a.Issuer.Equal(b.Issuer) {
		add("issuer's key", fmt.Sprintf("%x", a.AuthorityKey), fmt.Sprintf("%x", b.AuthorityKey),
			"another generation of the issuer signed it: another chain must be sent with it")
	}
	add("authority", a.Basic.Words(), b.Basic.Words(), "")
	add("key usage", a.Usage.String(), b.Usage.String(), "")
	add("extended usage", strings.Join(ext.UsageNames(a.Extended), ", "),
		strings.Join(ext.UsageNames(b.Extended), ", "), "a device may refuse what lacks its usage")
	add("key kind", a.Key.Words(), b.Key.Words(), "")
	if a.Key.Words() == b.Key.Words() && !key.Same(a.Key, b.Key) {
		out = append(out, Difference{"key", "one key", "another key", "the private key of one does not fit the other"})
	}
	add("from", cert.Stamp(a.NotBefore), cert.Stamp(b.NotBefore), "")
	add("until", cert.Stamp(a.NotAfter), cert.Stamp(b.NotAfter), "")
	add("signed with", a.Algorithm.Name, b.Algorithm.Name, "")
	add("name constraints", a.Constraints.Words(), b.Constraints.Words(), "")
	onlyA, onlyB = lists(otherExtensions(a), otherExtensions(b))
	add("extensions", strings.Join(onlyA, "; "), strings.Join(onlyB, "; "), "")
	add("serial", a.SerialHex(), b.SerialHex(), "")
	return out
}

func nameTexts(c *cert.Certificate) []string {
	var out []string
	for _, n := range c.Names {
		out = append(out, n.Key())
	}
	return out
}

// otherExtensions are those that Compare does not compare by meaning.
func otherExtensions(c *cert.Certificate) []string {
	var out []string
	for _, e := range c.Extensions {
		switch {
		case e.ID.Equal(ext.AltNames), e.ID.Equal(ext.BasicID), e.ID.Equal(ext.KeyUsageID),
			e.ID.Equal(ext.ExtendedUsage), e.ID.Equal(ext.SubjectKeyID),
			e.ID.Equal(ext.AuthorityKeyID), e.ID.Equal(ext.NameConstraintID):
			continue
		}
		out = append(out, ext.NameOf(e.ID)+": "+e.Words())
	}
	return out
}

// lists returns what is only in a and what is only in b.
func lists(a, b []string) (onlyA, onlyB []string) {
	for _, x := range a {
		if !slices.Contains(b, x) {
			onlyA = append(onlyA, x)
		}
	}
	for _, x := range b {
		if !slices.Contains(a, x) {
			onlyB = append(onlyB, x)
		}
	}
	return onlyA, onlyB
}
