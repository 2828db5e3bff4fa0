package request

import (
	"fmt"
	"slices"
	"strings"

	"ironseal/pki/san"
)

// Service is a kind of service, with the names under which a host that offers it
// is usually reached. {name} means the host's full name, {host} for the
// first part of it, {outside} for the rest, and {inside} for the domain that it
// has on the inside.
type Service struct {
	Word    string
	Inside  []string
	Outside []string
}

// Services is the table of services, in the order in which it is offered.
func Services() []Service {
	return []Service{
		{"web", []string{"{host}.{inside}"}, []string{"{name}", "www.{name}"}},
		{"mail", []string{"{host}.{inside}", "mail.{inside}"},
			[]string{"{name}", "smtp.{outside}", "imap.{outside}", "autodiscover.{outside}"}},
		{"directory", []string{"{host}.{inside}", "{inside}"}, nil},
		{"database", []string{"{host}.{inside}", "db.{inside}"}, nil},
		{"gateway", []string{"{host}.{inside}"}, []string{"{name}", "vpn.{outside}"}},
	}
}

// ServiceNamed finds a service by its word; case does not count.
func ServiceNamed(word string) (Service, error) {
	var words []string
	for _, s := range Services() {
		if strings.EqualFold(s.Word, word) {
			return s, nil
		}
		words = append(words, s.Word)
	}
	return Service{}, fmt.Errorf("%q is not in the table of services: use %s", word, strings.Join(words, ", "))
}

// NamesOf gives the names that a host has for a service. inside is the domain it
// has on the inside; "" if it has none of its own.
func (s Service) NamesOf(host san.Name, inside string) (within, outside []san.Name) {
	first, domain, _ := strings.Cut(host.Value(), ".")
	if host.Kind() != san.DNS || domain == "" {
		return nil, nil
	}
	if inside == "" {
		inside = domain
	}
	fill := func(patterns []string) (out []san.Name) {
		for _, p := range patterns {
			text := strings.NewReplacer("{name}", host.Value(), "{host}", first, "{outside}", domain, "{inside}",
				inside).Replace(p)
			if n, err := san.ParseTyped("dns:" + text); err == nil {
				out = append(out, n)
			}
		}
		return out
	}
	return fill(s.Inside), fill(s.Outside)
}

// Pruned is a name that was left out of a list, and why.
type Pruned struct {
	Name san.Name
	Why  string
}

// Unite makes one list of names: the first stays first, for it names the host;
// the others follow by kind and alphabet. Repeated names are left out, and what
// a wildcard in the list means as well.
func Unite(list []san.Name) (kept []san.Name, pruned []Pruned) {
	has := map[string]bool{}
	for i, n := range list {
		why := ""
		if has[n.Key()] {
			why = "more than once"
		} else if wild := coveredBy(list, n); i > 0 && wild != "" {
			why = wild + " stands for it"
		}
		if why == "" {
			has[n.Key()] = true
			kept = append(kept, n)
		} else if !slices.ContainsFunc(pruned, func(p Pruned) bool { return p.Name.Same(n) }) {
			pruned = append(pruned, Pruned{n, why})
		}
	}
	if len(kept) > 1 {
		slices.SortStableFunc(kept[1:], func(a, b san.Name) int { return strings.Compare(a.Key(), b.Key()) })
	}
	return kept, pruned
}

// coveredBy finds a wildcard in the list that means the name (RFC 9525
// section 6.3), or "".
func coveredBy(list []san.Name, n san.Name) string {
	_, rest, _ := strings.Cut(n.Value(), ".")
	for _, w := range list {
		if n.Kind() == san.DNS && w.Kind() == san.DNS && !strings.HasPrefix(n.Value(), "*.") &&
			strings.EqualFold(w.Value(), "*."+rest) {
			return w.Value()
		}
	}
	return ""
}
