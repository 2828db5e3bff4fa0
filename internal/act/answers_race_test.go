package act_test

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	xocsp "golang.org/x/crypto/ocsp"

	"ironseal/internal/act/publishing"
	"ironseal/internal/act/responding"
	"ironseal/pki/revocation"
)

// Answers that were prepared before a revocation must not take the place of those that tell of it: Release of lists looks
// again, that of answers does not.
func TestOlderAnswersTakeThePlaceOfNewer(t *testing.T) {
	dir, e, list := signed(t, 2)
	to := filepath.Join(t.TempDir(), "answers")
	slow := reopen(t, dir, world())
	var once sync.Once
	told := func(n int) { // the slow program is signing its answers; meanwhile the quick one works, from the revocation to the folder
		if n < 2 { // the first is about an authority
			return
		}
		once.Do(func() {
			revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
			if _, err := responding.Prepare(ctx, e, to, publishing.Ask{}, nil); err != nil {
				t.Error(err)
			}
			quick, _ := os.ReadDir(to)
			t.Logf("the quick one wrote %d answers", len(quick))
		})
	}
	if _, err := responding.Prepare(ctx, slow, to, publishing.Ask{}, told); err != nil {
		t.Log("the slow one ends with:", err)
	}
	der, err := os.ReadFile(filepath.Join(to, "services.g1."+list[0].SerialHex()+".ocsp"))
	if err != nil {
		t.Fatal(err)
	}
	services, _ := e.Generation(ctx, "services.g1")
	a, err := xocsp.ParseResponseForCert(der, parsed(t, list[0].Certificate), parsed(t, services.Certificate))
	if err != nil {
		t.Fatal(err)
	}
	if a.Status != xocsp.Revoked {
		t.Errorf("the folder says good until %s of a certificate that was revoked, and of which a newer answer said so", a.NextUpdate)
	}
}
