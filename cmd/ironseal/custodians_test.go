package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/internal/disk"
)

// shared is a place whose root five custodians hold, three of whom open it. Each has a passphrase of their own.
func shared(t *testing.T) (p place, pages []string) {
	t.Helper()
	p = harbour(t)
	return p, divide(p, "shares", "ana,ben,cleo,dag,eve")
}

func divide(p place, dir, among string, more ...string) []string {
	args := []string{"authority", "share", "root", "--need", "3", "--among", among, "--out", "../" + dir, "--pages"}
	for _, who := range strings.Split(among, ",") {
		args = append(args, "--new-passphrase-file", who+"="+p.file("../"+dir+"-"+who+".pass", []byte("of "+who+"\n")))
	}
	out := p.must(append(args, more...)...)
	return strings.Split(out, "\f")
}

func (p place) shares(dir string, who ...string) (args []string) {
	for _, w := range who {
		args = append(args, "--share-file", filepath.Join("..", dir, "root."+w+".share"), "--passphrase-file",
			w+"="+filepath.Join("..", dir+"-"+w+".pass"))
	}
	return args
}

// Three of five custodians renew the root; two cannot. A wrong share is named, and after the key was shared again the
// earlier ones open nothing.
func TestCustodiansOpenAKeyTogether(t *testing.T) {
	t.Parallel()
	p, pages := shared(t)
	if len(pages) != 5 || !strings.Contains(pages[1], "Custodian   ben") {
		t.Fatalf("%d pages:\n%s", len(pages), pages)
	}
	general := []string{"--passphrase-file", "../pass"}
	years := 20
	renew := func(more ...string) result { // the passphrase that was is worth nothing
		years++
		return p.run("", append(append([]string{"authority", "renew", "root", "--same-key", "--yes", "--lifetime",
			fmt.Sprintf("%dy", years)}, general...), more...)...)
	}
	refuse := func(name, want string, more ...string) {
		t.Helper()
		if r := renew(more...); r.code == 0 || !strings.Contains(r.errors, want) {
			t.Errorf("%s: %+v", name, r)
		}
	}
	refuse("none", "Missing: ana, ben, cleo, dag, eve")
	refuse("two", "Missing: cleo, dag, eve", p.shares("shares", "ana", "ben")...)
	refuse("one twice", "there already", p.shares("shares", "ana", "ben", "ana")...)

	page := p.file("../cleo.page", []byte(pages[2]))
	lines := strings.Split(pages[2], "\n")
	for i, l := range lines {
		if trimmed := strings.TrimSpace(l); strings.Count(trimmed, "-") == 6 {
			swap := map[byte]string{'7': "8"}[trimmed[0]]
			if swap == "" {
				swap = "7"
			}
			lines[i] = swap + trimmed[1:]
			break
		}
	}
	mistyped := p.file("../mistyped.page", []byte(strings.Join(lines, "\n")))
	refuse("a mistyped page", "line 1", append(p.shares("shares", "ana", "ben"), "--share-file", mistyped)...)

	if r := renew(append(p.shares("shares", "ana", "eve"), "--share-file", page)...); r.code != 0 {
		t.Fatalf("three custodians: %+v", r)
	}
	p.must("estate", "check")
	p.must(append([]string{"revocations", "publish", "--to", "../public"}, p.shares("shares", "ben", "cleo",
		"dag")...)...)

	t.Run("shared again", func(t *testing.T) {
		p := p
		p.t = t
		divide(p, "later", "ana,ben,finn", p.shares("shares", "ana", "ben", "cleo")...)
		p.must("estate", "check")
		refuse("an earlier share", "earlier division", p.shares("shares", "ana", "ben", "cleo")...)
		refuse("one earlier share among them", "earlier division", append(p.shares("later", "ana", "finn"),
			p.shares("shares", "dag")...)...)
		if r := renew(p.shares("later", "ana", "ben", "finn")...); r.code != 0 {
			t.Errorf("%+v", r)
		}
	})
	t.Run("a share of another authority", func(t *testing.T) {
		p, _ := shared(t)
		refuse := p.run("", append([]string{"authority", "renew", "root", "--same-key", "--yes", "--lifetime", "30y",
			"--share-file", page},
			p.shares("shares", "ana", "ben")...)...)
		if refuse.code == 0 || !strings.Contains(refuse.errors, "another key") {
			t.Errorf("%+v", refuse)
		}
	})
	t.Run("back to a passphrase", func(t *testing.T) {
		p, _ := shared(t)
		p.must(append([]string{"authority", "passphrase", "root", "--new-passphrase-file", "../pass"},
			p.shares("shares", "ana", "ben", "cleo")...)...)
		p.must("authority", "passphrase", "root", "--check")
		p.must("estate", "check")
		if left, _ := filepath.Glob(filepath.Join(p.dir, "keys", "*.shares")); len(left) > 0 {
			t.Errorf("notes are left: %v", left)
		}
	})
	for _, where := range []string{"folder", "records"} {
		t.Run("a backup brings them back, "+where, func(t *testing.T) {
			p, _ := shared(t)
			shares := "shares"
			if where == "records" {
				p.must("authority", "custody", "root", "--to", where)
				p.must("estate", "check")
				divide(p, "again", "ana,ben,finn", p.shares("shares", "ana", "ben", "cleo")...)
				divide(p, "third", "ana,ben,cleo", p.shares("again", "ana", "ben", "finn")...)
				shares = "third"
				if left, _ := filepath.Glob(filepath.Join(p.dir, "keys", "*.shares")); len(left) > 0 {
					t.Errorf("notes are in files: %v", left)
				}
				p.must("estate", "check")
			}
			p.must("estate", "backup", "../kept.backup")
			p.must("estate", "restore", "../kept.backup", "../restored")
			to := p
			to.dir = filepath.Join(p.dir, "..", "restored")
			if r := to.run("", append([]string{"authority", "renew", "root", "--same-key", "--yes", "--lifetime",
				"30y"},
				p.shares(shares, "ana", "ben", "cleo")...)...); r.code != 0 {
				t.Errorf("%+v", r)
			}
			to.must("estate", "check")
		})
	}
	t.Run("what was put together is nowhere", func(t *testing.T) {
		for _, f := range append(mustGlob(t, filepath.Join(p.dir, "..", "shares", "*")),
			mustGlob(t, filepath.Join(p.dir, "keys", "*"))...) {
			if why := disk.Exposed(f); why != "" {
				t.Errorf("%s: %s", f, why)
			}
			data, err := os.ReadFile(f)
			for _, line := range strings.Split(strings.Join(pages, "\n"), "\n") {
				if line = strings.TrimSpace(line); strings.Count(line, "-") == 6 && strings.Contains(string(data),
					line) ||
					err != nil {
					t.Errorf("%s holds a share in the clear: %v", f, err)
				}
			}
		}
	})
}

// Custodians whose shares are sealed to the SSH keys that they have open the key with the files of those.
func TestSharesForSSHKeys(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	var args, keys []string
	for _, who := range []string{"ana", "ben", "cleo"} {
		p.person(who)
		args, keys = append(args, "--to-key", who+"=../"+who+".pub"), append(keys, "../"+who+".key")
	}
	p.must(append([]string{"authority", "share", "root", "--need", "2", "--among", "ana,ben,cleo,dag", "--out",
		"../shares", "--new-passphrase-file", "dag=../pass"}, args...)...)
	renew := func(more ...string) result {
		return p.run("", append([]string{"authority", "renew", "root", "--same-key", "--yes", "--lifetime", "25y",
			"--share-file", "../shares/root.ana.share", "--passphrase-file", "../pass"}, more...)...)
	}
	second := []string{"--share-file", "../shares/root.ben.share"}
	if r := renew(append(second, "--share-key", keys[0])...); r.code == 0 || !strings.Contains(r.errors,
		"--share-key") {
		t.Errorf("ben's key is not given: %+v", r)
	}
	if r := renew("--share-key", keys[0], "--share-key", keys[2]); r.code == 0 ||
		!strings.Contains(r.errors, "Missing: ben, cleo, dag") {
		t.Errorf("one share: %+v", r)
	}
	if r := renew(append(second, "--share-key", keys[1], "--share-key", keys[0])...); r.code != 0 {
		t.Errorf("two of three: %+v", r)
	}
	if r := p.run("", "authority", "renew", "root", "--same-key", "--yes", "--lifetime", "26y", "--share-file",
		"../shares/root.cleo.share", "--share-key", keys[2], "--share-file", "../shares/root.dag.share",
		"--passphrase-file", "../pass"); r.code != 0 {
		t.Errorf("a key and a passphrase: %+v", r)
	}
	if r := p.run("", "authority", "share", "root", "--need", "2", "--among", "ana,ben", "--out", "../x", "--to-key",
		"eve=../ana.pub"); r.code != 2 {
		t.Errorf("a key of nobody: %+v", r)
	}
	p.must("estate", "check")
}

func mustGlob(t *testing.T, pattern string) []string {
	t.Helper()
	list, err := filepath.Glob(pattern)
	if err != nil || len(list) == 0 {
		t.Fatalf("%s: %v", pattern, err)
	}
	return list
}

// Whatever is refused when shares are handed out changes nothing.
func TestSharesThatAreRefused(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	if err := os.Mkdir(filepath.Join(p.dir, "..", "taken"), 0o700); err != nil {
		t.Fatal(err)
	}
	p.file("../taken/root.ana.share", []byte("in the way"))
	for name, args := range map[string]string{
		"one is enough":       "--need 1 --among ana,ben --out ../a",
		"more than there are": "--need 3 --among ana,ben --out ../a",
		"a name twice":        "--need 2 --among ana,ANA --out ../a",
		"a path":              "--need 2 --among ../ana,ben --out ../a",
		"a file in the way":   "--need 2 --among ana,ben --out ../taken",
		"nowhere":             "--need 2 --among ana,ben",
	} {
		t.Run(name, func(t *testing.T) {
			if r := p.run("", append([]string{"authority", "share", "root", "--new-passphrase-file", "../pass"},
				strings.Fields(args)...)...); r.code == 0 {
				t.Errorf("%+v", r)
			}
		})
	}
	p.must("authority", "passphrase", "root", "--check")
	p.must("estate", "check")
}
