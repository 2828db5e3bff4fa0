// Package describe says in trade words what an object is.
//
// A description is an ordered list of facts. Each fact has a key, which is its
// name in JSON and never changes, a label for people, and its values. What
// people look for first stands first: whom it is for, whether it is an
// authority, its names, its usages, its issuer, from when until when, and the
// codes by which two people compare it. The rest is marked as detail.
//
// Descriptions hold outside text as it came. Whoever shows them escapes it.
package describe

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/pbes"
	"ironseal/pki/request"
	"ironseal/pki/revocation"
	"ironseal/pki/san"
	"ironseal/pki/span"
)

// Fact is one thing that is known about an object.
type Fact struct {
	Key    string   // the JSON field and the name of the single field
	Label  string   // for people
	Values []string // bare values, one or several
	Shown  []string // for people, where it differs from Values
	Detail bool     // shown only when all is asked for
	Parts  []any    // in JSON, in place of the values, where each has parts
}

// Object is the description of one object.
type Object struct {
	Kind     string
	Title    string
	Facts    []Fact
	Findings finding.List
}

func (o *Object) add(key, label string, values ...string) *Fact {
	o.Facts = append(o.Facts, Fact{Key: key, Label: label, Values: values})
	return &o.Facts[len(o.Facts)-1]
}

func (o *Object) detail(key, label string, values ...string) *Fact {
	f := o.add(key, label, values...)
	f.Detail = true
	return f
}

// Add appends a fact that the caller knows from outside: a record, a file.
func (o *Object) Add(key, label string, values ...string) *Fact { return o.add(key, label, values...) }

// Lead puts a fact that the caller knows before all others.
func (o *Object) Lead(key, label string, values ...string) *Fact {
	o.Facts = append([]Fact{{Key: key, Label: label, Values: values}}, o.Facts...)
	return &o.Facts[0]
}

// Field returns the bare values of one fact.
func (o Object) Field(key string) ([]string, bool) {
	for _, f := range o.Facts {
		if f.Key == key {
			return f.Values, true
		}
	}
	return nil, false
}

// Keys lists the names of the facts.
func (o Object) Keys() []string {
	out := make([]string, len(o.Facts))
	for i, f := range o.Facts {
		out[i] = f.Key
	}
	return out
}

// MarshalJSON writes the facts as one object, in order.
func (o Object) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	write := func(name string, v any) error {
		if b.Len() > 1 {
			b.WriteByte(',')
		}
		k, err := json.Marshal(name)
		if err != nil {
			return err
		}
		data, err := json.Marshal(v)
		if err != nil {
			return err
		}
		b.Write(k)
		b.WriteByte(':')
		b.Write(data)
		return nil
	}
	if err := write("kind", o.Kind); err != nil {
		return nil, err
	}
	for _, f := range o.Facts {
		if err := write(f.Key, f.typed()); err != nil {
			return nil, err
		}
	}
	list := o.Findings
	if list == nil {
		list = finding.List{}
	}
	if err := write("findings", list); err != nil {
		return nil, err
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// Lists, Numbers and Flags are the facts that are no plain text in JSON; Lists always
// are lists, however many values there are.
var (
	Lists = []string{"names", "usages", "asks", "extensions", "constraints", "chain", "held_by", "generations", "links",
		"contains", "serials", "names_beside"}
	Numbers = []string{"days_left", "generation", "count"}
	Flags   = []string{"ca", "proven", "rehearsal"}
)

// typed is the value of a fact as JSON has it.
func (f Fact) typed() any {
	switch {
	case f.Parts != nil:
		return f.Parts
	case slices.Contains(Lists, f.Key):
		return append([]string{}, f.Values...)
	case slices.Contains(Numbers, f.Key) && len(f.Values) == 1:
		return json.RawMessage(f.Values[0])
	case slices.Contains(Flags, f.Key):
		return len(f.Values) == 1 && f.Values[0] == "yes"
	}
	return strings.Join(f.Values, " ")
}

// Grouped writes bytes as hex in groups of four, for eyes.
func Grouped(b []byte) string {
	s := fmt.Sprintf("%x", b)
	var out []string
	for len(s) > 4 {
		out = append(out, s[:4])
		s = s[4:]
	}
	return strings.Join(append(out, s), " ")
}

// Moment writes a time with its distance from now.
func Moment(now, t time.Time) string {
	return t.UTC().Format("2006-01-02 15:04:05 UTC") + ", " + span.Distance(now, t)
}

func texts(names []san.Name) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = n.String()
	}
	return out
}

func (o *Object) names(list []san.Name) {
	f := o.add("names", "Names", texts(list)...)
	if len(list) == 0 {
		f.Shown = []string{"none"}
		return
	}
	for _, n := range list {
		s := n.String()
		if r := n.Readable(); r != "" {
			s += " (" + r + ")"
		}
		f.Shown = append(f.Shown, s)
	}
}

// codes adds the codes by which two people compare an object.
func (o *Object) codes(der []byte) {
	o.add("check_code", "Check code", label.CheckCode(der))
	tail := label.PasteTail(der)
	bare, _, _ := strings.Cut(tail, " ")
	o.add("paste_tail", "Paste tail", bare).Shown = []string{tail}
}

// Certificate describes a certificate as of now.
func Certificate(c *cert.Certificate, now time.Time) Object {
	o := Object{Kind: "certificate", Title: c.Title()}
	o.add("subject", "For", c.Subject.String())
	is := "no"
	if c.IsAuthority() {
		is = "yes"
	}
	f := o.add("ca", "CA", is)
	f.Shown = []string{c.Basic.Words()}
	o.names(c.Names)
	usages := append(c.Usage.Names(), ext.UsageNames(c.Extended)...)
	f = o.add("usages", "Usages", usages...)
	f.Shown = []string{strings.Join(usages, ", ")}
	if len(usages) == 0 {
		f.Shown = []string{"any (none are named)"}
	}
	if !c.Constraints.IsEmpty() {
		o.add("constraints", "May certify", c.Constraints.Words())
	}
	issuer := c.Issuer.String()
	f = o.add("issuer", "Issuer", issuer)
	switch {
	case c.IsLink():
		f.Shown = []string{issuer + " (by another key: a link certificate)"}
	case c.SelfIssued():
		f.Shown = []string{issuer + " (itself)"}
	}
	if c.Rehearsed() {
		o.add("rehearsal", "Rehearsal", "yes").Shown = []string{"made in a rehearsal: real estates refuse it"}
	}
	f = o.add("not_before", "From", c.NotBefore.UTC().Format(time.RFC3339))
	f.Shown = []string{Moment(now, c.NotBefore)}
	f = o.add("not_after", "Until", c.NotAfter.UTC().Format(time.RFC3339))
	f.Shown = []string{Moment(now, c.NotAfter)}
	o.codes(c.Raw)
	f = o.add("key", "Key", string(c.Key.Kind))
	f.Shown = []string{c.Key.Words()}
	o.add("serial", "Serial", c.SerialHex())
	sum, old := c.SHA256(), c.SHA1()
	f = o.add("sha256", "SHA-256", fmt.Sprintf("%x", sum))
	f.Shown = []string{label.Colons(sum[:])}
	f = o.detail("sha1", "SHA-1", fmt.Sprintf("%x", old))
	f.Shown = []string{label.Colons(old[:]), "(for looking up only)"}
	o.detail("signature", "Signed with", c.Algorithm.Name)
	o.keyFacts(c.Key)
	o.hex("subject_key", "Key identifier", c.SubjectKey)
	o.hex("authority_key", "Issuer's key", c.AuthorityKey)
	o.extensions(c.Extensions)
	for _, fault := range c.Faults {
		o.Findings = append(o.Findings, finding.New(finding.Malformed, "It breaks the rules: %s.", fault))
	}
	return o
}

func (o *Object) hex(key, label string, b []byte) *Fact {
	f := o.detail(key, label, fmt.Sprintf("%x", b))
	f.Shown = []string{Grouped(b)}
	return f
}

func (o *Object) keyFacts(k key.Public) {
	sum := k.Fingerprint()
	o.hex("key_sha256", "Key SHA-256", sum[:])
	if k.Fault != "" {
		o.detail("key_fault", "Key fault", k.Fault)
	}
}

// Extension is an extension as JSON has it.
type Extension struct {
	Name     string `json:"name"`
	OID      string `json:"oid"`
	Critical bool   `json:"critical"`
	Words    string `json:"words"`
}

func (o *Object) extensions(set ext.Set) {
	f := o.detail("extensions", "Extensions")
	f.Parts = []any{}
	for _, e := range set {
		line := ext.NameOf(e.ID)
		if e.Critical {
			line += " (critical)"
		}
		f.Values = append(f.Values, line+": "+e.Words())
		f.Parts = append(f.Parts, Extension{ext.NameOf(e.ID), e.ID.String(), e.Critical, e.Words()})
	}
	if len(set) == 0 {
		f.Shown = []string{"none"}
	}
}

// Request describes a request.
func Request(r *request.Request) Object {
	o := Object{Kind: "request", Title: r.Title()}
	subject := r.Subject.String()
	f := o.add("subject", "For", subject)
	if subject == "" {
		f.Shown = []string{"(an empty subject)"}
	}
	o.names(r.Names)
	usage, extended := r.Usage()
	asks := append(usage.Names(), ext.UsageNames(extended)...)
	if r.AsksAuthority() {
		asks = append([]string{"ca"}, asks...)
	}
	f = o.add("asks", "Asks for", asks...)
	f.Shown = []string{strings.Join(asks, ", ")}
	if len(asks) == 0 {
		f.Shown = []string{"no usages: the template decides"}
	}
	f = o.add("key", "Key", string(r.Key.Kind))
	proof, proven := "possession proven", "yes"
	if err := r.Proven(); err != nil {
		proof, proven = "possession NOT proven", "no"
	}
	f.Shown = []string{r.Key.Words() + ", " + proof}
	o.codes(r.Raw)
	o.detail("proven", "Possession", proven)
	o.detail("signature", "Signed with", r.Algorithm.Name)
	sum := r.SHA256()
	o.hex("sha256", "SHA-256", sum[:])
	o.keyFacts(r.Key)
	o.extensions(r.Extensions)
	o.Findings = r.Examine()
	return o
}

// PublicKey describes a public key.
func PublicKey(k key.Public) Object {
	o := Object{Kind: "public key", Title: k.Words()}
	o.add("key", "Key", k.Words())
	o.codes(k.SPKI)
	o.hex("key_identifier", "Identifier", k.Identifier())
	f := o.hex("older_identifier", "Older one", k.OlderIdentifier())
	f.Shown = append([]string{}, Grouped(k.OlderIdentifier()), "(SHA-1, for looking up only)")
	o.keyFacts(k)
	o.Findings = k.Weakness()
	return o
}

// EncryptedKey describes an encrypted key by its header alone.
func EncryptedKey(h pbes.Header) Object {
	o := Object{Kind: "encrypted private key"}
	o.add("cipher", "Encrypted by", h.Cipher)
	o.add("derivation", "Passphrase by", h.Derivation)
	return o
}

// Any reads an object found by bundle.Read and describes it. What cannot be
// told is reported as such; an error means that the object cannot be parsed.
func Any(obj bundle.Object, now time.Time) (Object, error) {
	switch obj.Kind {
	case bundle.Certificate:
		c, err := cert.Read(obj.DER)
		if err != nil {
			return Object{}, err
		}
		return Certificate(c, now), nil
	case bundle.Request:
		r, err := request.Read(obj.DER)
		if err != nil {
			return Object{}, err
		}
		return Request(r), nil
	case bundle.List:
		l, err := revocation.ReadList(obj.DER)
		if err != nil {
			return Object{}, err
		}
		return List(l, now), nil
	case bundle.PublicKey:
		k, err := key.Read(obj.DER)
		return PublicKey(k), err
	case bundle.EncryptedKey:
		h, err := pbes.ReadHeader(obj.DER)
		return EncryptedKey(h), err
	case bundle.PrivateKey:
		return openKey(obj.DER)
	}
	o := Object{Kind: string(obj.Kind)}
	o.add("size", "Size", fmt.Sprintf("%d bytes", len(obj.DER)))
	o.codes(obj.DER)
	return o, nil
}

// PublicOf reads the public side of a private key that lies open.
func PublicOf(der []byte) (key.Public, error) {
	signer, err := key.ReadPrivate(der)
	if err != nil {
		return key.Public{}, err
	}
	return key.Of(signer)
}

// openKey describes a private key that lies open, by its public side only.
func openKey(der []byte) (Object, error) {
	pub, err := PublicOf(der)
	if err != nil {
		return Object{}, err
	}
	o := Object{Kind: "private key", Title: "in the clear"}
	f := o.add("key", "Key", string(pub.Kind))
	f.Shown = []string{pub.Words() + ", NOT encrypted: whoever reads the file has the key"}
	sum := pub.Fingerprint()
	o.hex("key_sha256", "Key SHA-256", sum[:])
	o.Facts[len(o.Facts)-1].Detail = false
	return o, nil
}
