package request

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"ironseal/pki/dn"
	"ironseal/pki/finding"
	"ironseal/pki/san"
)

// Examine says what an expert would notice about the request by itself, before
// any template is chosen. The weightiest comes first.
func (r *Request) Examine() finding.List {
	var out finding.List
	if err := r.Proven(); err != nil {
		out = append(out, finding.New(finding.NoProof, "%v.", err))
	}
	if r.Algorithm.Weak() {
		out = append(out, finding.New(finding.WeakHash, "The request is signed with %s.", r.Algorithm.Name))
	}
	out = append(out, r.Key.Weakness()...)
	subject := SubjectFindings(r.Subject)
	if r.AsksAuthority() { // an authority has a name for people, and no alternative names
		subject = slices.DeleteFunc(subject, func(f finding.Finding) bool { return f.Code == finding.CommonNameOdd })
	} else {
		subject = append(subject, r.nameFindings()...)
	}
	out = append(out, subject...)
	if r.Challenge {
		out = append(out, finding.New(finding.ChallengePresent, "The request carries a challenge password."))
	}
	if len(r.Remarks) > 0 {
		out = append(out, finding.New(finding.Untidy, "The request is untidy: %s.", strings.Join(r.Remarks, "; ")))
	}
	return out.Ranked()
}

func (r *Request) nameFindings() finding.List {
	var out finding.List
	cn := r.Subject.CommonName()
	if len(r.Names) == 0 {
		message := "The request lists no alternative names."
		if _, ok := HostName(cn); ok {
			message = fmt.Sprintf("The request lists no alternative names; its common name %s will be one.", cn)
		}
		out = append(out, finding.New(finding.NoNames, "%s", message))
	} else if n, ok := HostName(cn); ok && !contains(r.Names, n) {
		out = append(out, finding.New(finding.CommonNameAdded, "The common name %s is not among the alternative names; it will be.", cn))
	}
	return append(out, NameFindings(r.Names)...)
}

func contains(list []san.Name, n san.Name) bool {
	for _, m := range list {
		if m.Same(n) {
			return true
		}
	}
	return false
}

// HostName reads a common name as a DNS name or an address, if it is one. A
// short word without a dot counts: devices use such names.
func HostName(cn string) (san.Name, bool) {
	if strings.ContainsAny(cn, ": /@") && !strings.Contains(cn, "::") {
		return san.Name{}, false
	}
	n, err := san.ParseTyped(cn)
	return n, err == nil && (n.Kind == san.DNS || n.Kind == san.IP)
}

// mostPerCode bounds how many findings of one kind are listed one by one:
// people stop reading lists of noise.
const mostPerCode = 5

// NameFindings examines alternative names.
func NameFindings(list []san.Name) finding.List {
	var out finding.List
	seen := map[string]bool{}
	count := map[finding.Code]int{}
	add := func(code finding.Code, n san.Name, format string, args ...any) {
		if count[code]++; count[code] <= mostPerCode {
			out = append(out, finding.New(code, format, args...))
		}
	}
	for _, n := range list {
		switch {
		case Misleading(n.Value):
			add(finding.HostileText, n, "The name %s holds control or bidirectional characters.", n)
		case n.IsAddress():
			add(finding.AddressAsDNS, n, "The address %s is listed as a DNS name.", n.Value)
		case n.Fault() != "":
			add(finding.BadName, n, "No client can match %s: %s.", n, n.Fault())
		case n.IsWildcard():
			add(finding.WildcardName, n, "%s covers every host one level below %s.", n.Value, n.Value[2:])
		case n.IsShort() && !HasFullForm(list, n):
			add(finding.ShortName, n, "%s is a short name, without a domain.", n.Value)
		}
		if n.Kind == san.DNS {
			host := strings.TrimSuffix(strings.ToLower(n.Value), ".")
			readable := n.Readable()
			switch {
			case readable != "" && mixedScripts(readable):
				add(finding.LookAlike, n, "%s reads %s and mixes letters of different scripts.", n.Value, readable)
			case readable != "":
				add(finding.Internationalised, n, "%s reads %s.", n.Value, readable)
			}
			if strings.Contains(host, "_") {
				add(finding.Underscore, n, "%s has an underscore.", n.Value)
			}
			if n.IsWildcard() && !strings.Contains(host[2:], ".") {
				add(finding.BareDomain, n, "%s covers a whole top-level domain.", n.Value)
			}
		}
		if seen[n.Key()] {
			add(finding.DuplicateName, n, "%s is listed more than once.", n)
		}
		seen[n.Key()] = true
	}
	for code, n := range count {
		if n > mostPerCode {
			out = append(out, finding.New(code, "And %d more of the same kind (%s).", n-mostPerCode, code))
		}
	}
	return out
}

// HasFullForm reports whether the list also has the full name of a short one:
// then the short one is there on purpose.
func HasFullForm(list []san.Name, short san.Name) bool {
	for _, n := range list {
		if n.Kind == san.DNS && strings.HasPrefix(strings.ToLower(n.Value), strings.ToLower(short.Value)+".") {
			return true
		}
	}
	return false
}

// SubjectFindings examines a subject.
func SubjectFindings(subject dn.Name) finding.List {
	var out finding.List
	for _, a := range subject.Attributes() {
		switch {
		case Misleading(a.Text):
			out = append(out, finding.New(finding.HostileText, "The subject's %s holds control or bidirectional characters: %q.", a.Short(), clip(a.Text)))
		case a.Short() == "C" && !dn.IsCountry(a.Text):
			out = append(out, finding.New(finding.BadCountry, "The country %q is not two capital letters.", clip(a.Text)))
		}
	}
	if subject.IsEmpty() {
		out = append(out, finding.New(finding.EmptySubject, "The subject is empty."))
	}
	if cn := subject.CommonName(); cn != "" {
		if _, ok := HostName(cn); !ok && !Misleading(cn) {
			out = append(out, finding.New(finding.CommonNameOdd, "The common name %q is not a host name or an address.", clip(cn)))
		}
	}
	return out
}

func clip(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return s
}

// Misleading reports text that could make a name look like another on screen:
// control, bidirectional and invisible characters.
func Misleading(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool {
		return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == unicode.ReplacementChar || r == 0x2028 || r == 0x2029
	}) >= 0
}

// mixedScripts reports a part of a name in which letters of more than one of
// the scripts stand that look alike.
func mixedScripts(host string) bool {
	for _, label := range strings.Split(host, ".") {
		found := 0
		for _, script := range []*unicode.RangeTable{unicode.Latin, unicode.Cyrillic, unicode.Greek, unicode.Armenian, unicode.Cherokee} {
			if strings.IndexFunc(label, func(r rune) bool { return unicode.Is(script, r) }) >= 0 {
				found++
			}
		}
		if found > 1 {
			return true
		}
	}
	return false
}
