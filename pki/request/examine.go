package request

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"ironseal/pki/dn"
	"ironseal/pki/finding"
	"ironseal/pki/runes"
	"ironseal/pki/san"
)

// Examine says what an expert would notice about the request on its own, before
// any template is chosen. The weightiest comes first.
func (r *Request) Examine() finding.List {
	var out finding.List
	if err := r.Proven(); err != nil {
		out = append(out, finding.New(finding.NoProof, "%v.", err))
	}
	if r.Algorithm.Weak() {
		out = append(out, finding.New(finding.WeakHash, "The request is signed with %s.", r.Algorithm.Name))
	}
	out = append(out, r.Key.Scrutiny()...)
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
	hosts := Hosts(r.Subject)
	if len(r.Names) == 0 {
		message := "The request lists no alternative names."
		if len(hosts) > 0 {
			message = fmt.Sprintf("The request lists no alternative names; its common name %s will be one.",
				hosts[len(hosts)-1].Value())
		}
		out = append(out, finding.New(finding.NoNames, "%s", message))
		return out
	}
	listed := map[string]bool{}
	for _, n := range r.Names {
		listed[n.Key()] = true
	}
	for _, n := range hosts {
		if !listed[n.Key()] {
			out = append(out, finding.New(finding.CommonNameAdded,
				"The common name %s is not among the alternative names; it will be.", n.Value()))
		}
	}
	return append(out, NameFindings(r.Names)...)
}

// Hosts are the common names of a subject that are host names or addresses, the
// widest first: some clients take each of them for a name.
func Hosts(subject dn.Name) []san.Name {
	var out []san.Name
	for _, cn := range subject.All("CN") {
		if n, ok := san.HostName(cn); ok {
			out = append(out, n)
		}
	}
	return out
}

// mostPerCode bounds how many findings of one kind are listed one by one:
// people stop reading lists of noise.
const mostPerCode = 5

// NameFindings examines alternative names.
func NameFindings(list []san.Name) finding.List {
	var out finding.List
	seen := map[string]bool{}
	full := FullForms(list)
	count := map[finding.Code]int{}
	add := func(code finding.Code, format string, args ...any) {
		if count[code]++; count[code] <= mostPerCode {
			out = append(out, finding.New(code, format, args...))
		}
	}
	for _, n := range list {
		switch {
		case runes.Misleading(n.Value()):
			add(finding.HostileText, "The name %s holds characters that mislead: controls, turns of direction, or "+
				"invisible ones.", n)
		case n.IsAddress():
			add(finding.AddressAsDNS, "The address %s is listed as a DNS name.", n.Value())
		case n.OverTop():
			add(finding.BareDomain, "%s covers a whole top-level domain.", n.Value())
		case n.Fault() != "":
			add(finding.BadName, "No client can match %s: %s.", n, n.Fault())
		case n.IsWildcard():
			add(finding.WildcardName, "%s covers every host one level below %s.", n.Value(), n.Under())
		case n.IsShort() && !full[n.Key()]:
			add(finding.ShortName, "%s is a short name, without a domain.", n.Value())
		}
		if readable := n.Readable(); readable != "" && mixedScripts(readable) {
			add(finding.LookAlike, "%s reads %s and mixes letters of different scripts.", n.Value(), readable)
		} else if readable != "" {
			add(finding.Internationalised, "%s reads %s.", n.Value(), readable)
		}
		if n.Kind() == san.DNS && strings.Contains(n.Value(), "_") {
			add(finding.Underscore, "%s has an underscore.", n.Value())
		}
		if seen[n.Key()] {
			add(finding.DuplicateName, "%s is listed more than once.", n)
		}
		seen[n.Key()] = true
	}
	for _, code := range slices.Sorted(maps.Keys(count)) {
		if n := count[code]; n > mostPerCode {
			out = append(out, finding.New(code, "And %d more of the same kind (%s).", n-mostPerCode, code))
		}
	}
	return out
}

// FullForms tells, by their keys, the short names whose full form is in the list as
// well: those are there on purpose.
func FullForms(list []san.Name) map[string]bool {
	if !slices.ContainsFunc(list, san.Name.IsShort) {
		return nil
	}
	out := map[string]bool{}
	for _, n := range list {
		if first, _, cut := strings.Cut(n.Key(), "."); cut && n.Kind() == san.DNS {
			out[first] = true // a key begins with its kind, so this is the key of the short name
		}
	}
	return out
}

// SubjectFindings examines a subject.
func SubjectFindings(subject dn.Name) finding.List {
	var out finding.List
	for a := range subject.Attributes() {
		switch {
		case runes.Misleading(a.Text):
			out = append(out, finding.New(finding.HostileText, "The subject's %s holds characters that mislead: %q.",
				a.Short(), runes.Clip(a.Text, 60)))
		case a.Short() == "C" && !dn.IsCountry(a.Text):
			out = append(out, finding.New(finding.BadCountry, "The country %q is not two capital letters.",
				runes.Clip(a.Text, 60)))
		}
	}
	if subject.IsEmpty() {
		out = append(out, finding.New(finding.EmptySubject, "The subject is empty."))
	}
	for _, cn := range subject.All("CN") {
		if _, ok := san.HostName(cn); !ok && !runes.Misleading(cn) {
			out = append(out, finding.New(finding.CommonNameOdd, "The common name %q is not a host name or an address.",
				runes.Clip(cn, 60)))
		}
	}
	if n := len(subject.All("CN")); n > 1 {
		out = append(out, finding.New(finding.CommonNames,
			"The subject has %d common names; which of them a client shows or compares is anybody's guess.", n))
	}
	return out
}

// mixedScripts reports a part of a name in which letters of more than one of
// the scripts stand that look alike.
func mixedScripts(host string) bool {
	for _, label := range strings.Split(host, ".") {
		found := 0
		for _, script := range []*unicode.RangeTable{unicode.Latin, unicode.Cyrillic, unicode.Greek, unicode.Armenian,
			unicode.Cherokee} {
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
