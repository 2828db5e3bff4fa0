package main

import (
	"fmt"
	"math"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"
)

// BenchmarkGrowth does what an administrator does on estates that grow tenfold, as
// processes, and prints how the time grows: with the power of the size, in which 1 is
// linear and 0 is flat. GROWTH sets the largest size; 100,000 when it is not set.
func BenchmarkGrowth(b *testing.B) {
	largest := 100_000
	if n, err := strconv.Atoi(os.Getenv("GROWTH")); err == nil {
		largest = n
	}
	before := map[string]float64{}
	for size := 1000; size <= largest; size *= 10 {
		p := harbour(b)
		p.file("../requests.pem", bulkRequests(b, size))
		var rows strings.Builder
		rows.WriteString("host,names\n")
		for i := range size / 10 {
			fmt.Fprintf(&rows, "buoy-%d.ternbay.example,\n", i)
		}
		p.file("../buoys.csv", []byte(rows.String()))
		for _, do := range []struct{ name, args string }{
			{"receive", "request receive ../requests.pem"},
			{"request-list", "request list"},
			{"sign-all", "sign --all --template web-server --by services --yes"},
			{"certificate-list", "certificate list"},
			{"certificate-list-json", "certificate list --json"},
			{"certificate-list-name", "certificate list --name host-77"},
			{"certificate-show", "certificate show R7"},
			{"due", "due --within 3y"},
			{"status", "estate status"},
			{"check", "estate check"},
			{"draft-a-tenth", "request draft --manifest ../buoys.csv --out ../drafts"},
		} {
			b.Run(fmt.Sprintf("%s/%d", do.name, size), func(b *testing.B) {
				took, memory := p.measured(b, strings.Fields(do.args)...)
				b.ReportMetric(took, "s")
				b.ReportMetric(memory, "MB")
				if was, ok := before[do.name]; ok {
					b.ReportMetric(math.Log10(took/was), "power")
				}
				before[do.name] = took
				b.ReportMetric(0, "ns/op")
			})
		}
	}
}

// measured runs the program once, and returns seconds and megabytes.
func (p place) measured(b *testing.B, args ...string) (seconds, megabytes float64) {
	b.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = p.dir, append(os.Environ(), p.env...)
	forgetMemory() // or the program's would be no less than this one's
	begin := time.Now()
	if out, err := cmd.Output(); err != nil {
		b.Fatalf("%v: %v\n%s", args, err, out)
	}
	seconds = time.Since(begin).Seconds()
	return seconds, memoryOf(cmd.ProcessState)
}
