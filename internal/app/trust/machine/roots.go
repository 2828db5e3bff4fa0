package machine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironseal/pki/kit"
)

// Windows keeps roots in stores of its own. They are read and changed by the system's calls, with the rules of
// the kit's script: what was put there by us has a name by which it is known again, and nothing else is touched.

// The platform of these stores, and the two that a machine has.
const (
	nativePlatform = "windows"
	MachineRoots   = `LocalMachine\Root`
	UserRoots      = `CurrentUser\Root`
)

// rootStore is an open store of the system's.
type rootStore interface {
	// Each calls fn with every certificate, and with the name that was given to it.
	Each(fn func(der []byte, name string)) error
	Add(der []byte, name string) error
	Remove(der []byte) error
	Close() error
}

// errNoRoots says that the system has no such stores.
var errNoRoots = errors.New("this system has no such store")

// roots opens a store of the system's; tests put their own in its place.
var roots = openRoots

// rootsOf reads a store of the system's.
func rootsOf(path, title string) (Store, error) {
	s := Store{Name: title, Path: path, Held: map[string]bool{}, Kit: nativePlatform}
	open, err := roots(path, false)
	if err != nil {
		return s, err
	}
	err = open.Each(func(der []byte, _ string) { s.Held[string(der)] = true })
	return s, errors.Join(err, open.Close())
}

// windows are the system's own stores of roots, where there are any.
func (m Machine) windows() (out []Store) {
	if m.Root != "/" {
		return nil
	}
	for _, x := range []struct{ path, title string }{{MachineRoots, "system"}, {UserRoots, "yours"}} {
		s, err := rootsOf(x.path, x.title)
		if errors.Is(err, errNoRoots) {
			return nil
		}
		if err != nil {
			s.Note, s.Held = err.Error(), nil
		}
		out = append(out, s)
	}
	if len(out) < 2 || out[0].Held == nil || out[1].Held == nil {
		return out
	}
	maps.Copy(out[1].Held, out[0].Held) // whatever the machine trusts, the user's programs trust
	if len(out[0].Held) == len(out[1].Held) {
		return out[:1]
	}
	return out
}

// isNative reports whether a platform's store is changed by the system's calls, and not by a script.
func isNative(platform string) bool {
	if platform != nativePlatform {
		return false
	}
	s, err := roots(MachineRoots, false)
	if err == nil {
		err = s.Close()
	}
	return !errors.Is(err, errNoRoots)
}

// nativeAct changes a store of the system's, or with dry says what it would do. Where one certificate fails,
// what was done to those before it is undone.
func nativeAct(ctx context.Context, path, act, name string, files []kit.File, dry bool) (steps []string, err error) {
	store, err := roots(path, !dry)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, store.Close()) }()
	there := map[string]string{}
	if err := store.Each(func(der []byte, name string) { there[string(der)] = name }); err != nil {
		return nil, err
	}
	var undo []func() error
	for _, f := range files {
		if !strings.HasSuffix(f.Name, ".cer") {
			continue
		}
		given, there := there[string(f.Data)]
		step, do, back := "", store.Remove, func() error { return store.Add(f.Data, name) }
		switch {
		case act == "install" && !there:
			step = "install " + f.Name
			do = func(der []byte) error { return store.Add(der, name) }
			back = func() error { return store.Remove(f.Data) }
		case act == "remove" && there && given == name:
			step = "remove " + f.Name
		case act == "remove" && there && dry:
			steps = append(steps, "leave "+f.Name+": it was there before, or another kit put it there")
		}
		if step == "" {
			continue
		}
		steps = append(steps, step)
		if dry {
			continue
		}
		if err := errors.Join(ctx.Err(), do(f.Data)); err != nil {
			for _, b := range slices.Backward(undo) {
				err = errors.Join(err, b())
			}
			return nil, fmt.Errorf("%s, %s: %w", path, step, err)
		}
		undo = append(undo, back)
	}
	return steps, nil
}
