package main

import (
	"flag"
	"os/exec"
	"testing"
)

// BenchmarkStart starts the two programs that it is given, an empty one and this one, in
// turn, and reports how many times as long this one takes.
func BenchmarkStart(b *testing.B) {
	if flag.NArg() != 2 {
		b.Skip("run by scripts/bench")
	}
	for _, args := range [][]string{{flag.Arg(0)}, {flag.Arg(1), "version"}} {
		b.Run(args[0], func(b *testing.B) {
			for b.Loop() {
				if err := exec.Command(args[0], args[1:]...).Run(); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
