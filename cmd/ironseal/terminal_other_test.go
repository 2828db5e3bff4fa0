//go:build !linux

package main

import "os/exec"

// detach gives the program a session without a terminal, where that exists.
func detach(*exec.Cmd) {}
