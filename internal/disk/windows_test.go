//go:build windows

package disk

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

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
	if err := windows.SetNamedSecurityInfo(path, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION, nil, nil, dacl,
		nil); err != nil {
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
		allow(t, path, c.list)
		if got := Exposed(path); !strings.Contains(got, c.exposed) || c.exposed == "" && got != "" {
			t.Errorf("%s: %q may read it", c.list, got)
		}
		if got := Untrusted(path); !strings.Contains(got, c.untrusted) || c.untrusted == "" && got != "" {
			t.Errorf("%s: %q may change it", c.list, got)
		}
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
		if err := Reserved(name); errors.Is(err, ErrReserved) != kept {
			t.Errorf("%q: %v", name, err)
		}
	}
}

// A lock goes away with whoever has it, and holds off everybody else until then.
func TestLocksOfWindows(t *testing.T) {
	path := filepath.Join(t.TempDir(), "made")
	if err := os.Mkdir(path, 0o700); err != nil {
		t.Fatal(err)
	}
	release, err := Hold(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := Take(path); ok {
		t.Error("it is taken from its holder")
	}
	release()
	again, ok := Take(path)
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
	if _, err := Hold(path); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("what is not there is held: %v", err)
	}
}
