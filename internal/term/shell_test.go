package term

import "testing"

// A printed command line is one that the shell takes as it is.
func TestCommandLinesSuitTheShell(t *testing.T) {
	for _, c := range []struct {
		shell           Shell
		word, set, line string
	}{
		{POSIX, `'C:\Tern Bay\it'\''s 100%'`, `export A='C:\Tern Bay\it'\''s 100%'`, `cd /tmp/a && ironseal due`},
		{Command, `"C:\Tern Bay\it's 100%"`, `set "A=C:\Tern Bay\it's 100%"`, `cd /d /tmp/a && ironseal due`},
		{PowerShell, `'C:\Tern Bay\it''s 100%'`, `$env:A = 'C:\Tern Bay\it''s 100%'`, `cd /tmp/a; ironseal due`},
	} {
		t.Run(c.word, func(t *testing.T) {
			const path = `C:\Tern Bay\it's 100%`
			if got := c.shell.Word(path); got != c.word {
				t.Errorf("%s: word %s, want %s", c.shell, got, c.word)
			}
			if got := c.shell.Set("A", path); got != c.set {
				t.Errorf("%s: variable %s, want %s", c.shell, got, c.set)
			}
			if got := c.shell.Then(c.shell.Go("/tmp/a"), "ironseal due"); got != c.line {
				t.Errorf("%s: line %s, want %s", c.shell, got, c.line)
			}
			if got := c.shell.Word("../out"); got != "../out" {
				t.Errorf("%s: %s needs no quotes", c.shell, got)
			}
		})
	}
	if got := Command.Word(`C:\certs\a.pem`); got != `C:\certs\a.pem` {
		t.Error(got)
	}
}
