package specimen

import (
	"encoding/asn1"
	"encoding/json"
	"io/fs"
	"testing"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
)

// Conformance is one of the tests of NIST's Public Key Interoperability Test Suite, which the
// Go distribution carries without its lists. Its names are the columns of that file.
type Conformance struct {
	Name                                                                        string
	CertPath                                                                    []string
	ShouldValidate                                                              bool
	InitialPolicySet                                                            []string
	InitialPolicyMappingInhibit, InitialExplicitPolicy, InitialAnyPolicyInhibit bool
}

// conformancePolicies are the names that the suite gives to policies.
var conformancePolicies = map[string]string{"anyPolicy": ext.AnyPolicy.String(),
	"NIST-test-policy-1": "2.16.840.1.101.3.2.1.48.1", "NIST-test-policy-2": "2.16.840.1.101.3.2.1.48.2",
	"NIST-test-policy-3": "2.16.840.1.101.3.2.1.48.3", "NIST-test-policy-6": "2.16.840.1.101.3.2.1.48.6"}

// ConformanceFolder is where a Go distribution carries the suite.
const ConformanceFolder = "src/crypto/x509/testdata/nist-pkits"

// ConformanceSuite gives all tests of the suite. Where its folder does not hold it, the test is
// skipped.
func ConformanceSuite(t *testing.T, folder fs.FS) (tests []Conformance) {
	t.Helper()
	data, err := fs.ReadFile(folder, "vectors.json")
	if err != nil {
		t.Skip("this Go distribution does not carry the suite: ", err)
	}
	if err := json.Unmarshal(data, &tests); err != nil {
		t.Fatal(err)
	}
	return tests
}

// Chain reads the path of a test, the leaf first; false where one of it cannot be parsed.
func (x Conformance) Chain(t *testing.T, folder fs.FS) (chain []*cert.Certificate, readable bool) {
	t.Helper()
	for _, file := range x.CertPath {
		der, err := fs.ReadFile(folder, "certs/"+file)
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

// Policies are those with which a test begins.
func (x Conformance) Policies(t *testing.T) (out []asn1.ObjectIdentifier) {
	t.Helper()
	for _, n := range x.InitialPolicySet {
		id, ok := dn.ParseOID(conformancePolicies[n])
		if !ok {
			t.Fatalf("the policy %q is unknown", n)
		}
		out = append(out, id)
	}
	return out
}
