package path

import (
	"bytes"
	"slices"

	"ironseal/pki/cert"
	"ironseal/pki/finding"
)

// LeafOf picks the certificate that a file is about: the one that issued none
// of the others; where several did, the first that is no authority, else the
// first. Link certificates are passed over while there is anything else.
func LeafOf(list []*cert.Certificate) *cert.Certificate {
	if rest := slices.DeleteFunc(slices.Clone(list), (*cert.Certificate).IsLink); len(rest) > 0 {
		list = rest
	}
	issued := map[string]int{} // by what subjects compare equal under: how many name it as their issuer
	seen := map[[32]byte]bool{}
	for _, c := range list {
		if sum := c.SHA256(); !seen[sum] {
			seen[sum] = true
			issued[c.Issuer.Folded()]++
		}
	}
	var candidates []*cert.Certificate
	for _, c := range list {
		others := issued[c.Subject.Folded()]
		if c.SelfIssued() {
			others--
		}
		if others == 0 {
			candidates = append(candidates, c)
		}
	}
	for _, c := range candidates {
		if !c.IsAuthority() {
			return c
		}
	}
	if len(candidates) > 0 {
		return candidates[0]
	}
	return list[0]
}

// OrderFindings says whether the certificates of one file stand as servers need
// them: leaf, then each issuer upward. Strays behind the chain are noted.
func OrderFindings(list []*cert.Certificate) finding.List {
	if len(list) < 2 {
		return nil
	}
	leaf := LeafOf(list)
	if list[0] != leaf {
		return finding.List{finding.New(finding.OutOfOrder, "The leaf %s is not first in the file; %s is.",
			leaf.Title(), list[0].Title())}
	}
	for i, c := range list {
		if slices.ContainsFunc(list[:i], func(x *cert.Certificate) bool { return bytes.Equal(x.Raw, c.Raw) }) {
			return finding.List{finding.New(finding.Stray, "%s is sent twice.", c.Title())}
		}
	}
	for i := 0; i+1 < len(list); i++ {
		if list[i].Issuer.Equal(list[i+1].Subject) {
			continue
		}
		for _, c := range list[i+1:] {
			if c.Subject.Equal(list[i].Issuer) {
				return finding.List{finding.New(finding.OutOfOrder, "%s is not followed by its issuer %s.",
					list[i].Title(), c.Title())}
			}
		}
		var out finding.List
		for _, c := range list[i+1:] {
			out = append(out, finding.New(finding.Stray, "%s is not part of the chain.", c.Title()))
		}
		return out
	}
	return nil
}

// Ordered puts a chain in order: leaf, intermediates, and the root last when it
// is among them. Certificates that do not belong are left out.
func Ordered(list []*cert.Certificate) []*cert.Certificate {
	if len(list) == 0 {
		return nil
	}
	out := []*cert.Certificate{LeafOf(list)}
	for len(out) <= MostDepth {
		last := out[len(out)-1]
		var next *cert.Certificate
		for _, c := range list {
			if !containsCert(out, c) && c.Subject.Equal(last.Issuer) && last.VerifiedBy(c.Key) == nil {
				next = c
				break
			}
		}
		if next == nil {
			break
		}
		out = append(out, next)
	}
	return out
}
