// Package walls holds no code. Its test reads the imports of every package and
// fails on one that points the wrong way.
package walls

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// layers says which layers each layer may import; within a layer the compiler forbids circles. A package belongs to
// the layer with the longest name that its path begins with. Tests may import whatever their package's layer may,
// and what is named in forTests.
var layers = map[string][]string{
	"pki":               {},
	"internal/disk":     {"pki"},
	"internal/fetch":    {"pki"},
	"internal/probe":    {"pki"},
	"internal/report":   {"pki"},
	"internal/event":    {"pki"},
	"internal/store":    {"pki", "internal/disk", "internal/event"},
	"internal/keystore": {"pki", "internal/disk"},
	"internal/estate":   {"pki", "internal/disk", "internal/event", "internal/store", "internal/keystore"},
	"internal/app": {"pki", "internal/disk", "internal/event", "internal/fetch", "internal/probe", "internal/store",
		"internal/keystore", "internal/estate"},
	"internal/api":  {"pki", "internal/event", "internal/store", "internal/estate", "internal/app"},
	"internal/term": {"pki"},
	"internal/demo": {"pki", "internal/disk", "internal/probe", "internal/estate"},
	"internal/httpd": {"pki", "internal/disk", "internal/event", "internal/store", "internal/keystore",
		"internal/estate", "internal/app",
		"internal/api"},
	"internal/cli": {"pki", "internal/disk", "internal/fetch", "internal/probe", "internal/report", "internal/store",
		"internal/keystore", "internal/event", "internal/estate", "internal/app", "internal/api", "internal/term",
		"internal/demo", "internal/httpd"},
	"cmd/ironseal":    {"pki", "internal/cli", "internal/disk", "internal/term"},
	"internal/growth": {}, "internal/walls": {}, "internal/peers": {}, // these hold tests alone
}

// forTests are packages whose tests try several layers together.
var forTests = []string{"cmd/ironseal", "internal/app", "internal/growth", "internal/httpd", "internal/peers",
	"internal/walls"}

// layerOf is the layer of a package; "" where it has none.
func layerOf(pkg string) string {
	best := ""
	for name := range layers {
		if (pkg == name || strings.HasPrefix(pkg, name+"/")) && len(name) > len(best) {
			best = name
		}
	}
	return best
}

// outside are the imports that the core must not have: it knows no clock, no
// randomness but what it is given, no terminal, no store, no network, no files.
var outside = []string{"os", "io/ioutil", "path/filepath", "syscall", "net", "crypto/rand", "math/rand",
	"database/sql", "log", "flag", "github.com/spf13/cobra", "github.com/charmbracelet/lipgloss", "modernc.org/sqlite"}

// allowed are parts of those that only compute.
var allowed = []string{"net/netip", "net/url", "net/mail"}

func TestImportsPointDown(t *testing.T) {
	root := filepath.Join("..", "..")
	seen := map[string]bool{}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
			return err
		}
		if strings.Contains(filepath.ToSlash(path), "/testdata/") { // part of a test
			return nil
		}
		rel, err := filepath.Rel(root, filepath.Dir(path))
		if err != nil {
			return err
		}
		pkg := filepath.ToSlash(rel)
		seen[pkg] = true
		if layerOf(pkg) == "" {
			t.Errorf("%s: the package belongs to no layer", pkg)
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		if strings.HasPrefix(pkg, "pki/") && !strings.HasSuffix(path, "_test.go") {
			checkClock(t, path, file)
		}
		for _, i := range file.Imports {
			checkImport(t, path, pkg, strings.Trim(i.Path.Value, `"`))
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if len(seen) < 20 {
		t.Errorf("only %d packages were found: the test looks in the wrong place", len(seen))
	}
}

// checkClock looks for what asks the machine for the time.
func checkClock(t *testing.T, path string, file *ast.File) {
	t.Helper()
	ast.Inspect(file, func(n ast.Node) bool {
		if s, ok := n.(*ast.SelectorExpr); ok {
			if x, ok := s.X.(*ast.Ident); ok && x.Name == "time" &&
				slices.Contains([]string{"Now", "Since", "Until", "After", "Tick", "Sleep", "NewTimer"}, s.Sel.Name) {
				t.Errorf("%s asks for time.%s: the core is told the time", path, s.Sel.Name)
			}
		}
		return true
	})
}

// longestLine is what fits beside something else. A tab counts as four. Struct tags and
// examples of commands cannot be broken.
const longestLine = 120

func TestLinesFit(t *testing.T) {
	root := filepath.Join("..", "..")
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for n, line := range strings.Split(string(data), "\n") {
			if w := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")); w > longestLine &&
				!strings.Contains(line, "`toml:") && !strings.Contains(line, "`json:") && !strings.Contains(line, "  ironseal ") {
				t.Errorf("%s:%d has %d columns", path, n+1, w)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// Bounds on what a reader can take at once, tests left out: lines of a file and of a function. Packages have
// no bound: they split by meaning. A table of the program may be as long as what it lists.
const (
	mostFile     = 500
	mostFunction = 60
)

var tables = []string{"pki/finding/registry.go"}

func TestFilesAndFunctionsAreSmall(t *testing.T) {
	root := filepath.Join("..", "..")
	seen := 0
	fset := token.NewFileSet()
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(fset, path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		seen++
		name := filepath.ToSlash(strings.TrimPrefix(path, root+string(filepath.Separator)))
		if n := fset.File(file.Pos()).LineCount(); n > mostFile && !slices.Contains(tables, name) {
			t.Errorf("%s has %d lines: split it by meaning", name, n)
		}
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if n := fset.Position(d.End()).Line - fset.Position(d.Pos()).Line + 1; ok && n > mostFunction {
				t.Errorf("%s: %s has %d lines, and a function fits a screen", fset.Position(f.Pos()), f.Name.Name, n)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if seen < 200 {
		t.Errorf("the test saw %d files: it looks in the wrong place", seen)
	}
}

func checkImport(t *testing.T, path, pkg, imported string) {
	t.Helper()
	test := strings.HasSuffix(path, "_test.go")
	if own, ok := strings.CutPrefix(imported, "ironseal/"); ok {
		from, to := layerOf(pkg), layerOf(own)
		switch {
		case own == "pki/specimen" && !test && pkg != "internal/growth":
			t.Errorf("%s imports %s, which is for tests", path, own)
		case from == to || slices.Contains(layers[from], to) || test && slices.Contains(forTests, from):
		default:
			t.Errorf("%s imports %s: the layer %s may import only %s", path, own, from, strings.Join(layers[from],
				", "))
		}
		if strings.HasPrefix(own,
			"internal/store/sql") && !test && from != "internal/store" && from != "internal/estate" {
			t.Errorf("%s imports %s: which database keeps the records is decided in internal/estate alone", path, own)
		}
		return
	}
	if slices.Contains(databases, imported) && !strings.HasPrefix(pkg, "internal/store") && !test {
		t.Errorf("%s imports %s: a database is spoken to in internal/store alone", path, imported)
	}
	if !strings.HasPrefix(pkg, "pki/") || test || pkg == "pki/specimen" || slices.Contains(allowed, imported) {
		return
	}
	for _, o := range outside {
		if imported == o || strings.HasPrefix(imported, o+"/") {
			t.Errorf("%s imports %s: the core knows nothing of the world outside", path, imported)
		}
	}
}

// databases are the packages by which a database is spoken to.
var databases = []string{"database/sql", "database/sql/driver", "modernc.org/sqlite"}

// The architecture page has the same table of layers.
func TestTheArchitecturePageAgrees(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "architecture.md"))
	if err != nil {
		t.Fatal(err)
	}
	_, table, found := strings.Cut(string(page), "| layer | may import |\n|---|---|\n")
	if !found {
		t.Fatal("the page has no table of layers")
	}
	told := map[string][]string{}
	for _, line := range strings.Split(table, "\n") {
		cells := strings.Split(strings.ReplaceAll(line, "`", ""), "|")
		if len(cells) != 4 {
			break
		}
		list := strings.FieldsFunc(cells[2], func(r rune) bool { return r == ',' || r == ' ' })
		slices.Sort(list)
		told[strings.TrimSpace(cells[1])] = list
	}
	for layer, may := range layers {
		t.Run(layer, func(t *testing.T) {
			if layer == "internal/growth" || layer == "internal/walls" || layer == "internal/peers" { // tests alone
				return
			}
			want := slices.Sorted(slices.Values(may))
			if have, there := told[layer]; !there || !slices.Equal(have, want) {
				t.Errorf("%s: the page says %v, and %v is checked", layer, have, want)
			}
			delete(told, layer)
		})
	}
	for layer := range told {
		t.Errorf("the page has the layer %s, which is not checked", layer)
	}
	if n := strings.Count(string(page), "\n"); n > 250 {
		t.Errorf("the page has %d lines, and a newcomer reads 250", n)
	}
}
