package machine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/kit"
	"ironseal/pki/trust"
)

// What is done on this very machine is what the kit's script does: it is packed aside, asked
// what it would change, and run when a person has agreed. The stores of Windows are changed by the system's
// own calls instead, by the same rules.

const kitScript = "trust.sh"

// mostTime bounds one run of a script.
const mostTime = 5 * time.Minute

// Change is what would be done on this machine.
type Change struct {
	Act       string // install or remove
	Set       trust.Set
	Platforms []PlatformChange

	native string // the store that the platform windows means here
	dir    string // the kits, aside
	packs  map[string][]kit.File
	e      *estate.Estate
}

// PlatformChange is what would be done to one store.
type PlatformChange struct {
	Platform string   `json:"platform"`
	Steps    []string `json:"steps"` // what the script says that it does
}

// Systems are the platforms of the system stores that this machine has.
func (m Machine) Systems() (out []string) {
	if isNative(nativePlatform) {
		return []string{nativePlatform}
	}
	for _, s := range m.known().systems {
		if there(s.dir) && there(s.bundle) {
			out = append(out, s.kit)
		}
	}
	return out
}

// PlanChange packs the kits aside, and asks their scripts what they would do. The caller
// closes the change, which takes the kits away. Where the system keeps a store for each user, mine means
// that of the user who runs the program.
func PlanChange(ctx context.Context, e *estate.Estate, act string, set trust.Set, platforms []string, mine bool) (
	planned *Change, err error) {
	if mine && !isNative(nativePlatform) {
		return nil, fault.New(fault.NotFound, "this system has one store for the machine, and none for a user").
			Then(advice.To("leave this out", advice.DropMine))
	}
	if len(platforms) == 0 {
		return nil, fault.New(fault.NotFound, "no system store is here that a kit of ours knows").Then(
			advice.To("name a platform", advice.ForPlatform),
			advice.To("or pack a kit", advice.PackKit, "platform", advice.Asked, "folder", "DIR"))
	}
	dir, err := os.MkdirTemp("", "ironseal-roots-")
	if err != nil {
		return nil, fmt.Errorf("%s: %w", act, err)
	}
	if act == "install" {
		set, _ = set.Sound()
	}
	c := &Change{Act: act, Set: set, native: MachineRoots, dir: dir, e: e}
	if mine {
		c.native = UserRoots
	}
	defer func() {
		if planned == nil {
			c.Close()
		}
	}()
	c.packs, _, err = anchors.PackAsk{Set: set, Platforms: platforms, Leaving: act == "remove"}.InMemory(e)
	if err != nil {
		return nil, err
	}
	for _, name := range platforms {
		if err := c.unpack(name); err != nil {
			return nil, err
		}
		steps, err := c.run(ctx, name, true)
		if err != nil {
			return nil, err
		}
		if len(steps) == 1 && steps[0] == "nothing to do" {
			steps = nil
		}
		c.Platforms = append(c.Platforms, PlatformChange{Platform: name, Steps: append([]string{}, steps...)})
	}
	return c, nil
}

// unpack puts the kit of a platform into the folder aside.
func (c *Change) unpack(name string) error {
	if isNative(name) {
		return nil
	}
	hasScript := false
	if err := os.Mkdir(filepath.Join(c.dir, name), 0o700); err != nil {
		return fmt.Errorf("%s: %w", c.Act, err)
	}
	for _, f := range c.packs[name] {
		hasScript = hasScript || f.Name == kitScript
		if err := c.e.Env.Disk.New(filepath.Join(c.dir, name, f.Name), f.Data, f.Mode()); err != nil {
			return fmt.Errorf("%s: %w", c.Act, err)
		}
	}
	if !hasScript {
		return fault.New(fault.Unavailable, "platform %s has no script that runs here", name).Then(
			advice.To("pack it, and do what its page says", advice.PackKit, "platform", name, "folder", "DIR"))
	}
	return nil
}

// Close takes the kits away.
func (c *Change) Close() { os.RemoveAll(c.dir) }

// Empty reports whether there is nothing to do.
func (c *Change) Empty() bool {
	for _, p := range c.Platforms {
		if len(p.Steps) > 0 {
			return false
		}
	}
	return true
}

// run runs the script of one kit, or with dry lets it say what it would do.
func (c *Change) run(ctx context.Context, platform string, dry bool) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, mostTime)
	defer cancel()
	if isNative(platform) {
		name := fmt.Sprintf("roots of %s, set %s", kit.MarkOf(c.e.Settings.Organisation.Name), c.Set.Name)
		return nativeAct(ctx, c.native, c.Act, name, c.packs[platform], dry)
	}
	args := []string{filepath.Join(c.dir, platform, kitScript), c.Act}
	if dry {
		args = append(args, "--dry-run")
	}
	cmd := exec.CommandContext(ctx, "sh", args...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		said := strings.TrimSpace(strings.ReplaceAll(errs.String(), kitScript+": ", ""))
		return nil, fmt.Errorf("%s for %s: %s (%w)", c.Act, platform, said, err)
	}
	var lines []string
	for line := range strings.Lines(out.String()) {
		lines = append(lines, strings.TrimSpace(line))
	}
	return lines, nil
}

// Do does what was planned. When one platform fails, what this run did to those before it is taken
// back, and nothing else: roots that were there before stay.
func (c *Change) Do(ctx context.Context, e *estate.Estate) (head journal.Head, err error) {
	var touched, sums []string
	var done []done
	for _, p := range c.Platforms {
		if len(p.Steps) == 0 {
			continue
		}
		before := p.before()
		if _, err := c.run(ctx, p.Platform, false); err != nil {
			return head, errors.Join(err, c.back(ctx, done))
		}
		touched, done = append(touched, p.Platform), append(done, before)
	}
	for _, a := range c.Set.Anchors {
		sums = append(sums, fmt.Sprintf("%x", a.Certificate.SHA256()))
	}
	var told event.Event = event.RootsInstalled{Platforms: touched, Certificates: sums}
	if c.Act == "remove" {
		told = event.RootsRemoved{Platforms: touched, Certificates: sums}
	}
	return e.Act(ctx, func(store.Tx) ([]event.Record, error) { return []event.Record{event.On(c.Set.Name, told)}, nil })
}

// done is what one platform was before it was changed.
type done struct {
	platform string
	steps    []string
	files    map[string]earlier // those that the steps name and that were there
}

type earlier struct {
	data []byte
	mode os.FileMode
}

// before keeps the files that a script is about to change.
func (p PlatformChange) before() done {
	out := done{platform: p.Platform, steps: p.Steps, files: map[string]earlier{}}
	for _, step := range p.Steps {
		path := target(step)
		info, err := os.Stat(path)
		if !filepath.IsAbs(path) || err != nil || !info.Mode().IsRegular() {
			continue
		}
		if data, err := disk.Read(path, mostStore); err == nil {
			out.files[path] = earlier{data, info.Mode().Perm()}
		}
	}
	return out
}

// target is what a step of a script is about: "install /usr/local/share/…".
func target(step string) string {
	_, path, _ := strings.Cut(step, " ")
	path, _, _ = strings.Cut(path, ": ")
	return path
}

// back undoes what was done to platforms.
func (c *Change) back(ctx context.Context, list []done) (err error) {
	ctx = context.WithoutCancel(ctx)
	for _, d := range slices.Backward(list) {
		for path, was := range d.files {
			err = errors.Join(err, c.e.Env.Disk.Replace(path, was.data, was.mode))
		}
		err = errors.Join(err, c.undo(ctx, d))
	}
	return err
}

// undo takes out again the anchors that this run put in, or the other way round: those that a step
// names, unless the file of it was there before. So the system's own update runs as well.
func (c *Change) undo(ctx context.Context, d done) error {
	set := c.Set
	set.Anchors = nil
	for _, a := range c.Set.Anchors {
		sum := a.Certificate.SHA256()
		mark := fmt.Sprintf("-%x.", sum[:4]) // how the files of a kit are named for their roots
		for _, step := range d.steps {
			_, there := d.files[target(step)]
			if strings.Contains(target(step), mark) && (!there || c.Act == "remove") {
				set.Anchors = append(set.Anchors, a)
				break
			}
		}
	}
	if len(set.Anchors) == 0 && len(d.files) == 0 { // one file for all roots, and it was not there
		set = c.Set
	}
	if len(set.Anchors) == 0 {
		return nil
	}
	dir, err := os.MkdirTemp("", "ironseal-roots-")
	if err != nil {
		return fmt.Errorf("undo: %w", err)
	}
	undo := &Change{Act: map[string]string{"install": "remove", "remove": "install"}[c.Act], Set: set,
		native: c.native, dir: dir, e: c.e}
	defer undo.Close()
	undo.packs, _, err = anchors.PackAsk{Set: set, Platforms: []string{d.platform}, Leaving: true}.InMemory(c.e)
	if err != nil {
		return err
	}
	if err := undo.unpack(d.platform); err != nil {
		return err
	}
	_, err = undo.run(ctx, d.platform, false)
	return err
}
