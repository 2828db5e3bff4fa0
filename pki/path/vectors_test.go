package path

import (
	"go/build"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/pki/specimen"
)

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
	folder := os.DirFS(filepath.Join(build.Default.GOROOT, specimen.ConformanceFolder))
	tests := specimen.ConformanceSuite(t, folder)
	judged := map[bool]int{}
	for _, x := range tests {
		if otherwise(x.Name) != "" {
			continue
		}
		chain, readable := x.Chain(t, folder)
		if !readable {
			if x.ShouldValidate {
				t.Errorf("%s: it cannot be parsed", x.Name)
			}
			continue
		}
		q := Question{Anchors: chain[len(chain)-1:], Now: time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC),
			RequirePolicy: x.InitialExplicitPolicy, NoMapping: x.InitialPolicyMappingInhibit,
			NoAnyPolicy: x.InitialAnyPolicyInhibit, Policies: x.Policies(t)}
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
