//go:build unix

package term

// ParentShell is the shell from which the program was started.
func ParentShell() Shell { return POSIX }
