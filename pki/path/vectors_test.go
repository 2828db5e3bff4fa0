package path

import (
	"encoding/asn1"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
)

// suite is one of the tests of NIST's Public Key Interoperability Test Suite,
// which the Go distribution carries. Its names are the columns of that file.
type suite struct {
	Name                                                                        string
	CertPath                                                                    []string
	ShouldValidate                                                              bool
	InitialPolicySet                                                            []string
	InitialPolicyMappingInhibit, InitialExplicitPolicy, InitialAnyPolicyInhibit bool
}

// suitePolicies are the names that the suite gives to policies.
var suitePolicies = map[string]string{"anyPolicy": ext.AnyPolicy.String(),
	"NIST-test-policy-1": "2.16.840.1.101.3.2.1.48.1", "NIST-test-policy-2": "2.16.840.1.101.3.2.1.48.2",
	"NIST-test-policy-3": "2.16.840.1.101.3.2.1.48.3", "NIST-test-policy-6": "2.16.840.1.101.3.2.1.48.6"}

// otherwise are the tests of the suite that this validator judges otherwise, or
// leaves to another part, each with its reason.
func otherwise(name string) string {
	switch number, _, _ := strings.Cut(name, " "); {
	case strings.HasPrefix(number, "4.4."), number == "4.5.2", number == "4.5.5", number == "4.5.7",
		strings.HasPrefix(number, "4.14."), strings.HasPrefix(number, "4.15."):
		return "about revocation lists, which a path alone does not show"
	case number == "4.1.4", number == "4.1.5":
		return "DSA, which nobody certifies any more"
	case number == "4.7.4", number == "4.7.5":
		return "about the right to sign revocation lists"
	}
	return ""
}

func TestPublishedConformanceVectors(t *testing.T) {
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		t.Skip("the go command is not here: ", err)
	}
	dir := filepath.Join(strings.TrimSpace(string(root)), "src/crypto/x509/testdata/nist-pkits")
	data, err := os.ReadFile(filepath.Join(dir, "vectors.json"))
	if err != nil {
		t.Skip("this Go distribution does not carry the suite: ", err)
	}
	var tests []suite
	if err := json.Unmarshal(data, &tests); err != nil {
		t.Fatal(err)
	}
	judged := map[bool]int{}
	for _, x := range tests {
		if otherwise(x.Name) != "" {
			continue
		}
		var chain []*cert.Certificate
		readable := true
		for _, file := range x.CertPath {
			der, err := os.ReadFile(filepath.Join(dir, "certs", file))
			if err != nil {
				t.Fatal(err)
			}
			c, err := cert.Read(der)
			if readable = readable && err == nil; err == nil {
				chain = append([]*cert.Certificate{c}, chain...)
			}
		}
		if !readable {
			if x.ShouldValidate {
				t.Errorf("%s: it cannot be parsed", x.Name)
			}
			continue
		}
		q := Question{Anchors: chain[len(chain)-1:], Now: time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC),
			RequirePolicy: x.InitialExplicitPolicy, NoMapping: x.InitialPolicyMappingInhibit,
			NoAnyPolicy: x.InitialAnyPolicyInhibit, Policies: named(t, x.InitialPolicySet)}
		exact, built := Exactly(chain[:len(chain)-1], q), Verify(chain[0], chain[1:len(chain)-1], q)
		if strings.HasPrefix(x.Name, "4.5.4 ") || strings.HasPrefix(x.Name, "4.5.6 ") {
			exact = built // the path listed holds one more certificate, which only signs the list
		}
		judged[exact.Valid]++
		if exact.Valid != x.ShouldValidate || built.Valid != x.ShouldValidate {
			t.Errorf("%s: exactly %v, built %v, and it should be %v: %v %v", x.Name, exact.Valid, built.Valid,
				x.ShouldValidate, exact.Reasons(), built.Reasons())
		}
	}
	t.Logf("%d valid and %d not", judged[true], judged[false])
	if judged[true] < 50 || judged[false] < 50 {
		t.Errorf("too few were judged: %v", judged)
	}
}

func named(t *testing.T, names []string) []asn1.ObjectIdentifier {
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
