package strict

import (
	"io/fs"
	"strings"
)

// Embedded is a directory of TOML files that is part of the program: the starters of a kind.
type Embedded struct {
	Files fs.FS
	Dir   string
}

// Names lists what is on it, in order.
func (s Embedded) Names() (out []string) {
	entries, err := fs.ReadDir(s.Files, s.Dir)
	if err != nil {
		return nil // it is part of the program
	}
	for _, e := range entries {
		out = append(out, strings.TrimSuffix(e.Name(), ".toml"))
	}
	return out
}

// Text is the text of a file, or "" if there is no file with this name.
func (s Embedded) Text(name string) string {
	b, err := fs.ReadFile(s.Files, s.Dir+"/"+name+".toml")
	if err != nil {
		return ""
	}
	return string(b)
}
