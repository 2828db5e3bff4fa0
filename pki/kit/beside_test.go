package kit

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/pki/bundle"
	"ironseal/pki/specimen"
	"ironseal/pki/trust"
)

// stored points a store's script at folders of the test.
func stored(dir string) func(p Platform, _ string) {
	return func(p Platform, _ string) {
		p.Values["store"], p.Values["bundle"] = filepath.Join(dir, "store"), filepath.Join(dir, "bundle")
		if p.Values["update"] != "" {
			p.Values["update"] = "cat " + dir + "/store/*." + p.Values["ending"] + " >" + dir + "/bundle 2>/dev/null " +
				"|| true"
			p.Values["update-after-removal"] = p.Values["update"]
		}
		p.Values["dir"], p.Values["profiles"] = filepath.Join(dir, "private"), filepath.Join(dir, "profiles")
		p.Values["system"] = filepath.Join(dir, "public.pem")
		for _, d := range []string{"store", "profiles"} {
			_ = os.MkdirAll(filepath.Join(dir, d), 0o755)
		}
		_ = os.WriteFile(filepath.Join(dir, "public.pem"), []byte("public roots\n"), 0o644)
	}
}

// scripted are the platforms whose kit has a script for a shell that runs on any system.
func scripted() (out []string) {
	for _, name := range StarterNames() {
		p, err := Parse(name, []byte(Starter(name)))
		if err != nil {
			continue // another test says so
		}
		for _, f := range p.Files {
			if f.Form == "store-script" || f.Form == "bundle-script" {
				out = append(out, name)
			}
		}
	}
	return out
}

// Another certificate under the name of a kit's file is not installed, and nothing is reported of it.
func TestAnotherRootUnderTheNameOfOurs(t *testing.T) {
	shells(t)
	for _, name := range append(scripted(), "macos") {
		t.Run(name, func(t *testing.T) {
			shared := t.TempDir()
			x := unpacked(t, name, hostile(t), stored(shared))
			evil := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Evil", Authority: true})
			for _, f := range x.files {
				if filepath.Ext(f.Name) == ".cer" {
					x.write("kit/"+f.Name, evil.Cert.Raw)
				} else if bytes.Contains(f.Data, []byte("BEGIN CERTIFICATE")) && f.Name != kitScriptName {
					x.write("kit/"+f.Name, bundle.PEM(bundle.Certificate, evil.Cert.Raw))
				}
			}
			for _, act := range []string{"install", "check", "remove"} {
				if out := x.run([]string{"sh"}, 1, act, "--report", x.at("report")); !strings.Contains(out,
					"is not the file of this kit") {
					t.Errorf("%s: %s", act, out)
				}
			}
			if _, err := os.Stat(x.at("report")); err == nil {
				t.Error("it is reported")
			}
			list, err := os.ReadDir(filepath.Join(shared, "store"))
			if _, private := os.Stat(filepath.Join(shared, "private")); err != nil || len(list) > 0 || private == nil {
				t.Errorf("something was installed: %v %v", list, err)
			}
		})
	}
}

const kitScriptName = "trust.sh"

// A strict umask does not make what is installed unreadable to others; what is unreadable is reported,
// and mended by installing again.
func TestAStrictUmask(t *testing.T) {
	shells(t)
	for _, name := range scripted() {
		t.Run(name, func(t *testing.T) {
			shared := t.TempDir()
			x := unpacked(t, name, hostile(t), stored(shared))
			strict := func(want int, act string) string {
				t.Helper()
				cmd := exec.Command("sh", "-c", "umask 077; sh "+x.at("kit/trust.sh")+" "+act)
				out, _ := cmd.CombinedOutput()
				if got := cmd.ProcessState.ExitCode(); got != want {
					t.Errorf("%s: exit status %d, want %d\n%s", act, got, want, out)
				}
				return string(out)
			}
			strict(0, "install")
			var ours []string
			for _, dir := range []string{"store", "private", "profiles"} {
				_ = filepath.Walk(filepath.Join(shared, dir), func(path string, info os.FileInfo, err error) error {
					if err == nil && info.Mode().IsRegular() {
						ours = append(ours, path)
					}
					if err == nil && info.Mode().Perm()&0o004 == 0 {
						t.Errorf("%s is %s", path, info.Mode())
					}
					return nil
				})
			}
			if len(ours) == 0 {
				t.Fatal("nothing was installed")
			}
			strict(0, "check")
			for _, path := range ours {
				if err := os.Chmod(path, 0o640); err != nil {
					t.Fatal(err)
				}
			}
			if out := strict(4, "check"); !strings.Contains(out, "closed") {
				t.Error(out)
			}
			strict(0, "install")
			strict(0, "check")
		})
	}
}

// The kits of two sets are beside each other on one machine, whichever comes and goes first.
func TestTwoSetsStandBesideEachOther(t *testing.T) {
	shells(t)
	first := hostile(t)
	second := hostile(t)
	second.Set.Name = "far-partners"
	second.Set.Anchors = append([]trust.Anchor{first.Set.Anchors[0]}, second.Set.Anchors...) // one is in both
	jobs := map[string]Job{"partners": first, "far-partners": second}
	for _, name := range scripted() {
		for _, order := range [][2]string{{"partners", "far-partners"}, {"far-partners", "partners"}} {
			t.Run(name+", "+order[0]+" first", func(t *testing.T) {
				shared := t.TempDir()
				kits := map[string]trial{}
				for set, j := range jobs {
					kits[set] = unpacked(t, name, j, stored(shared))
				}
				sh := []string{"sh"}
				a, b := kits[order[0]], kits[order[1]]
				a.run(sh, 0, "install")
				b.run(sh, 0, "install")
				a.run(sh, 0, "check")
				b.run(sh, 0, "check")
				a.run(sh, 0, "remove")
				a.run(sh, 4, "check")
				b.run(sh, 0, "check")
				a.run(sh, 0, "install")
				b.run(sh, 0, "remove")
				a.run(sh, 0, "check")
				a.run(sh, 0, "remove")
				for _, dir := range []string{"store", "private", "profiles"} {
					if list, err := os.ReadDir(filepath.Join(shared, dir)); err == nil && len(list) > 0 {
						t.Errorf("left in %s: %v", dir, list)
					}
				}
			})
		}
	}
}

// What is put somewhere by hand has a name or an identifier of its own in each set: otherwise the kit
// of one set takes the place of the other's.
func TestWhatIsCopiedByHandIsNamedForItsSet(t *testing.T) {
	j := hostile(t)
	other := j
	other.Set.Name = "far"
	for platform, where := range map[string]func(files []File) string{
		"chromium": func(files []File) string {
			for _, f := range files {
				if strings.HasSuffix(f.Name, ".json") {
					return f.Name
				}
			}
			return ""
		},
		"kubernetes": func(files []File) string { return between(t, files, "roots.yaml", "\n  name: ", "\n") },
		"macos": func(files []File) string {
			return between(t, files, "roots.mobileconfig", "<integer>1</integer>\n<key>PayloadIdentifier</key>",
				"</plist>")
		},
		"ios": func(files []File) string {
			return between(t, files, "roots.mobileconfig", "<key>PayloadUUID</key>", "</string>")
		},
	} {
		t.Run(platform, func(t *testing.T) {
			p, err := Parse(platform, []byte(Starter(platform)))
			if err != nil {
				t.Fatal(err)
			}
			var names []string
			for _, job := range []Job{j, other} {
				files, _, err := p.Pack(job)
				if err != nil {
					t.Fatal(err)
				}
				names = append(names, where(files))
			}
			if names[0] == "" || names[0] == names[1] {
				t.Errorf("both are %q", names[0])
			}
		})
	}
}

func between(t *testing.T, files []File, name, from, to string) string {
	t.Helper()
	for _, f := range files {
		if f.Name == name {
			_, rest, found := strings.Cut(string(f.Data), from)
			text, _, ends := strings.Cut(rest, to)
			if !found || !ends {
				t.Fatalf("%s: there is no %q", name, from)
			}
			return text
		}
	}
	t.Fatalf("there is no %s", name)
	return ""
}
