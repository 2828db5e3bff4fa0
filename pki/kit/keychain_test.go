package kit

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/pki/trust"
)

// keychain stands in for the command of macOS: it keeps what was added in a file, notes what
// it was asked, and refuses what the file refuse names.
const keychain = `#!/bin/sh
echo "$*" >>"$HOME/asked"
db=$HOME/keychain
[ "$(cat "$HOME/refuse")" = "$1" ] && exit 1
case $1 in
find-certificate) while read -r sum; do
	printf 'SHA-256 hash: %s\nSHA-1 hash: 00\nkeychain: "x"\n' "$(echo "$sum" | tr a-f A-F)"
done <"$db" ;;
add-trusted-cert) for last; do :; done; sha256sum "$last" | cut -d ' ' -f 1 >>"$db" ;;
remove-trusted-cert) [ -r "$3" ] ;;
delete-certificate) grep -q "$3" "$db" && grep -v "$3" "$db" >"$db.new"; mv "$db.new" "$db" ;;
*) exit 2 ;;
esac
`

// The script for macOS does its work by the system's own command alone; a stand-in notes what
// was asked.
func TestTheKeychainScript(t *testing.T) {
	j := hostile(t)
	unpacked(t, "macos", j, func(Platform, string) {}).shellcheck()
	x := unpacked(t, "macos", j, func(p Platform, dir string) { p.Values["state"] = filepath.Join(dir, "state") })
	bin := x.at("bin")
	if err := os.Mkdir(bin, 0o755); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"security": keychain, "id": "#!/bin/sh\ncat \"$HOME/id\"\n",
		"shasum": "#!/bin/sh\nsha256sum \"$3\"\n"} {
		if err := os.WriteFile(filepath.Join(bin, name), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	t.Setenv("HOME", x.dir)
	theirs := strings.Repeat("ab", 32) + "\n"
	var sums []string
	for _, a := range j.Set.Anchors {
		sums = append(sums, fmt.Sprintf("%x", a.Certificate.SHA256()))
	}
	for _, shell := range shells(t) {
		x.write("keychain", []byte(theirs))
		x.write("asked", nil)
		x.write("refuse", nil)
		x.write("id", []byte("501\n"))
		if out := x.run(shell, 1, "install"); !strings.Contains(out, "sudo sh trust.sh install") {
			t.Error(out)
		}
		x.run(shell, 0, "install", "--dry-run")
		x.run(shell, 4, "check", "--report", x.at("report"))
		if x.read("keychain") != theirs || len(x.report().Missing) != 2 {
			t.Error("a look has changed the keychain, or its report is wrong")
		}
		x.write("id", []byte("0\n"))
		x.run(shell, 0, "install")
		if got := x.read("keychain"); got != theirs+strings.Join(sums, "\n")+"\n" {
			t.Error(got)
		}
		if !strings.Contains(x.read("asked"), "add-trusted-cert -p ssl -d -r trustRoot -k "+
			"/Library/Keychains/System.keychain ") {
			t.Error(x.read("asked"))
		}
		x.write("asked", nil)
		if out := x.run(shell, 0, "install"); !strings.Contains(out, "nothing to do") ||
			strings.Contains(x.read("asked"), "add-") {
			t.Error(out)
		}
		x.run(shell, 0, "check", "--report", x.at("report"))
		if r := x.report(); len(r.Missing) != 0 || r.Platform != "macos" {
			t.Errorf("%+v", r)
		}
		x.run(shell, 0, "remove")
		if x.read("keychain") != theirs {
			t.Error(x.read("keychain"))
		}
		x.write("refuse", []byte("delete-certificate"))
		x.run(shell, 0, "remove") // nothing is there
		x.write("refuse", []byte("add-trusted-cert"))
		if out := x.run(shell, 1, "install"); !strings.Contains(out, "as it was") || x.read("keychain") != theirs {
			t.Error(out, x.read("keychain"))
		}
	}
	x.write("refuse", nil)
	x.write("keychain", []byte(theirs+sums[0]+"\n")) // somebody else put one of them there before
	x.run(shells(t)[0], 0, "install")
	if out := x.run(shells(t)[0], 0, "remove"); !strings.Contains(out, "leave") ||
		x.read("keychain") != theirs+sums[0]+"\n" {
		t.Errorf("a root of somebody else is taken out: %s\n%s", out, x.read("keychain"))
	}
	x.write("keychain", []byte(theirs))
	var file string
	for _, f := range x.files {
		if strings.HasSuffix(f.Name, ".cer") {
			file = f.Name // the last: what was put there before it goes again
		}
	}
	x.write("kit/"+file, []byte("another"))
	if x.run(shells(t)[0], 1, "install"); x.read("keychain") != theirs {
		t.Error("a kit that was changed is installed by half:", x.read("keychain"))
	}
}

// A root that is trusted for everything is trusted so; another for its purposes alone.
func TestKeychainPurposes(t *testing.T) {
	j := hostile(t)
	j.Set.Anchors[0].Purposes = trust.Purposes()
	j.Set.Anchors[1].Purposes = []trust.Purpose{trust.Servers, trust.Clients, trust.Mail}
	text := unpacked(t, "macos", j, func(Platform, string) {}).read("kit/trust.sh")
	for i, ending := range []string{"\n", " ssl smime\n"} {
		if !strings.Contains(text, fmt.Sprintf("%x", j.Set.Anchors[i].Certificate.SHA256())+ending) {
			t.Errorf("anchor %d: %s", i, text)
		}
	}
}
