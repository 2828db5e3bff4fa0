package app_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/transfer"
	"ironseal/pki/label"
)

// A transfer folder may come from anybody. Nothing outside it is read, and
// nothing of it counts before all of it is verified.
func TestHostileTransfers(t *testing.T) {
	t.Parallel()
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	file := func(name string) transfer.FolderFile {
		sum := sha256.Sum256([]byte("secret"))
		return transfer.FolderFile{Name: name, SHA256: hex.EncodeToString(sum[:])}
	}
	good := transfer.Folder{Form: 1, ID: strings.Repeat("ab", 16), Kind: transfer.RequestsFolder,
		From:  "Tern Bay Ferries",
		Files: []transfer.FolderFile{file("a")}}
	with := func(change func(*transfer.Folder)) []byte {
		m := good
		m.Files = append([]transfer.FolderFile(nil), good.Files...)
		change(&m)
		data, err := json.Marshal(m)
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	for what, manifest := range map[string][]byte{
		"a path upward":       with(func(m *transfer.Folder) { m.Files = append(m.Files, file("../secret")) }),
		"an absolute path":    with(func(m *transfer.Folder) { m.Files = append(m.Files, file(secret)) }),
		"a hidden file":       with(func(m *transfer.Folder) { m.Files = append(m.Files, file(".a")) }),
		"a file twice":        with(func(m *transfer.Folder) { m.Files = append(m.Files, file("a")) }),
		"a missing file":      with(func(m *transfer.Folder) { m.Files = append(m.Files, file("b")) }),
		"another hash":        with(func(m *transfer.Folder) { m.Files[0].SHA256 = strings.Repeat("0", 64) }),
		"no identifier":       with(func(m *transfer.Folder) { m.ID = "" }),
		"another kind":        with(func(m *transfer.Folder) { m.Kind = "gifts" }),
		"an endless sender":   with(func(m *transfer.Folder) { m.From = strings.Repeat("x", 1<<20) }),
		"another form":        with(func(m *transfer.Folder) { m.Form = 2 }),
		"an unknown key":      []byte(`{"form":1,"surprise":true}`),
		"no JSON":             []byte("\x00\x01"),
		"deep JSON":           []byte(strings.Repeat("[", 1<<20)),
		"a directory as file": with(func(m *transfer.Folder) { m.Files = append(m.Files, file("dir")) }),
		"an empty name":       with(func(m *transfer.Folder) { m.Files = append(m.Files, file("")) }),
	} {
		t.Run(what, func(t *testing.T) {
			dir := t.TempDir()
			for name, data := range map[string][]byte{transfer.ManifestFile: manifest,
				transfer.TransferCode: []byte(label.Code(sha256.Sum256(manifest))), "a": []byte("secret")} {
				if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
					t.Fatal(err)
				}
			}
			if strings.Contains(what, "directory") {
				if err := os.Mkdir(filepath.Join(dir, "dir"), 0o755); err != nil {
					t.Fatal(err)
				}
			}
			if _, err := transfer.ReadFolder(dir); err == nil {
				t.Errorf("%s: it was taken", what)
			} else if strings.Contains(err.Error(), "%!") {
				t.Errorf("%s: %v", what, err)
			}
		})
	}
}

// What a hostile sender calls a template is not put into a command that the
// person is told to type.
func TestASendersTemplateIsNotTyped(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	for name, want := range map[string]string{"web-server": "web-server", "x; rm -rf ~": "", "nobody-has-it": ""} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			m := transfer.Folder{Form: 1, ID: fmt.Sprintf("%032d", len(name)), Kind: transfer.RequestsFolder,
				From:     "Tern Bay Ferries",
				Template: name, Files: []transfer.FolderFile{}}
			data, err := json.Marshal(m)
			if err != nil {
				t.Fatal(err)
			}
			for file, content := range map[string][]byte{transfer.ManifestFile: data,
				transfer.TransferCode: []byte(label.Code(sha256.Sum256(data)))} {
				if err := os.WriteFile(filepath.Join(dir, file), content, 0o644); err != nil {
					t.Fatal(err)
				}
			}
			folder, err := transfer.ReadFolder(dir)
			if err != nil {
				t.Fatal(err)
			}
			if o, err := transfer.OpenFolder(ctx, e, folder, nil); err != nil || o.Errand.Template != want {
				t.Errorf("%q: %q, %v", name, o.Errand.Template, err)
			}
		})
	}
	if _, _, err := transfer.Pack(ctx, e, transfer.PackAsk{Dir: filepath.Join(t.TempDir(), "x"), All: true,
		Template: "x\n  5. rm -rf ~"}); err == nil || !strings.Contains(err.Error(), "not a name of a template") {
		t.Error(err)
	}
}

// FuzzErrand reads hostile manifests whose check code is right.
func FuzzErrand(f *testing.F) {
	f.Add([]byte(`{"form":1,"id":"0123456789abcdef0123456789abcdef","kind":"requests",
"files":[{"name":"READ-ME.txt","sha256":""}]}`))
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		for name, content := range map[string][]byte{transfer.ManifestFile: data,
			transfer.TransferCode: []byte(label.Code(sha256.Sum256(data)))} {
			if err := os.WriteFile(filepath.Join(dir, name), content, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if c, err := transfer.ReadFolder(dir); err == nil && len(c.Content) != len(c.Errand.Files) {
			t.Errorf("%d files, and %d were listed", len(c.Content), len(c.Errand.Files))
		}
	})
}

// A backup may have been swapped for something hostile; it must not write outside
// the directory, nor unpack without end.
func TestHostileBackups(t *testing.T) {
	t.Parallel()
	sum := func(b []byte) string { s := sha256.Sum256(b); return hex.EncodeToString(s[:]) }
	for what, files := range map[string][]backup.BackupFile{
		"a path upward":     {{Name: "../escaped", Size: 1, SHA256: sum([]byte("x"))}},
		"deeper upward":     {{Name: "keys/../../escaped", Size: 1, SHA256: sum([]byte("x"))}},
		"an absolute path":  {{Name: "/tmp/escaped-by-ironseal", Size: 1, SHA256: sum([]byte("x"))}},
		"another directory": {{Name: "elsewhere/x", Size: 1, SHA256: sum([]byte("x"))}},
		"a backslash":       {{Name: `keys\..\x`, Size: 1, SHA256: sum([]byte("x"))}},
		"a negative size":   {{Name: "x", Size: -1, SHA256: ""}},
		"a huge size":       {{Name: "x", Size: 1 << 60, SHA256: ""}},
		"a wrong hash":      {{Name: "x", Size: 1, SHA256: sum([]byte("y"))}},
		"no records":        {{Name: "x", Size: 1, SHA256: sum([]byte("x"))}},
		"nothing at all":    nil,
	} {
		t.Run(what, func(t *testing.T) {
			manifest, err := json.Marshal(backup.Backup{Form: 1, Estate: "e", Head: "J1:0000-0000-0000-0000",
				Files: files})
			if err != nil {
				t.Fatal(err)
			}
			var b bytes.Buffer
			z := gzip.NewWriter(&b)
			w := tar.NewWriter(z)
			put := func(name string, data []byte) {
				if err := w.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(data))}); err != nil {
					t.Fatal(err)
				}
				if _, err := w.Write(data); err != nil {
					t.Fatal(err)
				}
			}
			put(backup.BackupManifest, manifest)
			for _, f := range files {
				put(f.Name, []byte("x"))
			}
			w.Close()
			z.Close()
			dir := t.TempDir()
			file := filepath.Join(dir, "backup")
			if err := os.WriteFile(file, b.Bytes(), 0o600); err != nil {
				t.Fatal(err)
			}
			if _, err := backup.Restore(ctx, file, filepath.Join(dir, "in", "new"), world()); err == nil {
				t.Errorf("%s: it was restored", what)
			}
			left, err := filepath.Glob(filepath.Join(dir, "in", "*"))
			if _, statErr := os.Stat(filepath.Join(dir, "escaped")); err != nil || len(left) > 0 || statErr == nil {
				t.Errorf("%s: it left %v behind", what, left)
			}
		})
	}
	// A manifest that says it is endless.
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	if err := w.WriteHeader(&tar.Header{Name: backup.BackupManifest, Size: 1 << 40}); err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(w, "{")
	z.Close()
	file := filepath.Join(t.TempDir(), "endless")
	if err := os.WriteFile(file, b.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := backup.Restore(ctx, file, file+".new", world()); err == nil {
		t.Error("an endless manifest was read")
	}
}
