//go:build unix

package disk

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
)

// A pipe or a device that is named as the place to write to is written to, and
// stays what it is: the superuser could replace a device by a file.
func TestWhatIsNoFileIsNotReplaced(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Skip("no pipes here: ", err)
	}
	got := make(chan []byte, 1)
	go func() {
		data, _ := os.ReadFile(pipe)
		got <- data
	}()
	if err := (Disk{}).Replace(pipe, []byte("aboard"), 0o644); err != nil {
		t.Fatal(err)
	}
	if data := <-got; !bytes.Equal(data, []byte("aboard")) {
		t.Errorf("%q came through", data)
	}
	if info, err := os.Stat(pipe); err != nil || info.Mode()&fs.ModeNamedPipe == 0 {
		t.Errorf("it is %v now, %v", info.Mode(), err)
	}
	link := filepath.Join(t.TempDir(), "link")
	if err := os.Symlink("/dev/null", link); err != nil {
		t.Fatal(err)
	}
	if err := (Disk{}).Replace(link, []byte("gone"), 0o644); err != nil {
		t.Error(err)
	}
	if info, err := os.Stat("/dev/null"); err != nil || info.Mode()&fs.ModeDevice == 0 {
		t.Fatalf("/dev/null is %v now, %v", info.Mode(), err)
	}
}
