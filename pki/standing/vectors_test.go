package standing

import (
	"archive/tar"
	"compress/gzip"
	"encoding/asn1"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/path"
	"ironseal/pki/revocation"
)

// suite is one of the tests of NIST's Public Key Interoperability Test Suite, which the Go
// distribution carries without its lists.
type suite struct {
	Name                                                                        string
	CertPath                                                                    []string
	ShouldValidate                                                              bool
	InitialPolicySet                                                            []string
	InitialPolicyMappingInhibit, InitialExplicitPolicy, InitialAnyPolicyInhibit bool
}

var suitePolicies = map[string]string{"anyPolicy": ext.AnyPolicy.String(),
	"NIST-test-policy-1": "2.16.840.1.101.3.2.1.48.1", "NIST-test-policy-2": "2.16.840.1.101.3.2.1.48.2",
	"NIST-test-policy-3": "2.16.840.1.101.3.2.1.48.3", "NIST-test-policy-6": "2.16.840.1.101.3.2.1.48.6"}

func TestPublishedConformanceVectorsWithLists(t *testing.T) {
	dir := suiteDir(t)
	data, err := os.ReadFile(filepath.Join(dir, "vectors.json"))
	if err != nil {
		t.Fatal(err)
	}
	var tests []suite
	if err := json.Unmarshal(data, &tests); err != nil {
		t.Fatal(err)
	}
	lists := suiteLists(t)
	everybody := suiteCertificates(t, dir)
	judged := map[bool]int{}
	for _, x := range tests {
		number, _, _ := strings.Cut(x.Name, " ")
		if number == "4.1.4" || number == "4.1.5" {
			continue // DSA with SHA-1, which nobody certifies any more
		}
		chain, readable := suiteChain(t, dir, x)
		if !readable {
			if x.ShouldValidate {
				t.Errorf("%s: it cannot be parsed", x.Name)
			}
			judged[false]++
			continue
		}
		q := path.Question{Anchors: chain[len(chain)-1:], Now: time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC),
			RequirePolicy: x.InitialExplicitPolicy, NoMapping: x.InitialPolicyMappingInhibit,
			NoAnyPolicy: x.InitialAnyPolicyInhibit, Policies: suiteNamed(t, x.InitialPolicySet)}
		j := New(Evidence{Lists: lists, Signers: everybody}, q, true)
		q.Standing = j.Ask
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

func suiteDir(t *testing.T) string {
	t.Helper()
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		t.Skip("the go command is not here: ", err)
	}
	dir := filepath.Join(strings.TrimSpace(string(root)), "src/crypto/x509/testdata/nist-pkits")
	if _, err := os.Stat(dir); err != nil {
		t.Skip("this Go distribution does not carry the suite: ", err)
	}
	return dir
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
func suiteCertificates(t *testing.T, dir string) (out []*cert.Certificate) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, "certs", "*.crt"))
	if err != nil || len(files) < 200 {
		t.Fatalf("%d certificates, %v", len(files), err)
	}
	for _, f := range files {
		der, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		if c, err := cert.Read(der); err == nil && c.Usage&ext.CRLSign != 0 {
			out = append(out, c)
		}
	}
	return out
}

func suiteChain(t *testing.T, dir string, x suite) (chain []*cert.Certificate, readable bool) {
	t.Helper()
	for _, file := range x.CertPath {
		der, err := os.ReadFile(filepath.Join(dir, "certs", file))
		if err != nil {
			t.Fatal(err)
		}
		c, err := cert.Read(der)
		if err != nil {
			return nil, false
		}
		chain = append([]*cert.Certificate{c}, chain...)
	}
	return chain, true
}

func suiteNamed(t *testing.T, names []string) []asn1.ObjectIdentifier {
	var out []asn1.ObjectIdentifier
	for _, n := range names {
		id, ok := dn.ParseOID(suitePolicies[n])
		if !ok {
			t.Fatalf("the policy %q is unknown", n)
		}
		out = append(out, id)
	}
	return out
}
