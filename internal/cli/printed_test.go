package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"ironseal/internal/cli/session"
)

// A command line that is printed anywhere, as a remedy, a next step, an example or in a document, names commands
// and options that there are.
func TestEveryPrintedCommandExists(t *testing.T) {
	top := filepath.Join("..", "..")
	seen := 0
	err := filepath.WalkDir(top, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		var texts []string
		switch {
		case strings.HasSuffix(path, "_test.go") || strings.Contains(filepath.ToSlash(path), "/testdata/"):
		case strings.HasSuffix(path, ".go"):
			texts, err = literals(path)
		case strings.HasSuffix(path, ".md") || strings.HasSuffix(path, ".toml"):
			var data []byte
			data, err = os.ReadFile(path)
			texts = []string{string(data)}
		}
		for _, text := range texts {
			for _, line := range commandsIn(text) {
				seen++
				if why := unknown(line); why != "" {
					t.Errorf("%s: %q: %s", path, line, why)
				}
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if seen < 500 {
		t.Errorf("only %d command lines were found: the test looks in the wrong place", seen)
	}
}

// literals are the texts of a file, those that are put together from pieces whole.
func literals(path string) (out []string, err error) {
	file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
	if err != nil {
		return nil, err
	}
	ast.Inspect(file, func(n ast.Node) bool {
		e, ok := n.(ast.Expr)
		if !ok {
			return true
		}
		text, whole := folded(e)
		if text != "" {
			out = append(out, text)
		}
		return !whole && text == ""
	})
	return out, nil
}

// folded puts a sum of texts together; what is no text in it stands as a word of its own.
func folded(e ast.Expr) (text string, whole bool) {
	switch x := e.(type) {
	case *ast.BasicLit:
		if x.Kind != token.STRING {
			return "", false
		}
		text, err := strconv.Unquote(x.Value)
		return text, err == nil
	case *ast.BinaryExpr:
		a, first := folded(x.X)
		b, second := folded(x.Y)
		if x.Op != token.ADD || !first && !second && a == "" && b == "" {
			return "", false
		}
		if !first && a == "" {
			a = "WORD"
		}
		if !second && b == "" {
			b = " WORD"
		}
		return a + b, first && second
	case *ast.ParenExpr:
		return folded(x.X)
	}
	return "", false
}

var printed = regexp.MustCompile(`ironseal [a-z][^\n` + "`" + `|;→"]*`)

// commandsIn are the command lines in a text, each up to where its sentence goes on.
func commandsIn(text string) []string { return printed.FindAllString(text, -1) }

// unknown says what of a command line there is not; "" where it fits. Words of a sentence that only begins with
// the program's name are no command line.
func unknown(line string) string {
	at := root(&session.Session{}, "")
	words := strings.Fields(line)[1:]
	named := 0
	for _, w := range words {
		next := child(at, strings.Trim(w, ".,:()"))
		if next == nil {
			break
		}
		at, named = next, named+1
	}
	if named == 0 {
		if len(words) > 1 && strings.HasPrefix(words[1], "--") {
			return "there is no such command"
		}
		return ""
	}
	for _, w := range words[named:] {
		if w == "WORD" && len(at.Commands()) > 0 { // which command is decided when it is printed
			return ""
		}
		if strings.HasSuffix(w, ",") { // the sentence goes on
			return ""
		}
		option := strings.TrimRight(strings.Trim(w, "()[]"), ".,:*_'")
		if !strings.HasPrefix(option, "--") || option == "--" || option == "--help" {
			continue
		}
		option, _, _ = strings.Cut(strings.TrimPrefix(option, "--"), "=")
		if at.Flags().Lookup(option) == nil && at.InheritedFlags().Lookup(option) == nil &&
			at.PersistentFlags().Lookup(option) == nil {
			return "there is no option --" + option + " of " + at.CommandPath()
		}
	}
	if len(at.Commands()) > 0 && len(words) > named && regexp.MustCompile(`^[a-z-]+$`).MatchString(words[named]) &&
		strings.Contains(line, " --") {
		return "there is no command " + words[named] + " of " + at.CommandPath()
	}
	return ""
}

func child(of *cobra.Command, name string) *cobra.Command {
	for _, c := range of.Commands() {
		if c.Name() == name || c.HasAlias(name) {
			return c
		}
	}
	return nil
}
