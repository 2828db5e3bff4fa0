package event

import (
	"testing"

	"ironseal/pki/operator"
)

// Every act has a least role, so that none can be done by anybody, or by nobody.
func TestEveryActHasARole(t *testing.T) {
	renamed := map[string]bool{"take in": true, "take in authority": true, "take in list": true, "accept": true,
		"accept authority": true, "release": true}
	for act := range kinds() {
		if act == VouchAct || renamed[act] {
			continue
		}
		if LeastRole(act) == "" {
			t.Errorf("the act %q has no role", act)
		}
	}
	for act, role := range least() {
		if kinds()[act] == nil {
			t.Errorf("the act %q is not one", act)
		}
		if May(operator.Administrator, act) != nil {
			t.Errorf("an administrator may not %q", act)
		}
		if May(operator.Auditor, act) == nil {
			t.Errorf("an auditor may %q", act)
		}
		if (May(operator.Clerk, act) == nil) != (role == operator.Clerk) {
			t.Errorf("a clerk and %q", act)
		}
		if May(operator.Signer, act) == nil != (role != operator.Administrator) {
			t.Errorf("a signer and %q", act)
		}
	}
	if May(operator.Recovery, "sign") == nil || May(operator.Recovery, "keep operator") != nil {
		t.Error("the recovery code is for operators alone")
	}
}
