package strict

import (
	"strings"
	"testing"
)

type settings struct {
	Title string `toml:"title"`
	New   string `toml:"called-now" was:"878f7e68d86de594"`
	Table struct {
		Hold []string `toml:"hold" was:"6c45cb72a36e63d5"`
	} `toml:"table"`
	Files []file `toml:"file"`
}

type file struct {
	Name string `toml:"name"`
	Part string `toml:"part" was:"34235a2c502e3919"`
}

// A key that was called otherwise counts as what it is called now, wherever it stands, and
// nothing is there twice for it.
func TestEarlierNamesCount(t *testing.T) {
	var s settings
	text := "title = \"x\"\ncalled-once = \"y\"\n[table]\nstop = [\"a\"]\n[[file]]\nname = \"1\"\npiece = \"p\"\n" +
		"[[file]]\nname = \"2\"\npart = \"q\"\n"
	if err := Read([]byte(text), &s); err != nil {
		t.Fatal(err)
	}
	if s.New != "y" || len(s.Table.Hold) != 1 || len(s.Files) != 2 || s.Files[0].Part != "p" || s.Files[1].Part != "q" {
		t.Errorf("%+v", s)
	}
}

// Errors name the line, what was probably meant and what may be there; an earlier name
// beside the present one is one too many.
func TestUnknownKeysAreExplained(t *testing.T) {
	for text, want := range map[string][]string{
		"titel = 1":          {"1:1", `did you mean "title"`, "called-now"},
		"[table]\nhlod = []": {"2:1", `"table.hlod"`, `did you mean "hold"`},
		"[[file]]\nnmae = 1": {"2:1", "name, part"},
		"called-now = \"a\"\ncalled-once = \"b\"": {"2"},
		"\"called-once\" = \"b\"":                 {"called-once"},
		"table.stop = []":                         {"stop"},
		"title = [":                               {"1:"},
	} {
		t.Run(text, func(t *testing.T) {
			var s settings
			err := Read([]byte(text), &s)
			for _, w := range want {
				if err == nil || !strings.Contains(err.Error(), w) {
					t.Errorf("%q: %v, want %q", text, err, w)
				}
			}
		})
	}
}

// Lists that were left out are empty lists.
func TestFill(t *testing.T) {
	s := settings{Files: []file{{}}}
	Fill(&s)
	if s.Table.Hold == nil || s.Files == nil {
		t.Errorf("%+v", s)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("called-once = \"y\"\n[table]\nstop = [\"a\"]\n[[file]]\npiece = \"p\"\n"))
	f.Add([]byte("\"called-once\" = 1\ntable.stop = 2"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var s settings
		if Read(data, &s) == nil && len(data) == 0 && s.Title != "" {
			t.Error("something came from nothing")
		}
	})
}
