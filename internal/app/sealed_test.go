package app_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/internal/app/ca/custody"
	"ironseal/internal/app/ca/passphrases"
	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/ops/moving"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/internal/store/onserver"
)

// keyFilesIn counts the files of keys in a directory of an estate.
func keyFilesIn(t *testing.T, dir, sub string) int {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(dir, sub, "*.key"))
	if err != nil {
		t.Fatal(err)
	}
	return len(list)
}

// signsHere takes in a request and signs it.
func signsHere(t *testing.T, e *estate.Estate) error {
	t.Helper()
	receive(t, e, 1)
	n, err := e.Records.Count(ctx)
	if err != nil {
		t.Fatal(err)
	}
	return sign(e, sheet(t, e, n.Requests))
}

// keepInRecords lets new keys go to the records, and opens the estate again.
func keepInRecords(t *testing.T, dir string) *estate.Estate {
	t.Helper()
	path := filepath.Join(dir, estate.SettingsFile)
	text, err := os.ReadFile(path)
	if err == nil {
		err = os.WriteFile(path, []byte(strings.Replace(string(text), `keep = "folder"`, `keep = "records"`, 1)), 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	return reopen(t, dir, world())
}

// Sealed keys that stand in the records sign, are given another passphrase, and go into backups as those in files do.
func TestSealedKeysStandInTheRecords(t *testing.T) {
	t.Parallel()
	dir, e := bareEstate(t, "Tern Bay Ferries")
	e.Close()
	e = keepInRecords(t, dir)
	withAuthorities(t, e)
	if n := keyFilesIn(t, dir, "keys"); n != 0 {
		t.Errorf("%d keys are in files", n)
	}
	if err := signsHere(t, e); err != nil {
		t.Fatal(err)
	}
	keys, err := passphrases.Of(ctx, e, []string{"services"})
	if err != nil {
		t.Fatal(err)
	}
	choose := func(context.Context, string) ([]byte, error) { return []byte("gull and tern"), nil }
	if _, _, err := passphrases.Change(ctx, e, keys, choose); err != nil {
		t.Fatal(err)
	}
	if err := signsHere(t, reopen(t, dir, world())); err == nil {
		t.Error("the earlier passphrase opens the key")
	}
	other := world()
	other.Pass = fixed("gull and tern")
	if err := sign(reopen(t, dir, other), sheet(t, e, 2)); err != nil {
		t.Errorf("the new passphrase: %v", err)
	}
	if f := checked(t, dir); len(f) > 0 {
		t.Errorf("not sound: %v", f)
	}
	file := filepath.Join(t.TempDir(), "backup")
	if _, err := backup.BackUp(ctx, e, file); err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(t.TempDir(), "again")
	if _, err := backup.Restore(ctx, file, to, other); err != nil {
		t.Fatal(err)
	}
	again := reopen(t, to, other)
	if _, err := again.Keys.Open(ctx, keys[0].Public, "services", keystore.ForCheck); err != nil {
		t.Errorf("a restored key: %v", err)
	}
}

// A sealed key goes from a machine into the records and back. A copy that stayed behind is told, and opens nothing.
func TestASealedKeyIsMoved(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	copied, err := os.ReadDir(filepath.Join(dir, "keys"))
	if err != nil {
		t.Fatal(err)
	}
	behind := map[string][]byte{}
	for _, f := range copied {
		if behind[f.Name()], err = os.ReadFile(filepath.Join(dir, "keys", f.Name())); err != nil {
			t.Fatal(err)
		}
	}
	moved, _, err := custody.ToRecords(ctx, e, "services")
	if err != nil || len(moved) != 1 || moved[0].Aside == "" {
		t.Fatalf("%v, %v", moved, err)
	}
	if n := keyFilesIn(t, dir, "keys"); n != 1 || keyFilesIn(t, dir, estate.AsideDir) != 1 {
		t.Errorf("%d keys are in files: only root's should be", n)
	}
	if f := checked(t, dir); len(f) > 0 {
		t.Errorf("not sound: %v", f)
	}
	if err := signsHere(t, reopen(t, dir, world())); err != nil {
		t.Fatal(err)
	}
	if _, _, err := custody.ToRecords(ctx, e, "services"); err != nil {
		t.Errorf("once more: %v", err)
	}
	left := filepath.Base(moved[0].Aside)
	stays := filepath.Join(dir, "keys", left)
	if err := errors.Join(os.WriteFile(stays, behind[left], 0o600), disk.SetMode(stays, 0o600)); err != nil {
		t.Fatal(err)
	}
	if f := checked(t, dir); len(f) != 1 || !strings.Contains(fmt.Sprint(f), "stands in the records") {
		t.Errorf("a copy that stayed behind: %v", f)
	}
	if err := os.Remove(filepath.Join(dir, "keys", left)); err != nil {
		t.Fatal(err)
	}
	if _, _, err := custody.ToFolder(ctx, e, "services"); err != nil {
		t.Fatal(err)
	}
	if n := keyFilesIn(t, dir, "keys"); n != 2 {
		t.Errorf("%d keys are in files: both should be", n)
	}
	if names, err := e.Records.SealedNames(ctx); err != nil || len(names) != 0 {
		t.Errorf("the records still have %v, %v", names, err)
	}
	if err := signsHere(t, reopen(t, dir, world())); err != nil {
		t.Fatal(err)
	}
	if f := checked(t, dir); len(f) > 0 {
		t.Errorf("not sound: %v", f)
	}
}

// Another machine signs with a key of the records, without a file; and what moves to a file takes the keys along.
func TestAKeyOfTheRecordsSignsAtAnotherMachine(t *testing.T) {
	t.Parallel()
	dir, e := bareEstate(t, "Tern Bay Ferries")
	place := onserver.URL(t)
	e.Close()
	e = keepInRecords(t, dir)
	withAuthorities(t, e)
	if _, err := moving.Move(ctx, e, place); err != nil {
		t.Fatal(err)
	}
	second := filepath.Join(t.TempDir(), "second")
	b, err := moving.Join(ctx, second, place, world())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	if err := signsHere(t, b); err != nil {
		t.Fatal(err)
	}
	if f := checked(t, second); len(f) > 0 {
		t.Errorf("not sound: %v", f)
	}
	if _, err := moving.Move(ctx, reopen(t, dir, world()), "back.db"); err != nil {
		t.Fatal(err)
	}
	if err := signsHere(t, reopen(t, dir, world())); err != nil {
		t.Errorf("after it was moved back: %v", err)
	}
	if _, _, err := custody.ToFolder(ctx, b, "services"); err == nil {
		t.Error("the second machine takes a key out of records that were moved")
	}
}
