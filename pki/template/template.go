// Package template says what may be signed.
//
// A template is a TOML file that a person can read and keep in version control.
// It lists what an issued certificate will hold; whatever it does not name is
// not copied from a request. Reading is strict: an unknown key is an error with
// its line, its column and the key that was probably meant, because a misspelt
// restriction is no restriction.
package template

import (
	"bytes"
	"crypto/sha256"
	"encoding/asn1"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/san"
	"ironseal/pki/span"
	"ironseal/pki/strict"
)

// What a template makes.
const (
	Root      = "root"
	Authority = "authority"
	EndEntity = "end-entity"
)

// Words that stand in an issuers list for more than one authority.
const (
	Itself          = "itself"           // the certificate's own key: a root
	AnyRoot         = "any-root"         // every self-signed authority
	AnyIntermediate = "any-intermediate" // every authority below another
	Any             = "any"              // every authority
)

// Template is one template. The doc tags are printed into docs/templates.md.
type Template struct {
	Name         string     `toml:"-" json:"name" doc:"its name, that of its file"`
	BasedOn      string     `toml:"based-on,omitempty" json:"based_on,omitempty" doc:"another template, of which this file says only the differences; one step, no chains"`
	Title        string     `toml:"title" json:"title" doc:"what it is called, in a few words"`
	Purpose      string     `toml:"purpose" json:"purpose" doc:"what it is for, in a sentence"`
	Makes        string     `toml:"makes" json:"makes" doc:"\"root\", \"authority\" or \"end-entity\""`
	Issuers      []string   `toml:"issuers" json:"issuers" doc:"which authorities sign by it: handles, or \"any-root\", \"any-intermediate\", \"any\", \"itself\""`
	Lifetime     span.Span  `toml:"lifetime" json:"lifetime" doc:"how long a certificate lives: \"397d\", \"18m\", \"10y\""`
	Longest      span.Span  `toml:"longest-lifetime" json:"longest_lifetime" doc:"the longest life that may be asked for at signing; the same as lifetime when left out"`
	Keys         []string   `toml:"keys" json:"keys" doc:"key kinds it takes: \"rsa-2048+\" means RSA of 2048 bits or more"`
	Usage        []string   `toml:"key-usage" json:"key_usage" doc:"key usage, by the standard's names; keyEncipherment and dataEncipherment are left out for keys that are not RSA"`
	Extended     []string   `toml:"extended-key-usage" json:"extended_key_usage" doc:"extended key usage, by the standard's names or as dotted identifiers"`
	Critical     bool       `toml:"extended-key-usage-critical" json:"extended_key_usage_critical" doc:"whether clients must understand the extended key usage"`
	Subject      Subject    `toml:"subject" json:"subject" doc:"which subject fields are certified"`
	Names        Names      `toml:"names" json:"names" doc:"which alternative names are certified"`
	Limits       Limits     `toml:"authority" json:"authority" doc:"for templates that make an authority"`
	Policies     []string   `toml:"policies,omitempty" json:"policies,omitempty" doc:"certificate policies, as dotted identifiers"`
	Publish      Publish    `toml:"publish" json:"publish" doc:"addresses that certificates name"`
	NoCheck      bool       `toml:"no-revocation-check,omitempty" json:"no_revocation_check,omitempty" doc:"for OCSP responders: clients need not ask about it (RFC 6960 section 4.2.2.2.1)"`
	NoRevocation bool       `toml:"no-revocation,omitempty" json:"no_revocation,omitempty" doc:"for short-lived certificates: marks that no revocation information will exist (RFC 9608)"`
	Senders      []string   `toml:"requesters,omitempty" json:"requesters,omitempty" doc:"who may submit under it: labels of senders, as they were given when requests were received; anyone when left out"`
	Approvals    int        `toml:"approvals,omitempty" json:"approvals,omitempty" doc:"how many operators must agree before it signs, the one who proposes among them; one alone when left out"`
	Findings     Weighing   `toml:"findings" json:"findings" doc:"which findings weigh more or less under this template"`
	Unattended   Unattended `toml:"unattended,omitempty" json:"unattended" doc:"how far a machine may get a certificate without a person"`

	source []byte
	sum    [32]byte // of the source
}

// Subject says which subject fields are certified.
type Subject struct {
	Take  []string          `toml:"take" json:"take" doc:"fields taken over from the request"`
	Fixed map[string]string `toml:"fixed" json:"fixed,omitempty" doc:"fields that always have this value"`
	Need  []string          `toml:"need" json:"need" doc:"fields that must be there"`
}

// Names says which alternative names are certified.
type Names struct {
	Kinds      []string `toml:"kinds" json:"kinds" doc:"kinds of name it takes: \"dns\", \"ip\", \"email\", \"uri\", \"upn\""`
	Least      int      `toml:"least" json:"least" doc:"how many names there must be at least"`
	Most       int      `toml:"most" json:"most" doc:"how many names there may be at most"`
	Wildcards  bool     `toml:"wildcards" json:"wildcards" doc:"whether wildcard names are allowed"`
	Add        bool     `toml:"add-at-signing" json:"add_at_signing" doc:"whether names may be added at signing"`
	Patterns   []string `toml:"patterns,omitempty" json:"patterns,omitempty" doc:"names must match one of these, an address of kind uri by its host; * stands for anything"`
	Networks   []string `toml:"networks,omitempty" json:"networks,omitempty" doc:"addresses must lie in one of these"`
	CommonName bool     `toml:"common-name-too" json:"common_name_too" doc:"whether a common name that is a host or an address becomes an alternative name"`
}

// Publish lists addresses that certificates name (RFC 5280 sections 4.2.1.13 and
// 4.2.2.1).
type Publish struct {
	Lists   []string `toml:"revocation-lists,omitempty" json:"revocation_lists,omitempty" doc:"where the issuer's revocation list is"`
	Issuers []string `toml:"issuer-certificates,omitempty" json:"issuer_certificates,omitempty" doc:"where the issuer's certificate is"`
	OCSP    []string `toml:"ocsp,omitempty" json:"ocsp,omitempty" doc:"where the issuer's OCSP responder is"`
}

// Weighing changes the weight of findings. What is refused stays refused.
type Weighing struct {
	NeedsWaiver []string `toml:"needs-waiver,omitempty" was:"6c45cb72a36e63d5 e8b22d83b417e85b" json:"needs_waiver,omitempty" doc:"codes of findings that need a waiver"`
	Allow       []string `toml:"allow,omitempty" json:"allow,omitempty" doc:"codes that only warn"`
}

// Weigh applies the template's weighing to findings.
func (t *Template) Weigh(l finding.List) finding.List {
	out := slices.Clone(l)
	for i, f := range out {
		switch {
		case f.Severity == finding.Refused:
		case slices.Contains(t.Findings.NeedsWaiver, string(f.Code)):
			out[i].Severity = finding.Waivable
		case f.Severity == finding.Waivable && slices.Contains(t.Findings.Allow, string(f.Code)):
			out[i].Severity = finding.Warn
		}
	}
	return out
}

// Limits are for templates that make an authority.
type Limits struct {
	PathLength *int `toml:"levels-below" json:"levels_below,omitempty" was:"2cf55a124811c915" doc:"levels of authorities allowed below; none when left out"`
}

// Most is how many bytes a template file may have.
const Most = 1 << 20

// Parse reads a template. The name is used for the template and, as it was
// given, in errors. base reads the file of the template that this one is based
// on; it may be nil where that is not allowed.
func Parse(name string, data []byte, base func(name string) ([]byte, error)) (Template, error) {
	t := Template{Name: name, source: bytes.Clone(data)}
	if len(data) > Most {
		return t, fmt.Errorf("template %s: the file is larger than %d bytes", name, Most)
	}
	var own struct {
		BasedOn string `toml:"based-on"`
	}
	if toml.Unmarshal(data, &own) == nil && own.BasedOn != "" {
		if err := t.inherit(own.BasedOn, base); err != nil {
			return t, fmt.Errorf("templates/%s.toml: %w", name, err)
		}
	}
	if err := strict.Read(data, &t); err != nil {
		return t, fmt.Errorf("templates/%s.toml:%w", name, err)
	}
	if t.Longest.IsZero() {
		t.Longest = t.Lifetime
	}
	if err := t.check(); err != nil {
		return t, fmt.Errorf("templates/%s.toml: %w", name, err)
	}
	if t.BasedOn != "" {
		whole, err := toml.Marshal(t) // so that the record of this state is complete in itself
		if err != nil {
			return t, fmt.Errorf("templates/%s.toml: %w", name, err)
		}
		t.source = whole
	}
	t.sum = sha256.Sum256(t.source)
	strict.Fill(&t)
	return t, nil
}

// inherit fills the template with what the one it is based on says.
func (t *Template) inherit(from string, base func(string) ([]byte, error)) error {
	if from == t.Name {
		return fmt.Errorf("based-on = %q: a template cannot be based on itself", from)
	}
	if base == nil {
		return fmt.Errorf("based-on = %q: other templates cannot be read here", from)
	}
	data, err := base(from)
	if err != nil {
		return fmt.Errorf("based-on = %q: %w", from, err)
	}
	if err := strict.Read(data, t); err != nil {
		return fmt.Errorf("based-on = %q: templates/%s.toml:%w", from, from, err)
	}
	if t.BasedOn != "" {
		return fmt.Errorf("based-on = %q: that template is itself based on %s; inheritance is one step: base this "+
			"one on %s as well", from, t.BasedOn, t.BasedOn)
	}
	t.Longest = span.Span{} // unless it is said again, the limit follows the lifetime
	return nil
}

func (t *Template) check() error {
	switch {
	case t.Title == "":
		return errors.New("title is missing: say in a few words what the template is")
	case !slices.Contains([]string{Root, Authority, EndEntity}, t.Makes):
		return fmt.Errorf("makes = %q: write \"root\", \"authority\" or \"end-entity\"", t.Makes)
	case t.Lifetime.IsZero():
		return errors.New("lifetime is missing: write for example lifetime = \"397d\"")
	case len(t.Keys) == 0:
		return errors.New("keys is missing: write for example keys = [\"rsa-2048+\", \"ecdsa-p256\"]")
	case t.NoRevocation && (t.Makes != EndEntity || len(t.Publish.Lists)+len(t.Publish.OCSP) > 0):
		return errors.New("no-revocation: it is for end entities, and does not go with addresses of lists or of OCSP " +
			"(RFC 9608 section 4)")
	case t.Names.Least < 0 || t.Names.Most < 0 || t.Names.Most > san.Most || t.Names.Least > t.Names.Most:
		return fmt.Errorf("names: least = %d and most = %d do not fit: 0 ≤ least ≤ most ≤ %d", t.Names.Least,
			t.Names.Most, san.Most)
	case t.Limits.PathLength != nil && (*t.Limits.PathLength < 0 || *t.Limits.PathLength > 100):
		return errors.New("authority.levels-below must be between 0 and 100")
	}
	if _, err := ext.ParseKeyUsage(t.Usage); err != nil {
		return fmt.Errorf("key-usage: %w", err)
	}
	for _, u := range t.Extended {
		if _, err := ext.ParseExtendedUsage(u); err != nil {
			return fmt.Errorf("extended-key-usage: %w", err)
		}
	}
	if err := CheckKeys(t.Keys); err != nil {
		return err
	}
	if err := t.Unattended.check(t); err != nil {
		return err
	}
	return t.checkFields()
}

func (t *Template) checkFields() error {
	for _, k := range t.Names.Kinds {
		if !slices.Contains([]san.Kind{san.DNS, san.IP, san.Email, san.URI, san.UPN}, san.Kind(k)) {
			return fmt.Errorf("names.kinds: %q is not a kind of name: use dns, ip, email, uri, upn", k)
		}
	}
	fields := slices.Concat(t.Subject.Take, t.Subject.Need)
	for _, n := range t.Names.Networks {
		if _, err := netip.ParsePrefix(n); err != nil {
			return fmt.Errorf("names.networks: %q is not a network: write for example 192.0.2.0/24", n)
		}
	}
	for _, p := range t.Policies {
		if _, ok := dn.ParseOID(p); !ok {
			return fmt.Errorf("policies: %q is not a dotted identifier", p)
		}
	}
	for _, u := range slices.Concat(t.Publish.Lists, t.Publish.Issuers, t.Publish.OCSP) {
		if !strings.Contains(u, "://") || strings.ContainsAny(u, " \t\n") {
			return fmt.Errorf("publish: %q is not an address such as http://pki.ternbay.example/services.crl", u)
		}
	}
	for _, c := range slices.Concat(t.Findings.NeedsWaiver, t.Findings.Allow) {
		if _, ok := finding.Lookup(finding.Code(c)); !ok {
			return fmt.Errorf("findings: there is no finding of the code %q", c)
		}
	}
	for f, v := range t.Subject.Fixed {
		if _, err := dn.New(dn.Pair{Type: f, Value: v}); err != nil {
			return fmt.Errorf("subject.fixed: %w", err)
		}
	}
	for _, f := range fields {
		if !dn.KnownType(f) {
			return fmt.Errorf("subject: %q is not a subject field: use CN, O, OU, L, ST, C, serialNumber or similar",
				f)
		}
	}
	return nil
}

// keyRule reads one entry of keys: a kind, or "rsa-N+" for a least size.
func keyRule(s string) (family string, least int, err error) {
	if size, ok := strings.CutPrefix(s, "rsa-"); ok {
		size, _ = strings.CutSuffix(size, "+")
		n, err := strconv.Atoi(size)
		if err != nil || n < 2048 || n > 16384 {
			return "", 0, fmt.Errorf("%q: an RSA size is between 2048 and 16384", s)
		}
		return "rsa", n, nil
	}
	k, err := key.ParseKind(s)
	return string(k), 0, err
}

// TakesKey reports whether the template takes a key of this kind and size.
func (t *Template) TakesKey(kind key.Kind, bits int) bool { return KeyFits(t.Keys, kind, bits) }

// CheckKeys checks a list of key kinds as template and receiver files write it.
func CheckKeys(rules []string) error {
	for _, r := range rules {
		if _, _, err := keyRule(r); err != nil {
			return fmt.Errorf("keys: %w", err)
		}
	}
	return nil
}

// KeyFits reports whether a list of key kinds, such as "rsa-2048+" and
// "ecdsa-p256", takes a key of this kind and size.
func KeyFits(rules []string, kind key.Kind, bits int) bool {
	for _, rule := range rules {
		family, least, err := keyRule(rule)
		if err != nil {
			continue
		}
		if family == "rsa" && kind.Family() == "rsa" &&
			(bits == least || strings.HasSuffix(rule, "+") && bits > least) || family == string(kind) {
			return true
		}
	}
	return false
}

// KeyUsage returns the usages for a key of this kind: encipherment makes sense
// with RSA only (RFC 8813 section 3).
func (t *Template) KeyUsage(kind key.Kind) ext.KeyUsage {
	u, _ := ext.ParseKeyUsage(t.Usage)
	if kind.Family() != "rsa" {
		u &^= ext.KeyEncipherment | ext.DataEncipherment
	}
	return u
}

// ExtendedUsage returns the extended usages.
func (t *Template) ExtendedUsage() []asn1.ObjectIdentifier {
	var out []asn1.ObjectIdentifier
	for _, u := range t.Extended {
		if id, err := ext.ParseExtendedUsage(u); err == nil {
			out = append(out, id)
		}
	}
	return out
}

// SignedBy reports whether an authority signs by the template.
func (t *Template) SignedBy(handle string, root bool) bool {
	for _, i := range t.Issuers {
		if i == handle || i == Any || i == AnyRoot && root || i == AnyIntermediate && !root {
			return true
		}
	}
	return false
}

// TakesName reports whether the template takes names of this kind.
func (t *Template) TakesName(k san.Kind) bool { return slices.Contains(t.Names.Kinds, string(k)) }

// NameFits reports whether a name is within the template's patterns and networks.
// A name that no client can match fits nowhere; of an address of the kind URI it is
// the host that counts.
func (t *Template) NameFits(n san.Name) bool {
	if n.Kind() == san.IP {
		a, err := netip.ParseAddr(n.Fresh().Value())
		return len(t.Names.Networks) == 0 || err == nil && slices.ContainsFunc(t.Names.Networks, func(p string) bool {
			net, err := netip.ParsePrefix(p)
			return err == nil && net.Contains(a)
		})
	}
	if len(t.Names.Patterns) == 0 {
		return true
	}
	text := strings.ToLower(n.Fresh().Value())
	if n.Kind() == san.URI {
		text = n.Host()
	}
	return n.Unjudged() == "" && slices.ContainsFunc(t.Names.Patterns,
		func(p string) bool { return fitsPattern(strings.ToLower(p), text) })
}

// fitsPattern matches text against a pattern in which * means anything. It
// goes back to the last star only, which is enough, so that its work is the product
// of the two lengths at most.
func fitsPattern(pattern, text string) bool {
	p, t, star, mark := 0, 0, -1, 0
	for t < len(text) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, mark = p, t
			p++
		case p < len(pattern) && pattern[p] == text[t]:
			p++
			t++
		case star >= 0:
			mark++
			p, t = star+1, mark
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "*") == ""
}

// TakesField reports whether a subject field is taken over from requests.
func (t *Template) TakesField(short string) bool {
	return slices.ContainsFunc(t.Subject.Take, func(f string) bool { return strings.EqualFold(f, short) })
}

// IsAuthority reports whether the template makes an authority.
func (t *Template) IsAuthority() bool { return t.Makes != EndEntity }

// Source is the file as it was read; its hash names this state of the template.
func (t *Template) Source() []byte { return t.source }

// SHA256 names this state of the template.
func (t *Template) SHA256() [32]byte { return t.sum }

// Contradictions says where the template contradicts itself.
func (t *Template) Contradictions() finding.List {
	var out finding.List
	usage, _ := ext.ParseKeyUsage(t.Usage)
	add := func(format string, args ...any) {
		out = append(out, finding.New(finding.TemplateAtOdds, format, args...))
	}
	takesRSA := slices.ContainsFunc(t.Keys, func(k string) bool { return strings.HasPrefix(k, "rsa-") })
	server := slices.ContainsFunc(t.Extended, func(u string) bool { return strings.EqualFold(u, "serverAuth") })
	switch {
	case t.IsAuthority() && usage&ext.KeyCertSign == 0:
		add("%s makes an authority and its key-usage lacks keyCertSign.", t.Name)
	case !t.IsAuthority() && usage&ext.KeyCertSign != 0:
		add("%s makes no authority and its key-usage has keyCertSign.", t.Name)
	case server && usage&ext.DigitalSignature == 0:
		add("%s has serverAuth without digitalSignature: today's key exchanges cannot use it.", t.Name)
	case usage&ext.KeyEncipherment != 0 && !takesRSA:
		add("%s has keyEncipherment and takes no RSA keys: it will be left out.", t.Name)
	}
	if server && t.Names.Least < 1 {
		add("%s has serverAuth and asks for no alternative name (names.least).", t.Name)
	}
	if t.Makes == Authority && t.Limits.PathLength == nil {
		add("%s makes authorities without limit: give authority.levels-below.", t.Name)
	}
	if t.Unattended.Older {
		out = append(out, finding.New(finding.OlderMessages, "%s takes messages with triple DES and SHA-1.", t.Name))
	}
	if len(t.Issuers) == 0 {
		add("No authority may sign by %s: its issuers list is empty.", t.Name)
	}
	return out
}
