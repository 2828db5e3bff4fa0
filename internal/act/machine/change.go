package machine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"ironseal/internal/act/trusting"
	"ironseal/internal/estate"
	"ironseal/internal/failure"
	"ironseal/internal/records"
	"ironseal/pki/journal"
	"ironseal/pki/trust"
)

// What is done on this very machine is what the kit's script does: it is packed aside, asked
// what it would change, and run when a person has agreed.

const kitScript = "trust.sh"

// mostTime bounds one run of a script.
const mostTime = 5 * time.Minute

// Change is what would be done on this machine.
type Change struct {
	Act       string // install or remove
	Set       trust.Set
	Platforms []PlatformChange

	dir string // the kits, aside
}

// PlatformChange is what would be done to one store.
type PlatformChange struct {
	Platform string   `json:"platform"`
	Steps    []string `json:"steps"` // what the script says that it does
}

// Systems are the platforms of the system stores that this machine has.
func (m Machine) Systems() (out []string) {
	for _, s := range systems {
		if there(m.at(s.dir)) && there(m.at(s.bundle)) {
			out = append(out, s.kit)
		}
	}
	return out
}

// PlanChange packs the kits aside, and asks their scripts what they would do. The caller
// closes the change, which takes the kits away.
func PlanChange(ctx context.Context, e *estate.Estate, act string, set trust.Set, platforms []string) (
	planned *Change, err error) {
	if len(platforms) == 0 {
		return nil, failure.Of(failure.ErrNotFound, "no system store is here that a kit of ours knows: "+
			"name a platform with --for PLATFORM, or pack a kit with: ironseal trust kit --for PLATFORM --out DIR")
	}
	dir, err := os.MkdirTemp("", "ironseal-roots-")
	if err != nil {
		return nil, fmt.Errorf("%s: %w", act, err)
	}
	c := &Change{Act: act, Set: set, dir: dir}
	defer func() {
		if planned == nil {
			c.Close()
		}
	}()
	packs, _, err := trusting.PackAsk{Set: set, Platforms: platforms, Expired: act == "remove"}.InMemory(e)
	if err != nil {
		return nil, err
	}
	for _, name := range platforms {
		hasScript := false
		if err := os.Mkdir(filepath.Join(dir, name), 0o700); err != nil {
			return nil, fmt.Errorf("%s: %w", act, err)
		}
		for _, f := range packs[name] {
			hasScript = hasScript || f.Name == kitScript
			if err := e.World.Disk.New(filepath.Join(dir, name, f.Name), f.Data, f.Mode()); err != nil {
				return nil, fmt.Errorf("%s: %w", act, err)
			}
		}
		if !hasScript {
			return nil, fmt.Errorf("platform %s has no script that runs here\npack it with: ironseal trust kit "+
				"--for %s --out DIR, and do what its page says", name, name)
		}
		steps, err := c.run(ctx, name, "--dry-run")
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

// run runs the script of one kit.
func (c *Change) run(ctx context.Context, platform string, more ...string) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, mostTime)
	defer cancel()
	args := append([]string{filepath.Join(c.dir, platform, kitScript), c.Act}, more...)
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

// Do does what was planned. When one platform fails, those before it are taken back, if they
// were touched at all.
func (c *Change) Do(ctx context.Context, e *estate.Estate) (head journal.Head, err error) {
	var touched, sums []string
	for _, p := range c.Platforms {
		if len(p.Steps) == 0 {
			continue
		}
		if _, err := c.run(ctx, p.Platform); err != nil {
			return head, errors.Join(err, c.back(ctx, touched))
		}
		touched = append(touched, p.Platform)
	}
	for _, a := range c.Set.Anchors {
		sums = append(sums, fmt.Sprintf("%x", a.Certificate.SHA256()))
	}
	en := estate.Entry(c.Act+" roots here", c.Set.Name, "platforms", touched, "certificates", sums)
	return e.Act(ctx, func(*records.Tx) ([]journal.Entry, error) { return []journal.Entry{en}, nil })
}

// back undoes the act on the platforms named.
func (c *Change) back(ctx context.Context, platforms []string) (err error) {
	undo := &Change{Act: map[string]string{"install": "remove", "remove": "install"}[c.Act], dir: c.dir}
	for _, p := range platforms {
		_, one := undo.run(context.WithoutCancel(ctx), p)
		err = errors.Join(err, one)
	}
	return err
}
