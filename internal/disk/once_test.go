package disk

import (
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
)

// A mark is taken once, by whoever of many programs is first, and half a mark is written over.
func TestOnce(t *testing.T) {
	dir := t.TempDir()
	programs := []*Once{{Dir: dir}, {Dir: dir}, {Dir: dir}}
	var taken atomic.Int64
	var all sync.WaitGroup
	const marks = 300
	for _, o := range programs {
		all.Go(func() {
			for n := range marks {
				fresh, err := o.Take(7, Mark{byte(n), byte(n >> 8)})
				if err != nil {
					t.Error(err)
				}
				if fresh {
					taken.Add(1)
				}
			}
		})
	}
	all.Wait()
	if taken.Load() != marks {
		t.Errorf("%d marks were taken, and there are %d", taken.Load(), marks)
	}
	path := filepath.Join(dir, "7.used")
	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = f.Write([]byte{1, 2, 3})
	}
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
	if fresh, err := programs[0].Take(7, Mark{9, 9, 9}); err != nil || !fresh {
		t.Errorf("after half a mark: %t, %v", fresh, err)
	}
	if fresh, err := (&Once{Dir: dir}).Take(7, Mark{9, 9, 9}); err != nil || fresh {
		t.Errorf("by a program that starts: %t, %v", fresh, err)
	}
	if fresh, err := programs[1].Take(8, Mark{9, 9, 9}); err != nil || !fresh {
		t.Errorf("of another age: %t, %v", fresh, err)
	}
	if err := programs[0].Forget(8); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(path); !os.IsNotExist(err) {
		t.Errorf("the age is still there: %v", err)
	}
	if err := (&Once{Dir: filepath.Join(dir, "none")}).Forget(9); err != nil {
		t.Error(err)
	}
}
