package walls

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// each calls fn for every file of Go that is no test, with its path from the top.
func each(t *testing.T, fn func(path string, file *ast.File, fset *token.FileSet)) {
	t.Helper()
	root, seen := filepath.Join("..", ".."), 0
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		name := filepath.ToSlash(strings.TrimPrefix(path, root+string(filepath.Separator)))
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") ||
			strings.Contains(name, "/testdata/") {
			return err
		}
		fset := token.NewFileSet()
		file, err := parser.ParseFile(fset, path, nil, 0)
		if err == nil {
			seen++
			fn(name, file, fset)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if seen < 200 {
		t.Errorf("the test saw %d files: it looks in the wrong place", seen)
	}
}

// typed is a command line or an option, as a person types it.
var typed = regexp.MustCompile(`\bironseal [a-z][a-z-]+|(^|[ "(])--[a-z]`)

// notTyped are texts below the command line that only look like commands: names in hashes, and the options of
// scripts that come with kits.
var notTyped = []string{"ironseal journal v1\n", "ironseal sheet v"}

// spells are the layers that may spell commands. The scripts of kits have options of their own.
var spells = []string{"internal/cli/", "internal/demo/", "cmd/ironseal/", "pki/kit/", "internal/app/trust/machine/",
	"internal/term/",
	"internal/api/shapes.go"}

// Below the command line nothing spells a command or an option: a next step is data.
func TestOnlyTheCommandLineSpellsCommands(t *testing.T) {
	each(t, func(path string, file *ast.File, fset *token.FileSet) {
		for _, s := range spells {
			if strings.HasPrefix(path, s) {
				return
			}
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if f, ok := n.(*ast.Field); ok && f.Tag != nil {
				return false
			}
			lit, ok := n.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING {
				return true
			}
			text, err := strconv.Unquote(lit.Value)
			if err != nil {
				t.Fatal(err)
			}
			for _, n := range notTyped {
				text = strings.ReplaceAll(text, n, "")
			}
			if found := typed.FindString(text); found != "" {
				t.Errorf("%s spells %q", fset.Position(lit.Pos()), strings.TrimSpace(found))
			}
			return true
		})
	})
}

// No code decides by the words of an error.
func TestNoErrorIsMatchedByText(t *testing.T) {
	matching := map[string]bool{"Contains": true, "HasPrefix": true, "HasSuffix": true, "EqualFold": true,
		"Index": true,
		"Cut":   true, "CutPrefix": true, "CutSuffix": true, "MatchString": true, "FindString": true,
		"FindStringSubmatch": true}
	each(t, func(path string, file *ast.File, fset *token.FileSet) {
		ast.Inspect(file, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.CallExpr:
				f, ok := x.Fun.(*ast.SelectorExpr)
				if ok && matching[f.Sel.Name] && len(x.Args) > 0 && isText(x.Args[0]) {
					t.Errorf("%s matches the text of an error", fset.Position(x.Pos()))
				}
			case *ast.BinaryExpr:
				if (x.Op == token.EQL || x.Op == token.NEQ) && (isText(x.X) || isText(x.Y)) &&
					!isEmpty(x.X) && !isEmpty(x.Y) {
					t.Errorf("%s compares the text of an error", fset.Position(x.Pos()))
				}
			}
			return true
		})
	})
}

// isText reports whether an expression is the text of an error.
func isText(e ast.Expr) bool {
	call, ok := e.(*ast.CallExpr)
	if !ok || len(call.Args) > 0 {
		return false
	}
	f, ok := call.Fun.(*ast.SelectorExpr)
	return ok && f.Sel.Name == "Error"
}

func isEmpty(e ast.Expr) bool {
	lit, ok := e.(*ast.BasicLit)
	return ok && lit.Value == `""`
}
