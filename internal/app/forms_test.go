package app_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/internal/app/requests/signing"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/store/onserver"
	"ironseal/pki/lifecycle"
)

// earlier writes an estate that an earlier program made, and returns its directory
// and passphrase.
func earlier(t *testing.T, file string) (string, fixed) {
	t.Helper()
	f, err := os.Open(filepath.Join("testdata", file))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		to := filepath.Join(dir, filepath.FromSlash(h.Name))
		if h.FileInfo().IsDir() {
			if err := os.MkdirAll(to, 0o700); err != nil {
				t.Fatal(err)
			}
			continue
		}
		data, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(os.WriteFile(to, data, 0o600), disk.SetMode(to, 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	pass, err := os.ReadFile(filepath.Join(dir, "pass"))
	if err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, "estate"), fixed(strings.TrimSpace(string(pass)))
}

// Estates that earlier programs made are taken up by themselves: everything is there,
// a check finds them sound, their keys sign, and the records as they were lie beside.
func TestEarlierFormsAreTakenUp(t *testing.T) {
	t.Parallel()
	for _, form := range []struct {
		file, by           string
		requests, declined int
	}{{"form-1.tar.gz", "services", 5, 0}, {"form-2.tar.gz", "boats", 7, 1}, {"form-3.tar.gz", "boats", 5, 1},
		{"form-4.tar.gz", "boats", 4, 1}, {"form-5.tar.gz", "boats", 5, 1},
		{"form-6.tar.gz", "boats", 5, 1}} {
		t.Run(form.file, func(t *testing.T) {
			dir, pass := earlier(t, form.file)
			number := strings.TrimSuffix(strings.TrimPrefix(form.file, "form-"), ".tar.gz")
			before, err := os.ReadFile(filepath.Join(dir, "records.db"))
			if err != nil {
				t.Fatal(err)
			}
			e := reopen(t, dir, estate.Env{Actor: estate.Identity{Name: "tester"}, Pass: pass})
			if f := checked(t, dir); len(f) > 0 {
				t.Fatalf("not sound: %v", f)
			}
			got, err := e.Records.Requests(ctx, lifecycle.Waiting)
			if err != nil || len(got) != 1 {
				t.Fatalf("%v requests wait, %v", got, err)
			}
			if declined, err := e.Records.Requests(ctx, lifecycle.Declined); err != nil ||
				len(declined) != form.declined {
				t.Errorf("%d are declined, %v", len(declined), err)
			}
			s, err := signing.Plan(ctx, e, signing.SignAsk{Request: fmt.Sprint("R", got[0].Number),
				Template: "web-server",
				By:       form.by})
			if err != nil {
				t.Fatal(err)
			}
			if err := sign(e, s); err != nil {
				t.Fatal(err)
			}
			receive(t, e, 1)
			next, err := e.Records.Requests(ctx, lifecycle.Waiting)
			if err != nil || len(next) != 1 || int(next[0].Number) != form.requests+1 {
				t.Errorf("the next request is %v, %v: numbers go on", next, err)
			}
			if f := checked(t, dir); len(f) > 0 {
				t.Errorf("not sound after more acts: %v", f)
			}
			kept, err := os.ReadFile(filepath.Join(dir, "records.db.form-"+number))
			if err != nil || !bytes.HasPrefix(kept, []byte("SQLite format 3")) ||
				bytes.Contains(kept, []byte("CREATE TABLE sealed")) {
				t.Errorf("the records as they were are not kept beside (%d octets of %d, %v)", len(kept), len(before),
					err)
			}
		})
	}
}

// Records that a newer program made are not touched.
func TestNewerRecordsAreLeftAlone(t *testing.T) {
	onserver.FilesOnly(t)
	t.Parallel()
	dir, e := newEstate(t)
	e.Close()
	db, err := sql.Open("sqlite", filepath.Join(dir, "records.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("UPDATE meta SET value = '9' WHERE key = 'version'"); err != nil {
		t.Fatal(err)
	}
	if _, err := estate.Open(ctx, dir, world()); err == nil ||
		!strings.Contains(err.Error(), "form 9, made by a newer program") {
		t.Errorf("opening says %v", err)
	}
}
