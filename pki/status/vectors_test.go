package status

import (
	"archive/tar"
	"compress/gzip"
	"errors"
	"go/build"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/path"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

func TestPublishedConformanceVectorsWithLists(t *testing.T) {
	folder := os.DirFS(filepath.Join(build.Default.GOROOT, specimen.ConformanceFolder))
	tests := specimen.ConformanceSuite(t, folder)
	lists := suiteLists(t)
	everybody := suiteCertificates(t, folder)
	judged := map[bool]int{}
	for _, x := range tests {
		number, _, _ := strings.Cut(x.Name, " ")
		if number == "4.1.4" || number == "4.1.5" {
			continue // DSA with SHA-1, which nobody certifies any more
		}
		chain, readable := x.Chain(t, folder)
		if !readable {
			if x.ShouldValidate {
				t.Errorf("%s: it cannot be parsed", x.Name)
			}
			judged[false]++
			continue
		}
		q := path.Question{Anchors: chain[len(chain)-1:], Now: time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC),
			RequirePolicy: x.InitialExplicitPolicy, NoMapping: x.InitialPolicyMappingInhibit,
			NoAnyPolicy: x.InitialAnyPolicyInhibit, Policies: x.Policies(t)}
		j := New(Evidence{Lists: lists, Signers: everybody}, q, true)
		q.Status = j.Ask
		v := path.Verify(chain[0], chain[1:len(chain)-1], q)
		judged[v.Valid]++
		if v.Valid != x.ShouldValidate {
			t.Errorf("%s: %v, and it should be %v: %v", x.Name, v.Valid, x.ShouldValidate, v.Reasons())
		}
	}
	t.Logf("%d valid and %d not", judged[true], judged[false])
	if n := judged[true] + judged[false]; n != len(tests)-2 || n < 240 {
		t.Errorf("only %d of %d tests were judged", n, len(tests))
	}
}

// suiteLists are the lists of the suite, all of them: those of other tests must not disturb.
func suiteLists(t *testing.T) (out []*revocation.List) {
	t.Helper()
	f, err := os.Open("testdata/nist-lists.tar.gz")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	unpacked, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	for tr := tar.NewReader(unpacked); ; {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		der, err := io.ReadAll(tr)
		if err != nil {
			t.Fatal(err)
		}
		if len(der) == 0 {
			continue
		}
		l, err := revocation.ReadList(der)
		if err != nil {
			t.Logf("%s is not used: %v", h.Name, err)
			continue
		}
		out = append(out, l)
	}
	if len(out) < 160 {
		t.Fatalf("only %d lists were read", len(out))
	}
	return out
}

// suiteCertificates are those of all authorities: separate signers of lists stand nowhere in
// the paths.
func suiteCertificates(t *testing.T, folder fs.FS) (out []*cert.Certificate) {
	t.Helper()
	files, err := fs.Glob(folder, "certs/*.crt")
	if err != nil || len(files) < 200 {
		t.Fatalf("%d certificates, %v", len(files), err)
	}
	for _, f := range files {
		der, err := fs.ReadFile(folder, f)
		if err != nil {
			t.Fatal(err)
		}
		if c, err := cert.Read(der); err == nil && c.Usage&ext.CRLSign != 0 {
			out = append(out, c)
		}
	}
	return out
}
