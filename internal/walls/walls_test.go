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

// order lists the packages from the ground up: a package may import only what
// stands before it.
var order = []string{
	"pki/runes", "pki/label", "pki/journal", "pki/coprime", "pki/rc2", "pki/finding", "pki/dn", "pki/san", "pki/span",
	"pki/ber",
	"pki/key", "pki/pbes", "pki/pkcs",
	"pki/ext", "pki/point",
	"pki/cert", "pki/bundle",
	"pki/request", "pki/strict", "pki/sheet", "pki/template",
	"pki/hierarchy", "pki/issue", "pki/path", "pki/renewal", "pki/revocation",
	"pki/ocsp", "pki/standing",
	"pki/client", "pki/handover",
	"pki/receiver", "pki/relate", "pki/trust", "pki/kit", "pki/pair", "pki/endpoint",
	"pki/describe", "pki/specimen",
	"internal/failure", "internal/disk", "internal/parallel", "internal/underway",
	"internal/records/sqlite", "internal/records/lineage",
	"internal/records/factors", "internal/records",
	"internal/custody", "internal/fetch", "internal/probe", "internal/estate",
	"internal/act/doubt",
	"internal/act/authorities", "internal/act/delivery", "internal/act/intake", "internal/act/signing",
	"internal/act/passphrases",
	"internal/act/trusting", "internal/act/live", "internal/act/parties", "internal/act/handouts",
	"internal/act/revoking", "internal/act/listing", "internal/act/evidence",
	"internal/act/elsewhere", "internal/act/renewing", "internal/act/machine",
	"internal/act/publishing", "internal/act/accepting", "internal/act/looking",
	"internal/act/responding", "internal/act/incidents",
	"internal/act/carrying", "internal/act/overview",
	"internal/act/transition", "internal/act/safekeeping",
	"internal/act/checking", "internal/act", "internal/serve",
	"internal/view", "internal/board", "internal/demo", "internal/term", "internal/chart", "internal/cli/session",
	"internal/cli/template", "internal/cli/receiver", "internal/cli/courier", "internal/cli/sign",
	"internal/cli/request",
	"internal/cli/changeover", "internal/cli/certificate", "internal/cli/authority", "internal/cli/files",
	"internal/cli/probing", "internal/cli/party", "internal/cli/revocation", "internal/cli/incident",
	"internal/cli/upkeep", "internal/cli/trust", "internal/cli", "cmd/ironseal",
	"internal/growth", "internal/walls", "internal/peers",
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
		at := slices.Index(order, pkg)
		if at < 0 {
			t.Errorf("%s: the package stands nowhere in the order of walls", pkg)
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
			checkImport(t, path, pkg, at, strings.Trim(i.Path.Value, `"`))
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

func checkImport(t *testing.T, path, pkg string, at int, imported string) {
	t.Helper()
	test := strings.HasSuffix(path, "_test.go")
	if own, ok := strings.CutPrefix(imported, "ironseal/"); ok {
		to := slices.Index(order, own)
		switch {
		case own == "pki/specimen" && !test:
			t.Errorf("%s imports %s, which is for tests", path, own)
		case own == "pki/specimen" || own == pkg && test || to >= 0 && to < at:
		default:
			t.Errorf("%s imports %s, which stands above it", path, own)
		}
		return
	}
	if !strings.HasPrefix(pkg, "pki/") || test {
		return
	}
	if pkg == "pki/specimen" || slices.Contains(allowed, imported) {
		return
	}
	for _, o := range outside {
		if imported == o || strings.HasPrefix(imported, o+"/") {
			t.Errorf("%s imports %s: the core knows nothing of the world outside", path, imported)
		}
	}
}
