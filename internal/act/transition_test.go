package act_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/internal/act/authorities"
	"ironseal/internal/act/parties"
	"ironseal/internal/act/transition"
	"ironseal/internal/act/trusting"
	"ironseal/pki/span"
	"ironseal/pki/trust"
)

// A root is taken out only when nothing hangs on it any more; and then the file that a kit
// installed long ago is the one that the last kit takes away.
func TestARootIsTakenOutAtItsEnd(t *testing.T) {
	dir, e := newEstate(t)
	if _, err := parties.Add(ctx, e, []trust.Party{{Name: "gate-1", Platforms: []string{"debian"},
		Sets: []string{"own"}},
		{Name: "scanner", Platforms: []string{"debian"}, Sets: []string{"own"}, Closed: "old firmware"}}); err != nil {
		t.Fatal(err)
	}
	own, err := trusting.Set(ctx, e, trust.Own)
	if err != nil {
		t.Fatal(err)
	}
	first, err := trusting.Pack(ctx, e, trusting.PackAsk{Set: own, Platforms: []string{"debian"}, Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	renewed(t, e, authorities.RenewAsk{Handle: "root", Lifetime: span.Years(40)})
	renewed(t, e, authorities.RenewAsk{Handle: "services"})
	if _, err := transition.Gone(ctx, e, "services"); err == nil || !strings.Contains(err.Error(),
		"still hangs on root.g1") {
		t.Fatal(err)
	}
	pass := e.Custody.Pass
	e.Close()
	w := moved(time.Now().AddDate(21, 0, 0))
	w.Pass = pass
	e = reopen(t, dir, w)
	out := t.TempDir()
	kits, err := transition.Finish(ctx, e, "services", out, false)
	if err != nil || len(kits) != 1 || !strings.HasPrefix(kits[0].Path, filepath.Join(out, "gate-1")) {
		t.Fatalf("%+v %v", kits, err)
	}
	for _, f := range kits[0].Files {
		if filepath.Ext(f) != ".crt" {
			continue
		}
		was, err := os.ReadFile(filepath.Join(first[0].Path, f))
		if err != nil {
			t.Errorf("%s was never installed: %v", f, err)
		}
		is, err := os.ReadFile(filepath.Join(kits[0].Path, f))
		if err != nil || string(is) != string(was) {
			t.Errorf("%s is another file: %v", f, err)
		}
	}
}
