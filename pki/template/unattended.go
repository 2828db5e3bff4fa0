package template

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"ironseal/pki/san"
	"ironseal/pki/span"
)

// Unattended says how far a machine may get a certificate by the template without a person. A template without it never
// signs unattended.
type Unattended struct {
	By        []string  `toml:"by" json:"by" doc:"protocols by which machines may enrol without a person: est, acme, scep"`
	Authority string    `toml:"authority" json:"authority" doc:"the handle of the authority that signs; the server must be allowed to open its key"`
	Names     []string  `toml:"names" json:"names" doc:"names that may be certified, with their kind: \"dns:*.quay.ternbay.example\", where * stands for one label or more; \"ip:192.0.2.0/24\""`
	Lifetime  span.Span `toml:"lifetime" json:"lifetime" doc:"how long such a certificate lives; the template's lifetime when left out"`
	PerDay    int       `toml:"per-day" json:"per_day" doc:"how many may be signed in a day (UTC) without a person"`
	HeldNames bool      `toml:"trust-held-names" json:"trust_held_names" doc:"by acme: a name in a certificate that the same party holds needs no challenge"`
	Older     bool      `toml:"older-ciphers" json:"older_ciphers" doc:"by scep: messages with SHA-1 and triple DES are taken too, for devices that know nothing newer"`
	MakeKeys  bool      `toml:"make-keys" json:"make_keys" doc:"by est: the server makes the key for machines that ask for it, and keeps none"`
}

// Protocols by which machines enrol.
const (
	EST  = "est"  // RFC 7030
	ACME = "acme" // RFC 8555
	SCEP = "scep" // RFC 8894
)

// Protocols are all of them.
func Protocols() []string { return []string{EST, ACME, SCEP} }

// Allows reports whether machines may enrol by a protocol.
func (u Unattended) Allows(by string) bool { return slices.Contains(u.By, by) }

// Covers reports whether a name may be certified without a person. A wildcard is never.
func (u Unattended) Covers(n san.Name) bool {
	return !n.IsWildcard() && slices.ContainsFunc(u.Names, func(pattern string) bool {
		kind, value, _ := strings.Cut(pattern, ":")
		if string(n.Kind()) != kind {
			return false
		}
		if n.Kind() == san.IP {
			net, err := netip.ParsePrefix(value)
			at, atErr := netip.ParseAddr(n.Fresh().Value())
			return err == nil && atErr == nil && net.Contains(at.Unmap())
		}
		text := strings.ToLower(n.Fresh().Value())
		if domain, ok := strings.CutPrefix(strings.ToLower(value), "*."); ok {
			return strings.HasSuffix(text, "."+domain)
		}
		return text == strings.ToLower(value)
	})
}

// check says what is wrong with it, in a template that makes certificates of a kind.
func (u Unattended) check(t *Template) error {
	if len(u.By) == 0 {
		if u.Authority != "" || len(u.Names) > 0 || u.PerDay != 0 || !u.Lifetime.
			IsZero() || u.HeldNames || u.MakeKeys || u.Older {
			return errors.New("unattended.by is missing: write for example by = [\"est\"]")
		}
		return nil
	}
	for _, by := range u.By {
		if !slices.Contains(Protocols(), by) {
			return fmt.Errorf("unattended.by: %q is not a protocol: use %s", by, strings.Join(Protocols(), ", "))
		}
	}
	switch {
	case t.Makes != EndEntity:
		return errors.New("unattended: only templates for end entities sign without a person")
	case u.Authority == "":
		return errors.New("unattended.authority is missing: name the authority that signs")
	case len(u.Names) == 0:
		return errors.New("unattended.names is missing: write for example names = [\"dns:*.quay.ternbay.example\"]")
	case u.PerDay < 1 || u.PerDay > 1_000_000:
		return fmt.Errorf("unattended.per-day = %d: from 1 to 1000000", u.PerDay)
	}
	for _, n := range u.Names {
		kind, value, found := strings.Cut(n, ":")
		if !found || value == "" || !t.TakesName(san.Kind(kind)) {
			return fmt.Errorf("unattended.names: %q: write a kind that the template takes, and a pattern: "+
				"dns:*.quay.ternbay.example", n)
		}
		if kind == string(san.IP) {
			if _, err := netip.ParsePrefix(value); err != nil {
				return fmt.Errorf("unattended.names: %q is not a network: write for example ip:192.0.2.0/24", n)
			}
			continue
		}
		if rest := strings.TrimPrefix(value, "*."); strings.Contains(rest, "*") || !strings.Contains(rest, ".") {
			return fmt.Errorf("unattended.names: %q: a * stands only at the beginning, before a domain", n)
		}
	}
	return nil
}
