// Package machine looks into the stores of trusted roots that a machine has, and changes
// those of this one: what is in them, what is missing, what has gone stale. It knows where systems, runtimes
// and browsers keep roots, and in which forms. A change is what a kit's own script does.
package machine

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/kit"
	"ironseal/pki/pkcs"
	"ironseal/pki/trust"
)

// Store is a place on this machine that roots are trusted from.
type Store struct {
	Name string // what it is, such as "system"
	Path string
	Held map[string]bool // certificates in it, by their bytes
	Note string          // what is wrong with it, or to be known of it
	Kit  string          // the platform whose kit changes it
	dir  string          // where its files are put by hand; "" for none
}

// Machine is where stores are looked for.
type Machine struct {
	Root string // "/" on this machine; another for one that is mounted, which has no stores of the system's own
	Env  func(string) string
}

// mostStore bounds what is read of one store, in bytes.
const mostStore = 16 << 20

// Stores finds the stores of a machine, and reads them.
func (m Machine) Stores() []Store {
	out := m.windows()
	for _, s := range m.known().systems {
		if there(s.bundle) {
			out = append(out, m.file("system", s.bundle, s.kit, s.dir))
		}
	}
	out = append(out, m.bundles()...)
	out = append(out, m.java()...)
	out = append(out, m.firefox()...)
	out = append(out, m.chromium()...)
	out = append(out, m.profiles()...)
	for _, v := range []struct{ name, variable, kit string }{{"Node.js", "NODE_EXTRA_CA_CERTS", "node"},
		{"Python requests", "REQUESTS_CA_BUNDLE", "python"}, {"by SSL_CERT_FILE", "SSL_CERT_FILE", "bundle"}} {
		path := m.Env(v.variable)
		if at := slices.IndexFunc(out, func(s Store) bool { return path != "" && same(s.Path, path) }); at >= 0 {
			out[at].Name += ", " + v.name // one file, and one row
			continue
		}
		if path != "" {
			out = append(out, m.file(v.name, path, v.kit, ""))
			if last := &out[len(out)-1]; v.kit == "node" && last.Note == "" && !isPEM(path) {
				last.Note, last.Held = "Node.js ignores a file that is not PEM, without a word", nil
			}
		}
	}
	return out
}

func (m Machine) at(path string) string { return filepath.Join(m.Root, path) }

func there(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

func same(a, b string) bool {
	x, err := os.Stat(a)
	y, err2 := os.Stat(b)
	return err == nil && err2 == nil && os.SameFile(x, y)
}

func isPEM(path string) bool {
	data, err := disk.Read(path, mostStore)
	return err == nil && strings.Contains(string(data), "-----BEGIN")
}

// file reads a store that is a file of any form.
func (m Machine) file(name, path, kit, dir string) Store {
	s := Store{Name: name, Path: path, Held: map[string]bool{}, Kit: kit, dir: dir}
	data, err := disk.Read(path, mostStore)
	if err == nil {
		var list [][]byte
		if isDatabase(data) {
			list, err = ofDatabase(path)
		} else {
			list, err = certificatesOf(data)
		}
		if err == nil {
			for _, der := range list {
				s.Held[string(der)] = true
			}
		}
	}
	if err != nil {
		s.Note = err.Error()
	}
	return s
}

// certificatesOf reads the certificates of a store: PEM, DER, PKCS#12 with the password that
// Java's own stores have, or Java's older form.
func certificatesOf(data []byte) (out [][]byte, err error) {
	if list, ok, err := pkcs.ReadJavaStore(data); ok {
		return list, err
	}
	c, err := bundle.Read(data)
	if err != nil {
		return nil, err
	}
	for _, o := range c.Of(bundle.Certificate) {
		out = append(out, o.DER)
	}
	for _, o := range c.Of(bundle.Store) {
		for _, password := range []string{"", "changeit"} {
			entries, err := pkcs.ReadStore(o.DER, []byte(password))
			if err != nil {
				continue
			}
			for _, e := range entries {
				if e.Anchor || e.OfKey { // Java trusts no other
					out = append(out, e.Certificate)
				}
			}
			if len(out) == 0 && len(entries) > 0 {
				return nil, errors.New("no certificate in it has the mark by which Java trusts it")
			}
			return out, nil
		}
		return nil, errors.New("it is encrypted under another password than the usual one")
	}
	return out, nil
}

// bundles finds the bundle files that kits wrote for programs that read one.
func (m Machine) bundles() (out []Store) {
	files, _ := filepath.Glob(m.known().bundles + "/*_all.*.pem") // a root with * in it finds nothing
	for _, f := range files {
		_, name, _ := strings.Cut(filepath.Base(f), "_all.")
		name = strings.TrimSuffix(name, ".pem")
		out = append(out, m.file("bundle for "+name, f, name, ""))
	}
	return out
}

// java finds the stores of the Java runtimes, each once.
func (m Machine) java() (out []Store) {
	var places []string
	for _, pattern := range m.known().java { // a root with * in it finds nothing
		found, _ := filepath.Glob(pattern)
		places = append(places, found...)
	}
	if home := m.Env("JAVA_HOME"); home != "" {
		places = append(places, filepath.Join(home, "lib/security/cacerts"))
	}
	seen := map[string]bool{}
	for _, p := range places {
		if real, err := filepath.EvalSymlinks(p); err == nil && !seen[real] {
			seen[real] = true
			out = append(out, m.file("Java", real, "java", ""))
		}
	}
	return out
}

// firefox reads the certificates that Firefox's policy installs.
func (m Machine) firefox() (out []Store) {
	path := m.known().firefox
	if !there(path) {
		return nil
	}
	s := Store{Name: "Firefox policy", Path: path, Held: map[string]bool{}, Kit: "firefox"}
	var policy struct {
		Policies struct {
			Certificates struct{ Install []string }
		}
	}
	if err := readJSON(path, &policy); err != nil {
		s.Note = err.Error()
		return []Store{s}
	}
	for _, p := range policy.Policies.Certificates.Install[:min(len(policy.Policies.Certificates.Install), 1000)] {
		one := m.file("", m.at(p), "", "")
		for der := range one.Held {
			s.Held[der] = true
		}
		if one.Note != "" {
			s.Note = one.Note
		}
	}
	return []Store{s}
}

// chromium reads the certificates of managed policies.
func (m Machine) chromium() (out []Store) {
	for _, dir := range m.known().chromium {
		files, _ := filepath.Glob(dir + "/*.json") // a root with * in its name finds nothing
		if len(files) == 0 {
			continue
		}
		s := Store{Name: "Chromium policy", Path: dir, Held: map[string]bool{}, Kit: "chromium"}
		for _, f := range files {
			var policy struct {
				CACertificates                []string
				CACertificatesWithConstraints []struct{ Certificate string }
			}
			if err := readJSON(f, &policy); err != nil {
				s.Note = err.Error()
				continue
			}
			for _, c := range policy.CACertificatesWithConstraints {
				policy.CACertificates = append(policy.CACertificates, c.Certificate)
			}
			for _, text := range policy.CACertificates {
				if der, err := base64.StdEncoding.DecodeString(text); err == nil {
					s.Held[string(der)] = true
				}
			}
		}
		out = append(out, s)
	}
	return out
}

func readJSON(path string, into any) error {
	data, err := disk.Read(path, mostStore)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, into); err != nil {
		return fmt.Errorf("%s cannot be parsed: %w", path, err)
	}
	return nil
}

// Checked is what a store has of a set.
type Checked struct {
	Store, Path string
	There       []string // titles of the anchors
	Missing     []string // likewise
	Stale       []string // files of earlier kits, and roots of the estate that the set has no longer
	Note        string   // what is wrong with the store, or to be known of it
	Kit         string   // the platform whose kit changes it
}

// Judge is what stores are compared with.
type Judge struct {
	Set    trust.Set
	Mark   string              // how the names of files of our kits begin
	Other  []trust.Set         // sets whose anchors may be there too
	Former []*cert.Certificate // what was to be trusted once, and is not any more
}

// Check holds every store of a machine, and every file named, against a set.
func (m Machine) Check(j Judge, files []string) []Checked {
	stores := m.Stores()
	for _, f := range files {
		stores = append(stores, m.file("file", f, "bundle", ""))
	}
	wanted := map[string]bool{} // by any set
	j.Set, _ = j.Set.Sound()
	for _, set := range append(j.Other, j.Set) {
		set, _ = set.Sound()
		for _, a := range set.Anchors {
			wanted[string(a.Certificate.Raw)] = true
		}
	}
	out := []Checked{}
	for _, s := range stores {
		c := Checked{Store: s.Name, Path: s.Path, Note: s.Note, Kit: s.Kit}
		for _, a := range j.Set.Anchors {
			if s.Held[string(a.Certificate.Raw)] {
				c.There = append(c.There, a.Certificate.Title())
			} else {
				c.Missing = append(c.Missing, a.Certificate.Title())
			}
		}
		for _, f := range j.Former {
			if s.Held[string(f.Raw)] && !wanted[string(f.Raw)] {
				c.Stale = append(c.Stale, fmt.Sprintf("%s, which ends %s", f.Title(), f.NotAfter.Format("2006-01-02")))
			}
		}
		c.Stale = append(c.Stale, s.stale(j.Mark, wanted)...)
		if by := slices.IndexFunc(out, func(x Checked) bool {
			return x.Kit == s.Kit && strings.HasSuffix(x.Store, " policy") && len(x.Missing) == 0
		}); by >= 0 && len(c.Missing) > 0 && c.Note == "" {
			c.There, c.Missing, c.Note = out[by].There, []string{}, "the policy gives what the profile lacks"
		}
		out = append(out, c)
	}
	return out
}

// CheckSet holds a machine against a set of the estate.
func CheckSet(ctx context.Context, e *estate.Estate, m Machine, set trust.Set, files []string) ([]Checked, error) {
	if len(set.Anchors) == 0 {
		return nil, fault.New(fault.NotFound, "trust set %s holds no anchor", set.Name).On(fault.TrustSet.Named("%s",
			set.Name)).
			Then(advice.To("add one", advice.AddToSet, "set", set.Name))
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	j := Judge{Set: set, Mark: kit.MarkOf(e.Settings.Organisation.Name)}
	var faults []error
	if j.Other, faults = anchors.Sets(ctx, e); len(faults) > 0 {
		return nil, errors.Join(faults...)
	}
	for _, a := range h {
		for _, g := range a.Generations {
			if g.IsRoot() {
				j.Former = append(j.Former, g.Certificate)
			}
		}
	}
	return m.Check(j, files), nil
}

// stale names the files that an earlier kit put into a store's directory and that hold
// nothing of any set any more.
func (s Store) stale(mark string, wanted map[string]bool) (out []string) {
	if s.dir == "" {
		return nil
	}
	list, err := os.ReadDir(s.dir)
	if err != nil {
		return nil // what cannot be read is reported by the store's own note
	}
	for _, f := range list {
		if !strings.HasPrefix(f.Name(), mark+"_") {
			continue
		}
		data, err := disk.ReadRegular(filepath.Join(s.dir, f.Name()), mostStore)
		if err != nil {
			continue
		}
		certs, err := certificatesOf(data)
		if err != nil || !slices.ContainsFunc(certs, func(der []byte) bool { return wanted[string(der)] }) {
			out = append(out, f.Name())
		}
	}
	return out
}

// InstallHere takes the platforms out of a list whose stores this machine's own commands change, and reports
// whether there were any.
func InstallHere(platforms []string) (others []string, any bool) {
	others = slices.DeleteFunc(slices.Clone(platforms), isNative)
	return others, len(others) < len(platforms)
}

// KitStep packs a set for the platforms named.
func KitStep(words, set string, platforms []string) advice.Step {
	slices.Sort(platforms)
	step := advice.To(words, advice.PackKit, "platform", strings.Join(slices.Compact(platforms), ","), "folder", "DIR")
	return of(step, set)
}

// InstallStep installs a set on this machine.
func InstallStep(words, set string) advice.Step { return of(advice.To(words, advice.InstallSet), set) }

// of names the set where it is not the estate's own.
func of(step advice.Step, set string) advice.Step {
	if set != trust.Own {
		step.With = append(step.With, advice.Value{Name: "set", Text: set})
	}
	return step
}
