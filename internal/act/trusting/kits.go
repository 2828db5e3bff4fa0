package trusting

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/failure"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/kit"
	"ironseal/pki/strict"
	"ironseal/pki/trust"
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
	names := PlatformNames(e)
	hint := "there are: " + strings.Join(names, ", ")
	if near := strict.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("did you mean %q? %s", near, hint)
	}
	return kit.Platform{}, failure.Of(failure.ErrNotFound, "platform %q: there is none of this name; %s", name, hint)
}

// Packed is a kit that was written.
type Packed struct {
	Platform string   `json:"platform"`
	Dir      string   `json:"directory"`
	Files    []string `json:"files"`
	Notes    []string `json:"notes"`
}

// Pack writes a folder for each platform under a directory. All are packed before the
// first is written; folders that are there already are replaced only when they hold
// nothing but what such a kit consists of.
func Pack(ctx context.Context, e *estate.Estate, set trust.Set, platforms []string, dir string,
	replace bool) (out []Packed, err error) {
	for _, a := range set.Anchors {
		if e.Now().After(a.Certificate.NotAfter) {
			return nil, &issue.Refused{About: "trust set " + set.Name, Findings: finding.List{finding.New(
				finding.AnchorExpired, "%s expired on %s.", a.Certificate.Title(),
				a.Certificate.NotAfter.Format("2006-01-02"))}}
		}
	}
	job := kit.Job{Set: set, Mark: kit.MarkOf(e.Settings.Organisation.Name), Owner: e.Settings.Organisation.Name}
	packs := map[string][]kit.File{}
	for _, name := range platforms {
		p, err := Platform(e, name)
		if err != nil {
			return nil, err
		}
		files, notes, err := p.Pack(job)
		if err != nil {
			return nil, err
		}
		one := Packed{Platform: name, Dir: KitDir(dir, set, name), Files: []string{},
			Notes: append([]string{}, notes...)}
		for _, f := range files {
			one.Files = append(one.Files, f.Name)
		}
		packs[name] = files
		out = append(out, one)
	}
	for _, one := range out {
		if err := write(ctx, e, set, one, packs[one.Platform], replace); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func write(ctx context.Context, e *estate.Estate, set trust.Set, one Packed, files []kit.File, replace bool) error {
	fill := func(into string) error {
		for _, f := range files {
			mode := os.FileMode(0o644)
			if f.Run {
				mode = 0o755
			}
			if err := e.World.Disk.New(filepath.Join(into, f.Name), f.Data, mode); err != nil {
				return fmt.Errorf("kit: %w", err)
			}
		}
		sums := files[len(files)-1]
		_, err := record(ctx, e, estate.Entry("pack kit", set.Name, "platform", one.Platform, "sums",
			fmt.Sprintf("%x", sha256.Sum256(sums.Data))))
		if err != nil {
			return err
		}
		return os.Chmod(into, 0o755) // roots are no secret, and others install them
	}
	if replace {
		return disk.ReplaceFolder(one.Dir, one.Files, fill)
	}
	return disk.NewFolder(one.Dir, fill)
}

// KitDir is where a kit is written.
func KitDir(dir string, set trust.Set, platform string) string {
	return filepath.Join(dir, set.Name+"."+platform)
}

// PackedBefore reports whether a folder holds an earlier kit, which may be replaced.
func PackedBefore(dir string) bool {
	info, err := os.Lstat(filepath.Join(dir, kit.SumsFile))
	return err == nil && info.Mode().IsRegular()
}
