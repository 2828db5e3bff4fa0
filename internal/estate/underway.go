package estate

import (
	"path/filepath"

	"ironseal/internal/disk/unfinished"
)

func (e *Estate) underWay() unfinished.Dir { return unfinished.Dir(filepath.Join(e.Dir, "under-way")) }

// UnderWay notes that something is being made in a directory outside of the estate. done is called whatever
// happened.
func (e *Estate) UnderWay(dir string) (done func(), err error) {
	return e.underWay().Note(e.Env.Disk, e.Env.Random, dir)
}

// Tidy removes what killed runs left behind, and names it.
func (e *Estate) Tidy() (removed []string, err error) { return e.underWay().Tidy(e.Env.Disk) }
