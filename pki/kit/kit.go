// Package kit packs a trust set for one platform: the anchors in the encoding and under the
// names that the platform wants, a script or a policy where it has one, a page in words, and
// a list of hashes over all of it.
//
// Platforms are data, in TOML files, so that anybody can add one. The same set gives the same
// bytes. A name out of a certificate stands in no script and in no policy: those hold file
// names that were made safe, and fingerprints.
package kit

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironseal/pki/label"
	"ironseal/pki/strict"
	"ironseal/pki/trust"
)

//go:embed platform/*.toml
var starters embed.FS

var embedded = strict.Embedded{Files: starters, Dir: "platform"}

//go:embed text/*
var texts embed.FS

// Platform is a kind of system that trusts roots, as data.
type Platform struct {
	Name     string            `toml:"-" json:"name"`
	Title    string            `toml:"title" json:"title" doc:"what the platform is, in a few words"`
	Covers   string            `toml:"covers" json:"covers" doc:"which programs trust what is installed so, and which do not"`
	Tried    string            `toml:"tried" json:"tried,omitempty" doc:"how this program's tests tried its kit: run, on the real system; stand-in, with a stand-in for it; read, by another reader of its files"`
	Purposes []trust.Purpose   `toml:"purposes" json:"purposes" doc:"the purposes that its store has: servers, clients, mail, code; anchors for others are left out"`
	Limits   bool              `toml:"limits" json:"limits" doc:"whether it holds an anchor to its permitted names"`
	Files    []FileRule        `toml:"file" json:"files" doc:"a file of the kit"`
	Values   map[string]string `toml:"values" json:"values,omitempty" doc:"what the script or form needs to know of the platform"`
	Page     Page              `toml:"page" json:"page" doc:"what the person there has to do"`
}

// triedWords say how a kit was tried.
var triedWords = map[string]string{"": "not at all", "run": "run for real", "stand-in": "against a stand-in",
	"read": "only parsed"}

// FileRule is one file, or one for each anchor.
type FileRule struct {
	Name string `toml:"name" json:"name" doc:"{file} stands for the anchor's own safe name, {short} for one of eight characters"`
	Form string `toml:"form" json:"form" doc:"pem, der, p7b, p12, or the name of a script or form of the program"`
	Each bool   `toml:"each" json:"each" doc:"one for each anchor"`
	For  string `toml:"for" json:"for" doc:"what it is, for the page"`
}

// Page is what the person there has to do.
type Page struct {
	Steps   []string `toml:"steps" json:"steps" doc:"in order"`
	Restart string   `toml:"restart" json:"restart,omitempty" doc:"what has to be started again"`
	Worked  string   `toml:"worked" json:"worked,omitempty" doc:"how to see that it worked"`
	Back    string   `toml:"back" json:"back,omitempty" doc:"how it is undone"`
}

// File is a file of a kit.
type File struct {
	Name string
	Data []byte
	Run  bool // it is a script
}

// PageFile and SumsFile are in every kit.
const (
	PageFile = "READ-ME.txt"
	SumsFile = "SHA256SUMS"
)

// StarterNames lists the platforms that the program knows.
func StarterNames() []string { return embedded.Names() }

// Starter returns the file of a platform that the program knows, or "".
func Starter(name string) string { return embedded.Text(name) }

// Parse reads a platform's file. Reading is strict.
func Parse(name string, data []byte) (Platform, error) {
	p := Platform{Name: name}
	if len(data) > 1<<20 {
		return p, fmt.Errorf("platform %s: the file is too large", name)
	}
	if err := strict.Read(data, &p); err != nil {
		return p, fmt.Errorf("platforms/%s.toml:%w", name, err)
	}
	if err := p.check(); err != nil {
		return p, fmt.Errorf("platforms/%s.toml: %w", name, err)
	}
	strict.Fill(&p)
	return p, nil
}

func (p Platform) check() error {
	if p.Title == "" {
		return errors.New("title is missing: say what the platform is")
	}
	if _, known := triedWords[p.Tried]; !known {
		return fmt.Errorf("tried = %q: use run, stand-in, read, or leave it out", p.Tried)
	}
	if len(p.Files) == 0 {
		return errors.New("the kit holds no files: add a [[file]]")
	}
	for _, x := range p.Purposes {
		if !slices.Contains(trust.Purposes(), x) {
			return fmt.Errorf("purposes: %q: use servers, clients, mail, code", x)
		}
	}
	for i, f := range p.Files {
		if _, known := forms()[f.Form]; !known {
			return fmt.Errorf("file %d: form = %q: use one of %s", i+1, f.Form, strings.Join(formNames(), ", "))
		}
		plain := strings.NewReplacer("{file}", "x", "{short}", "x", "{set}", "x", "{mark}", "x").Replace(f.Name)
		if !label.IsFileName(plain) || slices.Contains([]string{PageFile, SumsFile}, plain) {
			return fmt.Errorf("file %d: name = %q: a file name, without directories", i+1, f.Name)
		}
		if f.Each != (strings.Contains(f.Name, "{file}") || strings.Contains(f.Name, "{short}")) {
			return fmt.Errorf("file %d: each and {file} go together", i+1)
		}
	}
	return nil
}

// Item is an anchor with the names of its files.
type Item struct {
	trust.Anchor
	File  string // safe anywhere: the mark, the title's letters, the first digits of the fingerprint
	Short string // eight characters, for old file systems
}

// Job is a set to be packed.
type Job struct {
	Set   trust.Set
	Mark  string // begins the name of every file that is installed, so that our own are known again
	Owner string // who gives it out, for the page

	Signed  bool   // a signature will be beside the list of hashes
	Check   string // how the signature is checked, for the page, such as a command; "" to leave it out
	Leaving bool   // the kit takes the anchors out: it holds nothing that only installs
	Present []byte // a policy file that is there already and stays in force, or nil

	LeftOut []string // what of the set is not packed, and why

	packed map[string][32]byte // SHA-256 of the files that were made, while a kit is packed
}

// howChecked says how the signature is checked.
func (j Job) howChecked() string {
	if j.Check == "" {
		return ""
	}
	return ": " + j.Check + ", with a root that you trust already"
}

// MarkOf makes the mark of an organisation.
func MarkOf(organisation string) string {
	return strings.ToLower(strings.NewReplacer(".", "-", "_", "-").Replace(label.FileName(organisation)))
}

// Pack makes the files of a kit. Notes say what was left out, and which limits the platform
// does not keep.
func (p Platform) Pack(j Job) (files []File, notes []string, err error) {
	items, notes := p.items(j)
	notes = append(slices.Clone(j.LeftOut), notes...)
	if len(items) == 0 {
		return nil, notes, fmt.Errorf("trust set %s holds no anchor for %s", j.Set.Name, p.Name)
	}
	j.packed = map[string][32]byte{}
	for _, scripts := range []bool{false, true} { // scripts know what lies beside them
		for _, rule := range p.Files {
			if slices.Contains(scriptForms, rule.Form) != scripts || j.skips(rule) {
				continue
			}
			for _, one := range groups(rule, items) {
				data, run, err := forms()[rule.Form](p, j, one)
				if err != nil {
					return nil, notes, fmt.Errorf("platform %s: %s: %w", p.Name, rule.Name, err)
				}
				name := strings.NewReplacer("{file}", one[0].File, "{short}", one[0].Short, "{set}",
					j.Set.Name, "{mark}", j.Mark).Replace(rule.Name)
				files = append(files, File{name, data, run})
				j.packed[name] = sha256.Sum256(data)
			}
		}
	}
	files = append(files, File{Name: PageFile, Data: p.page(j, items, notes)})
	return append(files, File{Name: SumsFile, Data: sums(files)}), notes, nil
}

func groups(rule FileRule, items []Item) [][]Item {
	if !rule.Each {
		return [][]Item{items}
	}
	var out [][]Item
	for _, i := range items {
		out = append(out, []Item{i})
	}
	return out
}

// items are the anchors that the platform can hold, in an order that does not depend on
// how the set was made.
func (p Platform) items(j Job) (out []Item, notes []string) {
	for _, a := range j.Set.Anchors {
		c := a.Certificate
		if len(p.Purposes) > 0 && !slices.ContainsFunc(a.Purposes, func(x trust.Purpose) bool {
			return slices.Contains(p.Purposes, x)
		}) {
			notes = append(notes, c.Title()+" is left out: this store is not for what it is trusted for")
			continue
		}
		if len(a.Permitted) > 0 && !p.Limits {
			notes = append(notes, c.Title()+" is trusted for every name there: this platform knows no limits on names")
		}
		sum := c.SHA256()
		title := strings.ToLower(strings.ReplaceAll(label.FileName(c.Title()), ".", "-"))
		title = strings.TrimPrefix(title, j.Mark+"-")
		if len(title) > 40 {
			title = strings.Trim(title[:40], "-_")
		}
		out = append(out, Item{Anchor: a, File: fmt.Sprintf("%s_%s_%s-%x", j.Mark, j.Set.Name, title, sum[:4]),
			Short: fmt.Sprintf("%x", sum[:4])})
	}
	slices.SortFunc(out, func(a, b Item) int { return strings.Compare(a.File, b.File) })
	return out, notes
}

// sums is what sha256sum -c reads.
func sums(files []File) []byte {
	var b bytes.Buffer
	for _, f := range files {
		fmt.Fprintf(&b, "%x  %s\n", sha256.Sum256(f.Data), f.Name)
	}
	return b.Bytes()
}
