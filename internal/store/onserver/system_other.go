//go:build !linux

package onserver

import (
	"os"
	"os/exec"
	"syscall"
)

func asUser() *syscall.SysProcAttr { return nil }

func folder() (string, error) { return os.MkdirTemp("", "pg") }

func crash(cmd *exec.Cmd) {
	_ = cmd.Process.Kill() // it may have ended by itself
	_ = cmd.Wait()
}
