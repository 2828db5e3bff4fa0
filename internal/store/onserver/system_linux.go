package onserver

import (
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
)

// asUser lets the server run as someone else where the tests are run by root, which it refuses.
func asUser() *syscall.SysProcAttr {
	attr := &syscall.SysProcAttr{Setpgid: true}
	if who := owner(); who != nil {
		attr.Credential = who
	}
	return attr
}

func owner() *syscall.Credential {
	if os.Getuid() != 0 {
		return nil
	}
	u, err := user.Lookup("nobody")
	if err != nil {
		return nil
	}
	uid, errU := strconv.ParseUint(u.Uid, 10, 32)
	gid, errG := strconv.ParseUint(u.Gid, 10, 32)
	if errU != nil || errG != nil {
		return nil
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
}

// folder makes the server's folder. Its name is short: that of a socket is bounded.
func folder() (string, error) {
	dir, err := os.MkdirTemp("/dev/shm", "pg")
	if err != nil {
		if dir, err = os.MkdirTemp("/tmp", "pg"); err != nil {
			return "", err
		}
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return "", err
	}
	if who := owner(); who != nil {
		return dir, os.Chown(dir, int(who.Uid), int(who.Gid))
	}
	return dir, nil
}

// crash ends the server and all its children at once.
func crash(cmd *exec.Cmd) {
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // it may have ended by itself
	_ = cmd.Wait()
}
