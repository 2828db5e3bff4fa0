package describe

import (
	"bufio"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"ironseal/pki/bundle"
	"ironseal/pki/specimen"
)

// The corpus is a directory of request and container files, good and hostile.
// expected.txt says of each what it must give: its objects with the codes of
// their findings, or "error:" and words that the error must have. It is made by
// TestMakeCorpus, whose expectations are written by hand.
const corpus = "testdata/corpus"

// verdict says what a file gives, in the form of expected.txt.
func verdict(data []byte) string {
	c, err := bundle.Read(data)
	if err != nil {
		return "error: " + err.Error()
	}
	var out []string
	for _, o := range c.Objects {
		d, err := Any(o, specimen.Now)
		if err != nil {
			out = append(out, "error: "+err.Error())
			continue
		}
		var codes []string
		for _, f := range d.Findings {
			if i := sort.SearchStrings(codes, string(f.Code)); i == len(codes) || codes[i] != string(f.Code) {
				codes = append(codes[:i], append([]string{string(f.Code)}, codes[i:]...)...)
			}
		}
		out = append(out, strings.TrimSpace(d.Kind+" "+strings.Join(codes, " ")))
	}
	for _, p := range c.Problems {
		out = append(out, "error: "+p.Error())
	}
	return strings.Join(out, "; ")
}

func TestCorpus(t *testing.T) {
	f, err := os.Open(filepath.Join(corpus, "expected.txt"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	count := 0
	for lines := bufio.NewScanner(f); lines.Scan(); {
		name, want, ok := strings.Cut(lines.Text(), "\t")
		if !ok {
			t.Fatalf("expected.txt: %q", lines.Text())
		}
		data, err := os.ReadFile(filepath.Join(corpus, name))
		if err != nil {
			t.Fatal(err)
		}
		count++
		if got := verdict(data); !meets(got, want) {
			t.Errorf("%s\n gives %s\n want  %s", name, got, want)
		}
	}
	files, err := os.ReadDir(corpus)
	if err != nil || count < 150 || len(files) != count+1 {
		t.Errorf("%d files are expected, %d are there: %v", count, len(files)-1, err)
	}
}

// meets compares part by part; an expected error needs only its words.
func meets(got, want string) bool {
	g, w := strings.Split(got, "; "), strings.Split(want, "; ")
	if strings.HasPrefix(want, "error: ") && len(w) == 1 {
		return strings.HasPrefix(got, "error: ") && strings.Contains(got, strings.TrimPrefix(want, "error: "))
	}
	if len(g) != len(w) {
		return false
	}
	for i := range g {
		if words, isError := strings.CutPrefix(w[i], "error: "); isError && !strings.Contains(g[i], words) ||
			!isError && g[i] != w[i] {
			return false
		}
	}
	return true
}
