//go:build !linux

package main

import "os"

func forgetMemory() {}

// memoryOf is not measured here.
func memoryOf(*os.ProcessState) float64 { return 0 }
