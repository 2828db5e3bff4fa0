// Package receiver knows what consumers of certificates want: what they demand of a
// certificate, which files they take, and what the person there has to do. Receivers
// are data, so that anybody can add one.
package receiver

import (
	"bytes"
	"embed"
	"encoding/asn1"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/handover"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/san"
	"ironseal/pki/strict"
	"ironseal/pki/template"
)

//go:embed starter/*.toml
var starters embed.FS

var embedded = strict.Embedded{Files: starters, Dir: "starter"}

// Receiver is a kind of consumer, as data: what it demands of a certificate, the
// files it takes, and what the person there has to do.
type Receiver struct {
	Name    string     `toml:"-" json:"name"`
	Title   string     `toml:"title" json:"title" doc:"what the receiver is, in a few words"`
	Purpose string     `toml:"purpose" json:"purpose" doc:"who it is for"`
	Demands Demands    `toml:"demands" json:"demands" doc:"what it needs in a certificate; checked before the signature and before the handover"`
	Files   []FileRule `toml:"file" json:"files" doc:"a file that it takes"`
	Page    Page       `toml:"page" json:"page" doc:"what the person there has to do; {host} stands for the host, {file1} for the first file; [[text]] stands only where the key is handed over"`
}

// Demands are what the receiver needs in a certificate.
type Demands struct {
	Usages []string `toml:"usages" json:"usages" doc:"extended key usages, all of them"`
	Keys   []string `toml:"keys" json:"keys" doc:"key kinds it takes, as in templates"`
	// kinds of the keys whose signatures it can check
	IssuerKeys []string `toml:"issuer-keys" json:"issuer_keys" doc:"kinds of the keys whose signatures it can check"`
	// kinds of alternative name of which there must be one
	Names        []string `toml:"names" json:"names" doc:"kinds of alternative name of which there must be one"`
	FriendlyName string   `toml:"friendly-name" json:"friendly_name" doc:"in PKCS#12; {host} stands for the host"`
	// it takes the private key too, which must therefore be ours to give
	Exportable bool `toml:"takes-the-key" was:"d52de3222628bf2c" json:"takes_the_key" doc:"it takes the private key too, which must therefore be ours to give"`
	// the receiver for a key that stayed where the request was made
	KeyElsewhere string `toml:"key-elsewhere" json:"key_elsewhere,omitempty" doc:"the receiver to use where the key stayed with whoever made the request"`
}

// FileRule is one file that the receiver takes.
type FileRule struct {
	Name   string          `toml:"name" json:"name" doc:"{host} stands for the host"`
	Parts  []string        `toml:"parts" json:"parts" doc:"key, leaf, intermediates, root, in the order in which they stand"`
	Format handover.Format `toml:"format" json:"format" doc:"pem, der, key, p7b, p7b-pem, p12, p12-pbmac1, p12-older"`
	For    string          `toml:"for" json:"for" doc:"what it is, for the page"`
}

// Page is what the person there has to do. In all texts {host} means the
// host, {file1} for the name of the first file, and so on.
type Page struct {
	First string   `toml:"first" json:"first,omitempty" doc:"before anything else"`
	Steps []string `toml:"steps" json:"steps" doc:"in order"`
	// what is written into its settings; {dir} is where the files lie
	Config string `toml:"config" json:"config,omitempty" doc:"what is written into its settings; {dir} is where the files lie"`
	Worked string `toml:"worked" json:"worked,omitempty" doc:"what it looks like when it worked"`
	Away   string `toml:"away" json:"away,omitempty" doc:"how long it is down"`
	Back   string `toml:"back" json:"back,omitempty" doc:"the way back when it did not work"`
	SHA1   bool   `toml:"sha1" json:"sha1,omitempty" doc:"whether the page shows SHA-1 fingerprints, as older consoles do"`
}

// StarterNames lists the receivers that a new estate begins with.
func StarterNames() []string { return embedded.Names() }

// Starter returns the file of a starter receiver, or "".
func Starter(name string) string { return embedded.Text(name) }

// Parse reads a receiver file. Reading is strict.
func Parse(name string, data []byte) (Receiver, error) {
	r := Receiver{Name: name}
	if len(data) > template.Most {
		return r, fmt.Errorf("receiver %s: the file is larger than %d bytes", name, template.Most)
	}
	if err := strict.Read(data, &r); err != nil {
		return r, fmt.Errorf("receivers/%s.toml:%w", name, err)
	}
	if err := r.check(); err != nil {
		return r, fmt.Errorf("receivers/%s.toml: %w", name, err)
	}
	strict.Fill(&r)
	return r, nil
}

func (r Receiver) check() error {
	if r.Title == "" {
		return errors.New("title is missing: say what the receiver is")
	}
	if len(r.Files) == 0 {
		return errors.New("it takes no files: add a [[file]]")
	}
	for _, u := range r.Demands.Usages {
		if _, err := ext.ParseExtendedUsage(u); err != nil {
			return fmt.Errorf("demands.usages: %w", err)
		}
	}
	if err := template.CheckKeys(slices.Concat(r.Demands.Keys, r.Demands.IssuerKeys)); err != nil {
		return fmt.Errorf("demands: %w", err)
	}
	for i, f := range r.Files {
		if !slices.Contains(handover.Formats(), f.Format) {
			return fmt.Errorf("file %d: format = %q: use one of %v", i+1, f.Format, handover.Formats())
		}
		if f.Name == "" || path.Base(f.Name) != f.Name || strings.ContainsAny(f.Name, `\:`) {
			return fmt.Errorf("file %d: name = %q: a file name, without directories", i+1, f.Name)
		}
		if len(f.Parts) == 0 {
			return fmt.Errorf("file %d: it holds no parts", i+1)
		}
		for _, p := range f.Parts {
			if !slices.Contains([]string{handover.PartKey, handover.PartLeaf, handover.PartIntermediates,
				handover.PartRoot}, p) {
				return fmt.Errorf("file %d: parts: %q: use key, leaf, intermediates, root", i+1, p)
			}
		}
		if slices.Contains(f.Parts, handover.PartKey) && !f.Format.HoldsKey() && f.Format != handover.PEM {
			return fmt.Errorf("file %d: the format %s cannot hold a key", i+1, f.Format)
		}
	}
	return nil
}

// NeedsPassword reports whether one of the files is encrypted under a password.
func (r Receiver) NeedsPassword() bool {
	return slices.ContainsFunc(r.Files, func(f FileRule) bool {
		return f.Format.NeedsPassword() && (slices.Contains(f.Parts, handover.PartKey) || !f.Format.IsStore())
	})
}

// Offer is what a certificate has, as far as receivers demand anything of it.
type Offer struct {
	Extended []asn1.ObjectIdentifier
	Names    []san.Name
	Key      key.Kind
	Bits     int
	Issuers  []*cert.Certificate // the line above
	KeyHere  bool                // the private key can be handed over
}

// Unmet says which demands an offer does not meet.
func (r Receiver) Unmet(o Offer) finding.List {
	var out finding.List
	add := func(format string, args ...any) {
		out = append(out, finding.New(finding.ReceiverDemand, format, args...))
	}
	have := ext.UsageNames(o.Extended)
	for _, u := range r.Demands.Usages {
		if !slices.ContainsFunc(have, func(h string) bool { return strings.EqualFold(h, u) }) {
			add("%s needs the usage %s; there will be %s.", r.Title, u, orNone(have))
		}
	}
	if len(r.Demands.Keys) > 0 && !template.KeyFits(r.Demands.Keys, o.Key, o.Bits) {
		add("%s does not take a key of kind %s: it takes %s.", r.Title, o.Key, strings.Join(r.Demands.Keys, ", "))
	}
	if len(r.Demands.IssuerKeys) > 0 {
		for _, c := range o.Issuers {
			if !template.KeyFits(r.Demands.IssuerKeys, c.Key.Kind, c.Key.Bits) {
				add("%s cannot check signatures of %s, whose key is of kind %s.", r.Title, c.Title(), c.Key.Kind)
			}
		}
	}
	if len(r.Demands.Names) > 0 && !slices.ContainsFunc(o.Names,
		func(n san.Name) bool { return slices.Contains(r.Demands.Names, string(n.Kind())) }) {
		add("%s needs an alternative name of kind %s.", r.Title, strings.Join(r.Demands.Names, " or "))
	}
	if r.Demands.Exportable && !o.KeyHere {
		out = append(out, r.withoutKey())
	}
	return out
}

// withoutKey says what to do where the key stayed with whoever made the request: it never has to leave.
func (r Receiver) withoutKey() finding.Finding {
	f := finding.New(finding.ReceiverDemand,
		"%s takes the private key with the certificate, and this key stayed where the request was made.", r.Title)
	if r.Demands.KeyElsewhere != "" {
		return f.WithNext(advice.To("use the receiver for a key that stays there", advice.ForReceiver, "receiver",
			r.Demands.KeyElsewhere))
	}
	return f.WithNext(advice.To("have the request drafted here", advice.DraftRequest, "name", "NAME"))
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}

// Packed is one file of a handover.
type Packed struct {
	Name   string
	Data   []byte
	Secret bool // it holds a private key
	Rule   FileRule
}

// Pack makes the files for a receiver. Where the private key stayed on the
// device, files that hold nothing else are left out, and PEM files are written
// without it; notes say so. host must be safe as a file name.
func (r Receiver) Pack(g handover.Bundle, host string, w handover.Writing) (files []Packed, notes []string, err error) {
	friendly := r.Demands.FriendlyName
	if friendly == "" {
		friendly = "{host}"
	}
	w.FriendlyName = strings.ReplaceAll(friendly, "{host}", host)
	for _, rule := range r.Files {
		one := w
		one.Parts, one.Format = rule.Parts, rule.Format
		name := strings.ReplaceAll(rule.Name, "{host}", host)
		wantsKey := slices.Contains(rule.Parts, handover.PartKey)
		if wantsKey && g.Key == nil && !rule.Format.NeedsPassword() {
			if one.Parts = Without(rule.Parts, handover.PartKey); len(one.Parts) == 0 {
				notes = append(notes, fmt.Sprintf("%s is not here: the private key stayed where the request was made",
					name))
				continue
			}
			notes = append(notes, fmt.Sprintf("%s lacks the private key, which stayed where the request was made: "+
				"add it there", name))
			wantsKey = false
		}
		if len(g.Intermediates) == 0 && len(one.Parts) == 1 && one.Parts[0] == handover.PartIntermediates {
			notes = append(notes, fmt.Sprintf("%s is not here: nothing stands between the certificate and the root",
				name))
			continue
		}
		if !wantsKey && rule.Format.IsStore() {
			one.Password = nil // what holds no key goes to many, and must not carry the password of the one that does
		}
		data, err := handover.Encode(g, one)
		if err != nil {
			return nil, nil, fmt.Errorf("%s for %s: %w", name, r.Title, err)
		}
		files = append(files, Packed{name, data, wantsKey, rule})
	}
	return files, notes, nil
}

// Without is a list less what is dropped from it.
func Without(list []string, drop ...string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return slices.Contains(drop, s) })
}

// named is a text of the page with the names of the host and of the files, and with the parts about the key or
// without them.
func (r Receiver) named(text, host string, key bool) string {
	text = withKey(text, key)
	for i, f := range r.Files {
		text = strings.ReplaceAll(text, fmt.Sprintf("{file%d}", i+1), f.Name)
	}
	return strings.ReplaceAll(text, "{host}", host)
}

// ReadMe writes the page for the person at the receiver.
func (r Receiver) ReadMe(g handover.Bundle, host string, files []Packed, notes []string) []byte {
	var b bytes.Buffer
	fill := func(text string) string { return r.named(text, host, g.Key != nil) }
	fmt.Fprintf(&b, "%s: the certificate for %s\n\n", r.Title, host)
	fmt.Fprintf(&b, "Valid from  %s\nuntil       %s\n", cert.Stamp(g.Leaf.NotBefore), cert.Stamp(g.Leaf.NotAfter))
	sum := g.Leaf.SHA256()
	fmt.Fprintf(&b, "Check code  %s\nSHA-256     %s\n", label.CheckCode(g.Leaf.Raw), label.Colons(sum[:]))
	if r.Page.SHA1 {
		fmt.Fprintf(&b, "SHA-1       %x (for looking up only)\n", g.Leaf.SHA1())
	}
	if g.Root != nil {
		rootSum := g.Root.SHA256()
		fmt.Fprintf(&b, "Root        check code %s, SHA-256\n            %s\n", label.CheckCode(g.Root.Raw),
			label.Colons(rootSum[:]))
	}
	b.WriteString("\nWhat is here\n")
	for _, f := range files {
		if what := fill(f.Rule.For); len(f.Name) > 43 {
			fmt.Fprintf(&b, "  %s\n      %s\n", f.Name, what)
		} else {
			fmt.Fprintf(&b, "  %-44s %s\n", f.Name, what)
		}
	}
	for _, n := range notes {
		fmt.Fprintf(&b, "  (%s)\n", n)
	}
	b.WriteString("\nWhat to do\n")
	steps := r.Page.Steps
	if r.Page.First != "" {
		steps = append([]string{r.Page.First}, steps...)
	}
	for i, s := range steps {
		fmt.Fprintf(&b, "  %d. %s\n", i+1, hung(fill(s), 5))
	}
	b.WriteString(r.settings(fill, g.Key != nil))
	for _, s := range []struct{ head, text string }{{"Downtime", r.Page.Away},
		{"When it worked", r.Page.Worked}, {"Rollback", r.Page.Back}} {
		if s.text != "" {
			fmt.Fprintf(&b, "\n%s\n  %s\n", s.head, hung(fill(s.text), 2))
		}
	}
	return b.Bytes()
}

// settings are what is written into the receiver's settings. Where the key is not handed over, its path is that of
// the key that is there already.
func (r Receiver) settings(fill func(string) string, keyHere bool) string {
	if r.Page.Config == "" {
		return ""
	}
	var b strings.Builder
	b.WriteString("\nSettings ({dir} is the directory that the files were copied to)\n")
	for _, l := range strings.Split(strings.TrimSpace(fill(r.Page.Config)), "\n") {
		fmt.Fprintf(&b, "    %s\n", l)
	}
	for i, rule := range r.Files {
		if strings.Contains(r.Page.Config, fmt.Sprintf("{file%d}", i+1)) && slices.Equal(rule.Parts,
			[]string{handover.PartKey}) && !keyHere {
			fmt.Fprintf(&b, "  %s is not in this folder: write the path of the key that is there already.\n",
				fill(rule.Name))
		}
	}
	return b.String()
}

// keyOnly is what is in a text of a page only where the private key is handed over.
var keyOnly = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\[\[(.*?)\]\]`) })

func withKey(text string, here bool) string {
	if here {
		return keyOnly().ReplaceAllString(text, "$1")
	}
	return keyOnly().ReplaceAllString(text, "")
}

// hung breaks a paragraph at 78 columns; further lines are indented.
func hung(text string, indent int) string {
	var b strings.Builder
	column := indent
	for i, word := range strings.Fields(text) {
		if i > 0 && column+1+len(word) > 78 {
			b.WriteString("\n" + strings.Repeat(" ", indent))
			column = indent
		} else if i > 0 {
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += len(word)
	}
	return b.String()
}
