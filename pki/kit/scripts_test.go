package kit

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"
)

// trial is a kit that was unpacked beside a store of its own.
type trial struct {
	t          *testing.T
	dir, store string
	files      []File
}

// unpacked packs a platform, with values of its own, and puts it into a folder.
func unpacked(t *testing.T, name string, j Job, values func(p Platform, dir string)) trial {
	t.Helper()
	p, err := Parse(name, []byte(Starter(name)))
	if err != nil {
		t.Fatal(err)
	}
	x := trial{t: t, dir: t.TempDir()}
	x.store = filepath.Join(x.dir, "store")
	values(p, x.dir)
	if x.files, _, err = p.Pack(j); err != nil {
		t.Fatal(err)
	}
	for _, d := range []string{x.at("kit"), x.store} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for _, f := range x.files {
		x.write("kit/"+f.Name, f.Data)
	}
	return x
}

func (x trial) at(path string) string { return filepath.Join(x.dir, path) }

func (x trial) write(path string, data []byte) {
	x.t.Helper()
	if err := os.WriteFile(x.at(path), data, 0o644); err != nil {
		x.t.Fatal(err)
	}
}

func (x trial) read(path string) string {
	x.t.Helper()
	data, err := os.ReadFile(x.at(path))
	if err != nil {
		x.t.Fatal(err)
	}
	return string(data)
}

// run runs the script in a shell.
func (x trial) run(shell []string, want int, args ...string) string {
	x.t.Helper()
	cmd := exec.Command(shell[0], slices.Concat(shell[1:], []string{x.at("kit/trust.sh")}, args)...)
	out, _ := cmd.CombinedOutput()
	if got := cmd.ProcessState.ExitCode(); got != want {
		x.t.Errorf("%s %v: exit status %d, want %d\n%s", shell, args, got, want, out)
	}
	return string(out)
}

// report reads what the script reported, as the command that takes it in does.
func (x trial) report() Report {
	x.t.Helper()
	list, err := ReadReports([]byte(x.read("report")), time.Now())
	if err != nil || len(list) != 1 {
		x.t.Fatalf("%v %+v", err, list)
	}
	return list[0]
}

// shells are those that are here; under CI none may be missing. The scripts are for systems that have one.
func shells(t *testing.T) (out [][]string) {
	t.Helper()
	if runtime.GOOS == "windows" {
		t.Skip("these scripts are for other systems")
	}
	for _, shell := range [][]string{{"dash"}, {"busybox", "sh"}, {"sh"}} {
		if _, err := exec.LookPath(shell[0]); err == nil {
			out = append(out, shell)
		} else if os.Getenv("CI") == "true" {
			t.Errorf("%s is missing", shell[0])
		}
	}
	return out
}

func (x trial) shellcheck() {
	x.t.Helper()
	if runtime.GOOS == "windows" {
		return // these scripts are for other systems
	}
	if _, err := exec.LookPath("shellcheck"); err == nil {
		if out, err := exec.Command("shellcheck", "-s", "sh", x.at("kit/trust.sh")).CombinedOutput(); err != nil {
			x.t.Errorf("%s", out)
		}
	} else if os.Getenv("CI") == "true" {
		x.t.Error("shellcheck is missing")
	}
}

// The script of each family passes shellcheck, and does its work in the shells of small
// systems: it installs, is harmless twice, tells what is stale, and takes out nothing but
// its own. A stand-in for the family's update command notes what was asked.
func TestTheStoreScript(t *testing.T) {
	j := hostile(t)
	for _, family := range []string{"debian", "redhat", "suse", "alpine", "arch"} {
		t.Run(family, func(t *testing.T) {
			var asked []string
			x := unpacked(t, family, j, func(p Platform, dir string) {
				for _, k := range []string{"update", "update-after-removal"} {
					if p.Values[k] != "" {
						first, _, _ := strings.Cut(strings.TrimSpace(p.Values[k]), "\n")
						asked = append(asked, first)
						p.Values[k] = "cat " + dir + "/store/*." + p.Values["ending"] + " >" + dir + "/bundle; echo '" +
							first + "' >>" + dir + "/asked"
					}
				}
				p.Values["store"], p.Values["bundle"] = filepath.Join(dir, "store"), filepath.Join(dir, "bundle")
			})
			unpacked(t, family, j, func(Platform, string) {}).shellcheck()
			for _, shell := range shells(t) {
				x.storeTrial(shell, family, j)
			}
			for _, a := range asked {
				if !strings.Contains(x.read("asked"), a+"\n") {
					t.Errorf("%q was never run: %s", a, x.read("asked"))
				}
			}
		})
	}
}

func (x trial) storeTrial(shell []string, family string, j Job) {
	x.t.Helper()
	var ours []string
	ending := ""
	for _, f := range x.files {
		if strings.HasPrefix(f.Name, j.Mark+"_partners_") {
			ours, ending = append(ours, f.Name), filepath.Ext(f.Name)
		}
	}
	x.write("store/theirs"+ending, []byte("not ours\n"))
	x.write("store/"+j.Mark+"_partners_older-0000"+ending, []byte("an earlier root\n"))
	x.write("store/"+j.Mark+"_own_other-0000"+ending, []byte("of another set\n"))
	x.run(shell, 2)
	x.run(shell, 2, "instal")
	if out := x.run(shell, 4, "check"); strings.Count(out, "missing") != 2 || strings.Count(out, "stale") != 1 ||
		!strings.Contains(out, "stale    "+j.Mark+"_partners_older") {
		x.t.Error(out)
	}
	x.run(shell, 0, "install", "--dry-run")
	if _, err := os.Stat(filepath.Join(x.store, ours[0])); err == nil {
		x.t.Error("a dry run installed")
	}
	x.run(shell, 0, "install", "--report", x.at("report"))
	if out := x.run(shell, 0, "check"); strings.Count(out, "there    ") != 2 {
		x.t.Error(out)
	}
	if out := x.run(shell, 0, "install"); !strings.Contains(out, "nothing to do") {
		x.t.Error(out)
	}
	if r := x.report(); r.Platform != family || r.Act != "install" || len(r.SHA256) != 2 || len(r.Missing) != 0 {
		x.t.Errorf("%+v", r)
	}
	x.write("store/"+ours[1], []byte("changed by hand\n"))
	out := x.run(shell, 4, "check", "--report", x.at("report"))
	if !strings.Contains(out, "differs  "+ours[1]) {
		x.t.Error(out)
	}
	changed := strings.TrimSuffix(ours[1], ending)
	if r := x.report(); len(r.Missing) != 1 || !strings.HasSuffix(changed, r.Missing[0][:8]) {
		x.t.Errorf("%+v", r)
	}
	out = x.run(shell, 0, "remove", "--report", x.at("report"))
	if !strings.Contains(out, "leave "+x.store+"/"+ours[1]) {
		x.t.Error(out)
	}
	if r := x.report(); len(r.Missing) != 2 {
		x.t.Errorf("%+v", r)
	}
	if err := os.Remove(filepath.Join(x.store, ours[1])); err != nil {
		x.t.Error(err)
	}
	if left, err := os.ReadDir(x.store); err != nil || len(left) != 3 {
		x.t.Errorf("%v %v", left, err)
	}
}

// Programs that read a bundle get one with the public roots beside ours; two sets' kits share
// it, and what one takes away leaves the other's.
func TestTheBundleScript(t *testing.T) {
	j := hostile(t)
	for _, name := range []string{"node", "python", "curl", "git", "go"} {
		t.Run(name, func(t *testing.T) {
			var variables []string
			x := unpacked(t, name, j, func(p Platform, dir string) {
				variables = strings.Fields(p.Values["variables"])
				p.Values["dir"], p.Values["profiles"] = dir+"/bundles", dir+"/store"
				p.Values["system"] = dir + "/none " + dir + "/public.pem"
			})
			x.write("public.pem", []byte("a public root\n"))
			x.shellcheck()
			for _, shell := range shells(t) {
				x.bundleTrial(shell, name, variables, j)
			}
		})
	}
}

func (x trial) bundleTrial(shell []string, name string, variables []string, j Job) {
	x.t.Helper()
	whole, profile := "bundles/"+j.Mark+"_all."+name+".pem", "store/"+j.Mark+"-"+name+".sh"
	x.run(shell, 2, "instal")
	x.run(shell, 4, "check")
	x.run(shell, 0, "install", "--dry-run")
	if _, err := os.Stat(x.at("bundles")); err == nil {
		x.t.Error("a dry run installed")
	}
	x.run(shell, 0, "install", "--report", x.at("report"))
	if r := x.report(); r.Platform != name || len(r.SHA256) != 2 || len(r.Missing) != 0 {
		x.t.Errorf("%+v", r)
	}
	public := name != "node"
	if text := x.read(whole); strings.Contains(text, "a public root") != public ||
		!strings.HasSuffix(text, x.read("kit/roots.pem")) {
		x.t.Errorf("the bundle: %s", text)
	}
	x.run(shell, 0, "check")
	if out := x.run(shell, 0, "install"); !strings.Contains(out, "nothing to do") {
		x.t.Error(out)
	}
	// What a shell reads says where the bundle is.
	for _, v := range variables {
		out, err := exec.Command(shell[0], slices.Concat(shell[1:], []string{"-c", ". '" + x.at(profile) +
			"'; printf %s \"$" + v + "\""})...).Output()
		if err != nil || string(out) != x.at(whole) {
			x.t.Errorf("%s is %q: %v", v, out, err)
		}
	}
	if public {
		x.write("public.pem", []byte("a public root, and another\n"))
		if out := x.run(shell, 4, "check"); !strings.Contains(out, "changed since") {
			x.t.Error(out)
		}
		x.run(shell, 0, "install")
		x.run(shell, 0, "check")
		x.write("public.pem", []byte("a public root\n"))
		x.run(shell, 0, "install")
	}
	x.write("bundles/"+j.Mark+"_own_"+name+".pem", []byte("a root of another set\n"))
	x.run(shell, 0, "install")
	if out := x.run(shell, 0, "remove"); !strings.Contains(out, "keep ") ||
		!strings.Contains(x.read(whole), "a root of another set") || strings.Contains(x.read(whole), "BEGIN") {
		x.t.Errorf("%s%s", out, x.read(whole))
	}
	if err := os.Remove(x.at("bundles/" + j.Mark + "_own_" + name + ".pem")); err != nil {
		x.t.Error(err)
	}
	x.run(shell, 0, "install")
	x.run(shell, 0, "remove")
	for _, gone := range []string{"bundles", profile} {
		if _, err := os.Stat(x.at(gone)); err == nil {
			x.t.Errorf("%s is left", gone)
		}
	}
	x.run(shell, 0, "remove")
}

// The script for Windows cannot run here: its files and fingerprints are those of the kit.
func TestThePowerScriptNamesItsFiles(t *testing.T) {
	x := unpacked(t, "windows", hostile(t), func(Platform, string) {})
	text := x.read("kit/trust.ps1")
	if strings.Contains(text, "@MARK@") || strings.Contains(text, "@ANCHORS@") {
		t.Error("something was not filled in")
	}
	count := 0
	for _, f := range x.files {
		if strings.HasSuffix(f.Name, ".cer") {
			count++
			if !strings.Contains(text, f.Name+" ") {
				t.Errorf("%s is not in the script", f.Name)
			}
		}
	}
	if count != 2 {
		t.Errorf("%d certificates", count)
	}
}

// A step that fails leaves the store as it was.
func TestAFailedInstallIsUndone(t *testing.T) {
	j := hostile(t)
	x := unpacked(t, "debian", j, func(p Platform, dir string) {
		p.Values["store"], p.Values["bundle"] = filepath.Join(dir, "store"), filepath.Join(dir, "bundle")
		p.Values["update"], p.Values["update-after-removal"] = "false", "true"
	})
	for _, f := range x.files {
		if strings.HasSuffix(f.Name, ".crt") {
			x.write("store/"+f.Name, []byte("changed by hand\n"))
			break
		}
	}
	x.write("store/theirs.crt", []byte("not ours\n"))
	before := x.listing()
	for _, shell := range shells(t) {
		if out := x.run(shell, 1, "install"); !strings.Contains(out, "as it was") {
			t.Error(out)
		}
		if now := x.listing(); now != before {
			t.Errorf("%v: the store has changed:\n%s\n%s", shell, before, now)
		}
	}
}

// listing is every file of the store with its content.
func (x trial) listing() (out string) {
	x.t.Helper()
	list, err := os.ReadDir(x.store)
	if err != nil {
		x.t.Fatal(err)
	}
	for _, f := range list {
		out += f.Name() + ": " + x.read("store/"+f.Name()) + "\n"
	}
	return out
}
