package term

import (
	"os"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"
)

// ParentShell is the shell from which the program was started: the nearest above that is one.
func ParentShell() Shell {
	running := map[uint32]windows.ProcessEntry32{}
	list, err := windows.CreateToolhelp32Snapshot(windows.TH32CS_SNAPPROCESS, 0)
	if err != nil {
		return Command
	}
	defer windows.CloseHandle(list)
	p := windows.ProcessEntry32{Size: uint32(unsafe.Sizeof(windows.ProcessEntry32{}))}
	for err = windows.Process32First(list, &p); err == nil; err = windows.Process32Next(list, &p) {
		running[p.ProcessID] = p
	}
	at := uint32(os.Getpid())
	for range 8 { // a number may be given again to a process below: no way leads on for ever
		p, known := running[at]
		if !known {
			break
		}
		switch strings.ToLower(windows.UTF16ToString(p.ExeFile[:])) {
		case "cmd.exe":
			return Command
		case "powershell.exe", "pwsh.exe", "powershell_ise.exe":
			return PowerShell
		case "bash.exe", "sh.exe", "zsh.exe":
			return POSIX
		}
		at = p.ParentProcessID
	}
	return Command
}
