package disk

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
)

// Whatever step fails, the old file stays whole and nothing is left behind.
func TestAFailureLeavesTheOldFile(t *testing.T) {
	failure := errors.New("no space left on device")
	for _, step := range []Step{StepCreate, StepWrite, StepSync, StepPlace} {
		dir := t.TempDir()
		path := filepath.Join(dir, "a")
		if err := (Disk{}).New(path, []byte("old"), 0o600); err != nil {
			t.Fatal(err)
		}
		d := Disk{Fault: func(s Step, _ string) error {
			if s == step {
				return failure
			}
			return nil
		}}
		if err := d.Replace(path, []byte("new and longer"), 0o600); !errors.Is(err, failure) ||
			!strings.Contains(err.Error(), path) {
			t.Errorf("%s: %v", step, err)
		}
		if data, err := os.ReadFile(path); err != nil || string(data) != "old" {
			t.Errorf("%s: the file holds %q, %v", step, data, err)
		}
		if files, _ := os.ReadDir(dir); len(files) != 1 {
			t.Errorf("%s: %d files are left", step, len(files))
		}
	}
}

func TestNewNeverReplaces(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a")
	if err := (Disk{}).New(path, []byte("one"), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := (Disk{}).New(path, []byte("two"), 0o640); !errors.Is(err, ErrExists) {
		t.Errorf("%v", err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o640 && runtime.GOOS != "windows" {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
	if err := (Disk{}).Replace(path, []byte("three"), 0o600); err != nil {
		t.Fatal(err)
	}
	if data, _ := os.ReadFile(path); string(data) != "three" {
		t.Errorf("%q", data)
	}
}

func TestReadNamesWhatIsWrong(t *testing.T) {
	dir := t.TempDir()
	big := filepath.Join(dir, "big")
	if err := os.WriteFile(big, make([]byte, 100), 0o600); err != nil {
		t.Fatal(err)
	}
	for path, word := range map[string]string{dir: "directory", filepath.Join(dir, "none"): "no such file",
		big: "100 bytes"} {
		t.Run(path, func(t *testing.T) {
			if _, err := Read(path, 99); err == nil || !strings.Contains(err.Error(), word) {
				t.Errorf("%s: %v", path, err)
			}
		})
	}
}

// A folder takes another's place in one step, or, where there is no such step, never
// leaves the name without a folder for good.
func TestFoldersAreExchanged(t *testing.T) {
	for name, exchange := range map[string]func(a, b string) error{"in one step": swap, "slowly": swapSlowly} {
		dir := t.TempDir()
		a, b := filepath.Join(dir, "a"), filepath.Join(dir, "b")
		for _, d := range []string{a, b} {
			if err := os.Mkdir(d, 0o700); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(d, filepath.Base(d)), nil, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if err := exchange(a, b); err != nil {
			t.Fatal(name, err)
		}
		for _, file := range []string{"a/b", "b/a"} {
			if _, err := os.Stat(filepath.Join(dir, file)); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
		if err := exchange(filepath.Join(dir, "none"), b); err == nil {
			t.Errorf("%s: a folder that is not there was exchanged", name)
		}
		if _, err := os.Stat(filepath.Join(b, "a")); err != nil {
			t.Errorf("%s: the one that was there is gone: %v", name, err)
		}
	}
}

// A web server's folder may be reached by a link: what it leads to is replaced, and it stays.
func TestALinkToAFolderStays(t *testing.T) {
	dir := t.TempDir()
	real, link := filepath.Join(dir, "real"), filepath.Join(dir, "link")
	if err := errors.Join(os.Mkdir(real, 0o755), os.Symlink("real", link)); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Readlink(link); err != nil {
		t.Skip("there are no links here: ", err)
	}
	if err := ReplaceFolder(link, nil, func(into string) error {
		return os.WriteFile(filepath.Join(into, "new"), nil, 0o644)
	}); err != nil {
		t.Fatal(err)
	}
	if to, err := os.Readlink(link); err != nil || to != "real" {
		t.Errorf("the link leads to %q: %v", to, err)
	}
	if _, err := os.Stat(filepath.Join(real, "new")); err != nil {
		t.Error(err)
	}
}

func TestWhatIsReadyEarlyIsWrittenMeanwhile(t *testing.T) {
	whole := []byte("head, body and tail")
	for at := -1; at <= len(whole)+3; at++ { // wherever the part was expected; -1: none is ready early
		path := filepath.Join(t.TempDir(), "file")
		err := Disk{}.NewWhile(path, 0o644, func(early func([]byte, int)) ([]byte, error) {
			if at >= 0 {
				early(whole[6:10], at)
			}
			return whole, nil
		})
		if got, readErr := os.ReadFile(path); err != nil || readErr != nil || string(got) != string(whole) {
			t.Errorf("expected at %d: %q, %v, %v", at, got, err, readErr)
		}
	}
}

func TestNothingIsLeftOfAFileWhoseContentFails(t *testing.T) {
	for _, ready := range []bool{false, true} {
		dir := t.TempDir()
		broken := errors.New("the key does not open")
		err := Disk{}.NewWhile(filepath.Join(dir, "file"), 0o644, func(early func([]byte, int)) ([]byte, error) {
			if ready {
				early([]byte("body"), 2)
			}
			return nil, broken
		})
		if left, _ := os.ReadDir(dir); err != broken || len(left) != 0 {
			t.Errorf("%v, %v", err, left)
		}
	}
	for _, step := range []Step{StepCreate, StepWrite, StepSync, StepPlace} {
		dir := t.TempDir()
		d := Disk{Fault: func(s Step, _ string) error {
			if s == step {
				return errors.New("no")
			}
			return nil
		}}
		err := d.NewWhile(filepath.Join(dir, "file"), 0o644, func(early func([]byte, int)) ([]byte, error) {
			early([]byte("body"), 0)
			return []byte("body and tail"), nil
		})
		if left, _ := os.ReadDir(dir); err == nil || len(left) != 0 {
			t.Errorf("%s: %v, %v", step, err, left)
		}
	}
}

// Programs that replace one folder at the same time wait for each other where a swap takes two steps.
func TestAFolderIsReplacedByManyAtOnce(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "public")
	fill := func(into string) error { return os.WriteFile(filepath.Join(into, "list"), []byte("whole"), 0o644) }
	if err := NewFolder(dir, fill); err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for range 10 {
				if err := ReplaceFolder(dir, []string{"list"}, fill); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	if data, err := os.ReadFile(filepath.Join(dir, "list")); err != nil || string(data) != "whole" {
		t.Errorf("%q: %v", data, err)
	}
	if entries, err := os.ReadDir(filepath.Dir(dir)); err != nil || len(entries) != 1 {
		t.Errorf("%v is left beside the folder: %v", entries, err)
	}
}
