package path

import (
	"fmt"
	"net/netip"
	"strings"

	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/san"
)

// nameFindings compares the name a client connects by with the names that the
// certificate has, and says what is at odds.
func (s *search) nameFindings(leaf *cert.Certificate) finding.List {
	if s.q.Name == "" {
		return nil
	}
	if _, ok := san.Match(leaf.Names, s.q.Name); ok {
		return nil
	}
	have := listNames(leaf.Names)
	cn := leaf.Subject.CommonName()
	_, byCommonName := san.Match([]san.Name{san.Found(san.DNS, cn)}, s.q.Name)
	if strings.EqualFold(cn, s.q.Name) || byCommonName {
		return finding.List{finding.New(finding.OnlyCommonName,
			"%s stands only in the common name; as alternative names it has %s.", s.q.Name, have)}
	}
	f := finding.New(finding.WrongName, "The certificate is not for %s. It has %s.", s.q.Name, have)
	if hint := nearMiss(leaf.Names, s.q.Name); hint != "" {
		f.Message += " " + hint
	}
	return finding.List{f}
}

func listNames(list []san.Name) string {
	if len(list) == 0 {
		return "no alternative names at all"
	}
	var out []string
	for i, n := range list {
		if i == 8 {
			out = append(out, fmt.Sprintf("and %d more", len(list)-i))
			break
		}
		out = append(out, n.String())
	}
	return strings.Join(out, ", ")
}

// nearMiss says in what way a name is almost there.
func nearMiss(list []san.Name, want string) string {
	want = strings.TrimSuffix(strings.ToLower(strings.TrimSpace(want)), ".")
	addr, notAddress := netip.ParseAddr(strings.Trim(want, "[]"))
	for _, n := range list {
		have := strings.TrimSuffix(strings.ToLower(n.Value()), ".")
		first, rest, _ := strings.Cut(have, ".")
		switch {
		case notAddress == nil && n.Kind() == san.DNS && have == addr.String():
			return "It lists this address as a DNS name; clients look for a name of the address kind."
		case n.Kind() != san.DNS || notAddress == nil:
			continue
		case first == want:
			return fmt.Sprintf("%s is the short form of %s; clients compare the whole name.", want, have)
		case strings.HasPrefix(want, have+".") && !strings.Contains(have, "."):
			return fmt.Sprintf("It has only the short form %s; clients compare the whole name.", have)
		case n.IsWildcard() && strings.HasSuffix(want, "."+rest):
			return fmt.Sprintf("%s covers exactly one level; %s has more.", have, want)
		case n.IsWildcard() && want == rest:
			return fmt.Sprintf("%s does not cover %s itself.", have, want)
		}
	}
	if notAddress == nil {
		for _, n := range list {
			if n.Kind() == san.IP {
				return ""
			}
		}
		return "It has no names of the address kind."
	}
	return ""
}
