package term

import "strings"

// Shell is the kind of shell that a printed command line is for. The zero value is a POSIX shell.
type Shell string

// The kinds of shell.
const (
	POSIX      Shell = ""
	Command    Shell = "cmd"        // Command Prompt
	PowerShell Shell = "powershell" // 5.1 and 7
)

// bare reports whether a word needs no quotes beside letters, digits and these characters.
func bare(word, also string) bool {
	return word != "" && strings.IndexFunc(word, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(also, r))
	}) < 0
}

// Word writes a path so that the shell takes it for one word.
func (s Shell) Word(path string) string {
	switch s {
	case Command:
		if bare(path, `/\._-+:@`) {
			return path
		}
		return `"` + strings.ReplaceAll(path, `"`, ``) + `"` // no path has such a quote here
	case PowerShell:
		if bare(path, `/\._-+:`) {
			return path
		}
		return "'" + strings.ReplaceAll(path, "'", "''") + "'"
	}
	if bare(path, "/._-+,:@%=") {
		return path
	}
	return "'" + strings.ReplaceAll(path, "'", `'\''`) + "'"
}

// Set is the command that sets a variable of the environment.
func (s Shell) Set(name, value string) string {
	switch s {
	case Command:
		return `set "` + name + "=" + strings.ReplaceAll(value, `"`, ``) + `"`
	case PowerShell:
		return "$env:" + name + " = '" + strings.ReplaceAll(value, "'", "''") + "'"
	}
	return "export " + name + "=" + s.Word(value)
}

// Go is the command that changes to a directory, on another drive too.
func (s Shell) Go(dir string) string {
	if s == Command {
		return "cd /d " + s.Word(dir)
	}
	return "cd " + s.Word(dir)
}

// Then writes commands of which each runs after the one before.
func (s Shell) Then(commands ...string) string {
	if s == PowerShell {
		return strings.Join(commands, "; ") // version 5.1 knows no other way
	}
	return strings.Join(commands, " && ")
}
