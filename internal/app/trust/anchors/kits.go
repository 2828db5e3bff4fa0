package anchors

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/kit"
	"ironseal/pki/strict"
	"ironseal/pki/trust"

	"golang.org/x/sync/errgroup"
)

// PlatformNames lists the platforms that the program knows and those of the estate.
func PlatformNames(e *estate.Estate) []string {
	names := append(kit.StarterNames(), e.DataNames("platform")...)
	slices.Sort(names)
	return slices.Compact(names)
}

// Platform reads a platform: the estate's file, else the program's own.
func Platform(e *estate.Estate, name string) (kit.Platform, error) {
	if slices.Contains(e.DataNames("platform"), name) {
		data, err := disk.Read(filepath.Join(e.Dir, "platforms", name+".toml"), 1<<20)
		if err != nil {
			return kit.Platform{}, fmt.Errorf("platform %s: %w", name, err)
		}
		return kit.Parse(name, data)
	}
	if text := kit.Starter(name); text != "" {
		return kit.Parse(name, []byte(text))
	}
	return kit.Platform{}, fault.New(fault.NotFound, "no platform is called %q; %s", name,
		strict.Offered(name, PlatformNames(e)))
}

// Packed is a kit that was written.
type Packed struct {
	Party    string   `json:"party,omitempty"`
	Platform string   `json:"platform"`
	Path     string   `json:"path"` // the folder, or the archive
	Files    []string `json:"files"`
	Notes    []string `json:"notes"`
}

// PackAsk says what is to be packed.
type PackAsk struct {
	Set       trust.Set
	Party     string // that takes the kits; "" for kits without a party
	Platforms []string
	Dir       string
	Archive   string // "" for folders, or a form of kit.Archives
	Replace   bool   // earlier kits there
	SignBy    string // the authority that certifies the key by which the kits are signed; "" for none
	Leaving   bool   // the kits take the anchors out, and those that have expired too
	Policy    string // "", or a policy file that is there already: the kit's takes it in
	Waivers   []finding.Waiver
}

// Pack writes a folder or an archive for each platform under a directory. All are packed
// before the first is written; folders that are there already are replaced only when they
// hold nothing but what such a kit consists of.
func Pack(ctx context.Context, e *estate.Estate, ask PackAsk) ([]Packed, error) {
	return PackAll(ctx, e, []PackAsk{ask})
}

// atOnce is how many kits are written at once: the disk and the records take those together.
const atOnce = 16

// PackAll does what Pack does for many asks. What differs in the party and in the directory only is packed once, and
// one key signs all. A kit that cannot be written does not keep the others back: it returns those that were written.
func PackAll(ctx context.Context, e *estate.Estate, asks []PackAsk) ([]Packed, error) {
	p := packing{e: e, done: map[string]packed{}}
	var out []Packed
	var writes []func() error
	for _, ask := range asks {
		made, err := p.pack(ctx, ask)
		if err != nil {
			return nil, err
		}
		for _, one := range made.list {
			one.Path, one.Party = ask.Path(one.Platform), ask.Party
			out = append(out, one)
			writes = append(writes, func() error { return ask.write(ctx, e, one, made.files[one.Platform]) })
		}
	}
	faults := make([]error, len(writes))
	var all errgroup.Group
	all.SetLimit(atOnce)
	for i, write := range writes {
		all.Go(func() error {
			if faults[i] = context.Cause(ctx); faults[i] == nil {
				faults[i] = write()
			}
			return nil
		})
	}
	_ = all.Wait() // each kit keeps its own failure
	var written []Packed
	for i, one := range out {
		if faults[i] == nil {
			written = append(written, one)
		}
	}
	return written, errors.Join(faults...)
}

// packing keeps what was packed, for whoever takes the same.
type packing struct {
	e      *estate.Estate
	signer *kitSigner
	done   map[string]packed // by set and platforms
}

// packed is a kit for each platform, in memory.
type packed struct {
	files map[string][]kit.File
	list  []Packed
}

func (p *packing) pack(ctx context.Context, ask PackAsk) (packed, error) {
	key := strings.Join(append([]string{ask.Set.Name}, ask.Platforms...), " ")
	if made, known := p.done[key]; known {
		return made, nil
	}
	files, list, err := ask.InMemory(p.e)
	if err != nil {
		return packed{}, err
	}
	if ask.SignBy != "" && p.signer == nil {
		if p.signer, err = newKitSigner(ctx, p.e, ask.SignBy); err != nil {
			return packed{}, err
		}
	}
	for i, one := range list {
		if p.signer == nil {
			break
		}
		signature, err := p.signer.sign(p.e, sumsOf(files[one.Platform]))
		if err != nil {
			return packed{}, fmt.Errorf("kit for %s: %w", one.Platform, err)
		}
		files[one.Platform] = append(files[one.Platform], signature)
		list[i].Files = append(list[i].Files, signature.Name)
	}
	p.done[key] = packed{files, list}
	return p.done[key], nil
}

// ArchiveOf makes a kit as one file, with the same bytes as Pack writes, and writes none.
func ArchiveOf(e *estate.Estate, set trust.Set, platform, form string) ([]byte, error) {
	ask := PackAsk{Set: set, Platforms: []string{platform}, Archive: form}
	packs, _, err := ask.InMemory(e)
	if err != nil {
		return nil, err
	}
	return kit.Archive(form, ask.folder(platform), packs[platform])
}

// InMemory makes the kits, and writes none.
func (ask PackAsk) InMemory(e *estate.Estate) (packs map[string][]kit.File, out []Packed, err error) {
	set, left, err := ask.sound()
	if err != nil {
		return nil, nil, err
	}
	for _, a := range set.Anchors {
		if e.Now().After(a.Certificate.NotAfter) && !ask.Leaving {
			return nil, nil, &issue.Refused{About: "trust set " + set.Name, Findings: finding.List{finding.New(
				finding.AnchorExpired, "%s expired on %s.", a.Certificate.Title(),
				a.Certificate.NotAfter.Format("2006-01-02"))}}
		}
	}
	job := kit.Job{Set: set, Mark: kit.MarkOf(e.Settings.Organisation.Name), Owner: e.Settings.Organisation.Name,
		Signed: ask.SignBy != "", LeftOut: left, Leaving: ask.Leaving}
	if ask.Policy != "" {
		if job.Present, err = disk.Read(ask.Policy, mostFile); err != nil {
			return nil, nil, fmt.Errorf("policy %s: %w", ask.Policy, err)
		}
	}
	packs = map[string][]kit.File{}
	for _, name := range ask.Platforms {
		p, err := Platform(e, name)
		if err != nil {
			return nil, nil, err
		}
		if ask.Policy != "" && (!p.TakesPolicy() || len(ask.Platforms) > 1) {
			return nil, nil, fmt.Errorf("kit for %s: a policy that is there goes into one platform's kit, and that "+
				"is one with a policy: firefox or chromium", name)
		}
		files, notes, err := p.Pack(job)
		if err != nil {
			return nil, nil, err
		}
		one := Packed{Platform: name, Path: ask.Path(name), Files: []string{}, Notes: append([]string{}, notes...)}
		for _, f := range files {
			one.Files = append(one.Files, f.Name)
		}
		packs[name] = files
		out = append(out, one)
	}
	return packs, out, nil
}

// sound leaves out the anchors whose key is suspected: a kit would bring them onto more machines. Where
// nothing else is in the set, someone must waive that. A kit that takes anchors out has them all.
func (ask PackAsk) sound() (trust.Set, []string, error) {
	set, left := ask.Set.Sound()
	if ask.Leaving || len(left) == 0 {
		return ask.Set, nil, nil
	}
	var list finding.List
	for _, a := range ask.Set.Anchors {
		if a.Compromise != "" {
			list = append(list, finding.New(finding.SuspectedAnchor, "%s: %s", a.Certificate.Title(), a.Compromise))
		}
	}
	list, err := list.Waive(0, ask.Waivers)
	switch bad := list.Refusing(); {
	case err != nil:
		return set, nil, err
	case len(bad) == 0:
		return ask.Set, nil, nil
	case len(set.Anchors) == 0:
		return set, nil, &issue.Refused{About: "trust set " + set.Name, Findings: bad}
	}
	return set, left, nil
}

func (ask PackAsk) write(ctx context.Context, e *estate.Estate, one Packed, files []kit.File) error {
	onRecord := func() error {
		_, err := record(ctx, e, event.On(ask.Set.Name, event.KitPacked{Platform: one.Platform, Party: ask.Party,
			Sums: fmt.Sprintf("%x", sha256.Sum256(sumsOf(files))), Waived: ask.Waivers}))
		return err
	}
	if ask.Archive != "" {
		if err := disk.Dir(filepath.Dir(one.Path)); err != nil {
			return err
		}
		data, err := kit.Archive(ask.Archive, ask.folder(one.Platform), files)
		if err != nil {
			return fmt.Errorf("kit for %s: %w", one.Platform, err)
		}
		if PackedBefore(one.Path) && !ask.Replace {
			return fmt.Errorf("kit for %s: %s is there already", one.Platform, one.Path)
		}
		if err := onRecord(); err != nil {
			return err
		}
		return e.Env.Disk.Replace(one.Path, data, 0o644)
	}
	fill := func(into string) error {
		var list []disk.File
		for _, f := range files {
			list = append(list, disk.File{Path: filepath.Join(into, f.Name), Data: f.Data, Mode: f.Mode()})
		}
		if err := errors.Join(e.Env.Disk.NewAll(list)...); err != nil {
			return fmt.Errorf("kit: %w", err)
		}
		if err := onRecord(); err != nil {
			return err
		}
		return disk.SetMode(into, 0o755) // roots are no secret, and others install them
	}
	if ask.Replace {
		return disk.ReplaceFolder(one.Path, one.Files, fill)
	}
	return disk.NewFolder(one.Path, fill)
}

// sumsOf is the list of hashes of a kit.
func sumsOf(files []kit.File) []byte {
	return files[slices.IndexFunc(files, func(f kit.File) bool { return f.Name == kit.SumsFile })].Data
}

func (ask PackAsk) folder(platform string) string { return ask.Set.Name + "." + platform }

// Path is where a kit is written.
func (ask PackAsk) Path(platform string) string {
	path := filepath.Join(ask.Dir, ask.folder(platform))
	if ask.Archive != "" {
		path += "." + ask.Archive
	}
	return path
}

// PackedBefore reports whether an earlier kit, which may be replaced, is at a path: a folder
// that has the list of hashes, or an archive.
func PackedBefore(path string) bool {
	info, err := os.Lstat(path)
	if err == nil && info.IsDir() {
		info, err = os.Lstat(filepath.Join(path, kit.SumsFile))
	}
	return err == nil && info.Mode().IsRegular()
}

// OpenKit reads the files of a kit: a folder, or an archive of one.
func OpenKit(path string) (map[string][]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, disk.Explain(err)
	}
	files := map[string][]byte{}
	if !info.IsDir() {
		data, err := disk.Read(path, mostContent)
		if err != nil {
			return nil, err
		}
		l := &looking{name: filepath.Base(path), keep: map[string][]byte{}}
		if err := l.open(data); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		for name, data := range l.keep {
			files[strings.TrimPrefix(name, l.top+"/")] = data
		}
		return files, nil
	}
	list, err := os.ReadDir(path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if len(list) > mostFiles {
		return nil, fmt.Errorf("%s: more than %d files: it is no kit", path, mostFiles)
	}
	for _, f := range list {
		data, err := disk.ReadRegular(filepath.Join(path, f.Name()), mostFile)
		if err != nil { // a link, a folder, or what cannot be read: nothing that a kit has
			data = nil
		}
		files[f.Name()] = data
	}
	return files, nil
}
