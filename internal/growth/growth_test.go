package growth

import (
	"bufio"
	"bytes"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// mostGrowth is by how much work may grow when the input doubles: a little more than it, for what sorts.
const mostGrowth = 2.5

// Whatever a stranger sends costs in proportion to its size. The work is counted, not timed: how often the
// statements of the core ran.
func TestWorkGrowsWithTheInput(t *testing.T) {
	dir := t.TempDir()
	program := filepath.Join(dir, "work")
	run := func(name string, args ...string) []byte {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Env = append(os.Environ(), "GOCOVERDIR="+dir)
		var said bytes.Buffer
		cmd.Stderr = &said
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, said.String())
		}
		return out
	}
	for _, part := range []string{"../../pki", "testdata"} { // what is read here the test's result depends on
		err := filepath.WalkDir(part, func(path string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				_, err = os.Stat(path)
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	run("go", "build", "-cover", "-covermode=atomic",
		"-coverpkg=ironseal/pki/...,ironseal/internal/growth/testdata/work",
		"-o", program, "./testdata/work")
	count := func(folder string) (work float64) {
		t.Helper()
		text := filepath.Join(dir, "counted")
		run("go", "tool", "covdata", "textfmt", "-i="+folder, "-o="+text)
		f, err := os.Open(text)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		for in := bufio.NewScanner(f); in.Scan(); {
			if cell := strings.Fields(in.Text()); len(cell) == 3 {
				times, err := strconv.ParseFloat(cell[2], 64)
				if err != nil {
					t.Fatal(err)
				}
				work += times
			}
		}
		return work
	}
	try := func(percent int) {
		for n, name := range strings.Split(strings.TrimSpace(string(run(program, dir, fmt.Sprint(percent)))), "\n") {
			t.Run(name, func(t *testing.T) {
				once := count(filepath.Join(dir, fmt.Sprintf("%d-0", n)))
				twice := count(filepath.Join(dir, fmt.Sprintf("%d-1", n)))
				t.Logf("%.0f and %.0f steps, %.2f times", once, twice, twice/once)
				if once == 0 || twice > mostGrowth*once {
					t.Errorf("at %d percent %.0f steps became %.0f when the input doubled, %.2f times", percent, once,
						twice,
						twice/once)
				}
				for times := range 2 {
					if err := os.RemoveAll(filepath.Join(dir, fmt.Sprintf("%d-%d", n, times))); err != nil {
						t.Error(err)
					}
				}
			})
		}
	}
	try(100)
	long, _ := time.ParseDuration(os.Getenv("IRONSEAL_GENERATE")) // other sizes, for as long as it says
	rounds := 1
	for end := time.Now().Add(long); time.Now().Before(end) && !t.Failed(); rounds++ {
		try(30 + rand.IntN(70))
	}
	t.Logf("%d rounds", rounds)
}
