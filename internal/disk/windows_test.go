//go:build windows

package disk

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/windows"
)

// allow gives a file an access list in the system's own notation.
func allow(t *testing.T, path, list string) {
	t.Helper()
	sd, err := windows.SecurityDescriptorFromString(list)
	if err != nil {
		t.Fatal(err)
	}
	dacl, _, err := sd.DACL()
	if err != nil {
		t.Fatal(err)
	}
	if err := windows.SetNamedSecurityInfo(path, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION, nil, nil,
		dacl, nil); err != nil {
		t.Fatal(err)
	}
}

// What is made as a secret is closed from the first moment, and what others may do is told with their name.
func TestAccessListsAreSetAndRead(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "closed")
	path := filepath.Join(dir, "key")
	if err := errors.Join(OwnDir(dir), (Disk{}).New(path, []byte("secret"), 0o600)); err != nil {
		t.Fatal(err)
	}
	for _, p := range []string{dir, path} {
		if Exposed(p) != "" || Untrusted(p) != "" || !Mine(p) {
			t.Errorf("%s: %q, %q, mine: %v", p, Exposed(p), Untrusted(p), Mine(p))
		}
	}
	for _, c := range []struct{ list, exposed, untrusted string }{
		{"D:(A;;FA;;;BA)(A;;FR;;;WD)", "Everyone", ""},
		{"D:(A;;FA;;;BA)(A;;FA;;;WD)", "Everyone", "Everyone"},
		{"D:(A;;FA;;;BA)(A;;FA;;;SY)", "", ""},
	} {
		t.Run(c.list, func(t *testing.T) {
			allow(t, path, c.list)
			if got := Exposed(path); !strings.Contains(got, c.exposed) || c.exposed == "" && got != "" {
				t.Errorf("%s: %q may read it", c.list, got)
			}
			if got := Untrusted(path); !strings.Contains(got, c.untrusted) || c.untrusted == "" && got != "" {
				t.Errorf("%s: %q may change it", c.list, got)
			}
		})
	}
	if err := SetMode(path, 0o600); err != nil || Exposed(path) != "" {
		t.Errorf("it is not closed again: %v, %s", err, Exposed(path))
	}
	if !strings.HasPrefix(Closing(path), "icacls ") {
		t.Error(Closing(path))
	}
}

func TestNamesThatTheSystemKeeps(t *testing.T) {
	for name, kept := range map[string]bool{`a\NUL`: true, `con.txt`: true, `a.\b`: true, `a \b`: true, `x\a:b`: true,
		`C:\a\b.pem`: false, `..\a`: false, `\\server\share\a`: false, `.`: false, `console`: false} {
		t.Run(name, func(t *testing.T) {
			if err := Reserved(name); errors.Is(err, ErrReserved) != kept {
				t.Errorf("%q: %v", name, err)
			}
		})
	}
}

// A lock goes away with whoever has it, and holds off everybody else until then.
func TestLocksOfWindows(t *testing.T) {
	path := filepath.Join(t.TempDir(), "made")
	if err := os.Mkdir(path, 0o700); err != nil {
		t.Fatal(err)
	}
	release, err := Lock(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := TryLock(path); ok {
		t.Error("it is taken from its holder")
	}
	release()
	again, ok := TryLock(path)
	if !ok {
		t.Fatal("it cannot be taken after it was let go")
	}
	again()
	if left, err := os.ReadDir(filepath.Dir(path)); err != nil || len(left) != 1 {
		t.Errorf("the lock stays: %v, %v", left, err)
	}
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	if _, err := Lock(path); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("what is not there is held: %v", err)
	}
}

// A scanner that has a file open for a moment is waited for.
func TestAFileThatIsHeldForAMoment(t *testing.T) {
	path := filepath.Join(t.TempDir(), "scanned")
	if err := (Disk{}).New(path, []byte("old"), 0o600); err != nil {
		t.Fatal(err)
	}
	for what, act := range map[string]func() error{
		"replace": func() error { return Disk{}.Replace(path, []byte("new"), 0o600) },
		"remove":  func() error { return Disk{}.Remove(path) },
	} {
		t.Run(what, func(t *testing.T) {
			if err := (Disk{}).Replace(path, []byte("old"), 0o600); err != nil {
				t.Fatal(err)
			}
			name, err := long(path)
			if err != nil {
				t.Fatal(err)
			}
			const alone = 0 // shared with nobody
			h, err := windows.CreateFile(name, windows.GENERIC_READ, alone, nil, windows.OPEN_EXISTING, 0, 0)
			if err != nil {
				t.Fatal(err)
			}
			time.AfterFunc(patience/4, func() { _ = windows.CloseHandle(h) })
			if err := act(); err != nil {
				t.Error(err)
			}
		})
	}
}

// Full and protected disks are called by their names.
func TestTroublesOfDisksOnWindows(t *testing.T) {
	for err, word := range map[error]string{windows.ERROR_DISK_FULL: "disk is full",
		windows.ERROR_HANDLE_DISK_FULL: "disk is full", windows.ERROR_WRITE_PROTECT: "only be read"} {
		t.Run(fmt.Sprint(err), func(t *testing.T) {
			got := Explain(&os.PathError{Op: "write", Path: "a", Err: err})
			if !strings.Contains(got.Error(), word) || !errors.Is(got, err) {
				t.Errorf("%v: %v", err, got)
			}
		})
	}
}
