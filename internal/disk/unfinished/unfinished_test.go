package unfinished

import (
	"crypto/rand"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"

	"ironseal/internal/disk"
)

// What a killed program left in a place that it had noted is removed, and what one that runs makes is not.
func TestTheNextRunTidiesUp(t *testing.T) {
	at, place := Dir(filepath.Join(t.TempDir(), "notes")), t.TempDir()
	done, err := at.Note(disk.Disk{}, rand.Reader, place)
	if err != nil {
		t.Fatal(err)
	}
	left := filepath.Join(place, ".ironseal-making-1")
	if err := os.Mkdir(left, 0o700); err != nil {
		t.Fatal(err)
	}
	if gone, err := at.Tidy(disk.Disk{}); err != nil || len(gone) > 0 {
		t.Errorf("%v, %v were removed while the program runs", gone, err)
	}
	notes, err := filepath.Glob(filepath.Join(string(at), "[^.]*.txt"))
	if err != nil || len(notes) != 1 {
		t.Fatal(notes, err)
	}
	note := notes[0]
	text, err := os.ReadFile(note)
	if err != nil {
		t.Fatal(err)
	}
	done()
	if err := os.WriteFile(note, text, 0o600); err != nil { // as a killed one leaves it
		t.Fatal(err)
	}
	if gone, err := at.Tidy(disk.Disk{}); err != nil || !slices.Equal(gone, []string{left}) {
		t.Errorf("%v, %v", gone, err)
	}
	if list, _ := os.ReadDir(string(at)); len(list) > 0 {
		t.Errorf("the note is still there: %v", list)
	}
}

// Many programs make something in one place while others tidy up: nobody loses what it makes.
func TestNobodySweepsWhatIsBeingMade(t *testing.T) {
	at, place := Dir(filepath.Join(t.TempDir(), "notes")), t.TempDir()
	var all sync.WaitGroup
	stop := make(chan struct{})
	for range 2 {
		all.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				if _, err := at.Tidy(disk.Disk{}); err != nil {
					t.Error(err)
				}
				if _, err := disk.SweepNow(place); err != nil {
					t.Error(err)
				}
			}
		})
	}
	var makers sync.WaitGroup
	for n := range 4 {
		makers.Go(func() {
			for i := range 50 {
				done, err := at.Note(disk.Disk{}, rand.Reader, place)
				if err != nil {
					t.Error(err)
					return
				}
				dir := filepath.Join(place, string(rune('a'+n))+string(rune('0'+i/10))+string(rune('0'+i%10)))
				if err := disk.NewFolder(dir, func(into string) error {
					return disk.Disk{}.New(filepath.Join(into, "key"), []byte("x"), 0o600)
				}); err != nil {
					t.Error(err)
				}
				done()
			}
		})
	}
	makers.Wait()
	close(stop)
	all.Wait()
}
