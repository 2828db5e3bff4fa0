package machine

import (
	"bytes"
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"testing"

	"ironseal/pki/kit"
)

// memoryStore is a store in memory.
type memoryStore struct {
	held   map[string]string
	refuse string // whose adding and removing fails
}

func (s *memoryStore) Each(fn func(der []byte, name string)) error {
	for _, der := range slices.Sorted(maps.Keys(s.held)) {
		fn([]byte(der), s.held[der])
	}
	return nil
}

func (s *memoryStore) change(der []byte) error {
	if s.refuse != "" && bytes.Equal(der, []byte(s.refuse)) {
		return errors.New("the store refused")
	}
	return nil
}

func (s *memoryStore) Add(der []byte, name string) error {
	if err := s.change(der); err != nil {
		return err
	}
	s.held[string(der)] = name
	return nil
}

func (s *memoryStore) Remove(der []byte) error {
	if err := s.change(der); err != nil {
		return err
	}
	delete(s.held, string(der))
	return nil
}

func (*memoryStore) Close() error { return nil }

// What was there before us stays, what we put in is found again by its name, and what fails in part is undone.
func TestTheSystemsOwnStore(t *testing.T) {
	const ours = "roots of ternbay, set own"
	theirs := map[string]string{"old": "", "public": "Public Root"}
	s := &memoryStore{held: maps.Clone(theirs)}
	before := roots
	roots = func(string, bool) (rootStore, error) { return s, nil }
	t.Cleanup(func() { roots = before })
	files := []kit.File{{Name: "a.cer", Data: []byte("old")}, {Name: "b.cer", Data: []byte("new")},
		{Name: "c.cer", Data: []byte("newer")}, {Name: "trust.ps1", Data: []byte("script")}}
	act := func(act string, dry bool, want string) {
		t.Helper()
		steps, err := nativeAct(context.Background(), MachineRoots, act, ours, files, dry)
		if got := strings.Join(steps, ", "); err != nil || got != want {
			t.Errorf("%s: %q, %v; want %q", act, got, err, want)
		}
	}
	act("install", true, "install b.cer, install c.cer")
	if !maps.Equal(s.held, theirs) {
		t.Error("a look has changed the store")
	}
	act("install", false, "install b.cer, install c.cer")
	act("install", false, "")
	if s.held["new"] != ours || s.held["old"] != "" || len(s.held) != 4 {
		t.Error(s.held)
	}
	act("remove", true, "leave a.cer: it was there before, or another kit put it there, remove b.cer, remove c.cer")
	s.refuse = "newer"
	if _, err := nativeAct(context.Background(), MachineRoots, "remove", ours, files, false); err == nil ||
		s.held["new"] != ours {
		t.Errorf("half of a removal stays: %v, %v", s.held, err)
	}
	s.refuse = ""
	act("remove", false, "remove b.cer, remove c.cer")
	if !maps.Equal(s.held, theirs) {
		t.Error(s.held)
	}
	s.refuse = "newer"
	if _, err := nativeAct(context.Background(), MachineRoots, "install", ours, files, false); err == nil ||
		!maps.Equal(s.held, theirs) {
		t.Errorf("half of an installation stays: %v, %v", s.held, err)
	}
}
