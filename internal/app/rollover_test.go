package app_test

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/rollover"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/trust/anchors"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/kit"
	"ironseal/pki/span"
	"ironseal/pki/trust"
)

// A root is taken out only when nothing depends on it any more; and then the file that a kit
// installed long ago is the one that the last kit takes away.
func TestARootIsTakenOutAtItsEnd(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	if _, err := parties.Add(ctx, e, []trust.Party{{Name: "gate-1", Platforms: []string{"debian"},
		Sets: []string{"own"}},
		{Name: "scanner", Platforms: []string{"debian"}, Sets: []string{"own"}, Closed: "old firmware"}}); err != nil {
		t.Fatal(err)
	}
	own, err := anchors.Set(ctx, e, trust.Own)
	if err != nil {
		t.Fatal(err)
	}
	first, err := anchors.Pack(ctx, e, anchors.PackAsk{Set: own, Platforms: []string{"debian"}, Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	renewed(t, e, authorities.RenewAsk{Handle: "root", Lifetime: span.Years(40)})
	renewed(t, e, authorities.RenewAsk{Handle: "services"})
	if _, err := rollover.Gone(ctx, e, "services"); err == nil || !strings.Contains(err.Error(),
		"still depends on root.g1") {
		t.Fatal(err)
	}
	pass := e.Env.Pass
	e.Close()
	w := moved(time.Now().AddDate(21, 0, 0))
	w.Pass = pass
	e = reopen(t, dir, w)
	out := t.TempDir()
	kits, err := rollover.Finish(ctx, e, "services", out, false)
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

// Evidence counts for the machine that it is about, and no earlier than the machine is on record.
func TestEvidenceIsAboutThePartyOnRecord(t *testing.T) {
	t.Parallel()
	_, e, _ := signed(t, 1)
	twoSets(t, e) // quay holds "old" and is to learn "next"
	state := func() trust.Readiness {
		t.Helper()
		p, err := rollover.Of(ctx, e, "old")
		must0(t, err)
		return p.Parties[0].State
	}
	if s := state(); s != trust.Ready {
		t.Fatalf("by its report it is %s", s)
	}
	quay := trust.Party{Name: "quay", Platforms: []string{"debian"}, Sets: []string{"old"}}
	twin := quay
	twin.Name = "QUAY"
	if _, err := parties.Add(ctx, e, []trust.Party{twin}); err == nil || !strings.Contains(err.Error(), "either case") {
		t.Errorf("names that differ in case: %v", err)
	}
	must(parties.Remove(ctx, e, []string{"quay"}))
	must(parties.Add(ctx, e, []trust.Party{twin}))
	if s := state(); s != trust.Unknown {
		t.Errorf("another machine of the name is %s", s)
	}
	report(t, e, false) // from now on: the machine writes its name in the other case
	if s := state(); s != trust.Ready {
		t.Errorf("by a report of its own it is %s", s)
	}
	set, err := anchors.Set(ctx, e, "next")
	must0(t, err)
	r := kit.Report{Host: "quay", Platform: "debian", Store: "/usr/local/share/ca-certificates", Act: "check",
		SHA256: []string{fmt.Sprintf("%x", set.Anchors[0].Certificate.SHA256())}, Missing: []string{},
		When: time.Now().UTC().Add(23 * time.Hour).Truncate(time.Second)}
	must(anchors.Record(ctx, e, []kit.Report{r}))
	report(t, e, true)
	if s := state(); s != trust.NotReady {
		t.Errorf("a report with a clock that is ahead outlives a later one: %s", s)
	}
}

// What a change-over from a set to another moves, taking it back restores exactly.
func TestTakingBackRestoresTheSets(t *testing.T) {
	t.Parallel()
	_, e, _ := signed(t, 1)
	twoSets(t, e)
	before := map[string][]string{"quay": {"old"}, "desk": {"next", "old"}, "crane": {"old", "own", "next"},
		"pump": {"own"}}
	var list []trust.Party
	for _, name := range []string{"desk", "crane", "pump"} {
		list = append(list, trust.Party{Name: name, Sets: before[name]})
	}
	must(parties.Add(ctx, e, list))
	sets := func() map[string][]string {
		out := map[string][]string{}
		for _, p := range must(parties.List(ctx, e)) {
			out[p.Name] = p.Sets
		}
		return out
	}
	_, _, err := rollover.SwitchSets(ctx, e, "old", true, []finding.Waiver{{Code: finding.PartyNotReady,
		Because: "test"}})
	must0(t, err)
	if after := sets(); !slices.Equal(after["desk"], []string{"next"}) || !slices.Equal(after["crane"],
		[]string{"next", "own"}) {
		t.Errorf("after the switch: %v", after)
	}
	_, _, err = rollover.BackSets(ctx, e, "old")
	must0(t, err)
	if back := sets(); !reflect.DeepEqual(back, before) {
		t.Errorf("taken back: %v", back)
	}
}

// Before anything is prepared nobody knows what a switch would break: that is no green light.
func TestWhatIsNotPreparedIsUnknown(t *testing.T) {
	t.Parallel()
	_, e, _ := signed(t, 2)
	must(parties.Add(ctx, e, []trust.Party{{Name: "quay", Platforms: []string{"debian"}, Sets: []string{"own"}}}))
	p, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "root", Lifetime: span.Years(30),
		Day: time.Now().AddDate(0, 0, 30)})
	must0(t, err)
	_, _, err = authorities.Renew(ctx, e, p)
	must0(t, err)
	got, err := rollover.Of(ctx, e, "root")
	must0(t, err)
	if len(got.Breaks) == 0 && len(got.Unknown) == 0 {
		t.Errorf("%+v", got)
	}
}

// What would break is told in groups, however many parties there are.
func TestBreaksAreToldInGroups(t *testing.T) {
	t.Parallel()
	_, e, list := signed(t, 3)
	roots, _, err := e.Roots(ctx)
	must0(t, err)
	for name, root := range map[string]*cert.Certificate{"left": roots[0], "right": partner(t).Cert} {
		must(anchors.Create(ctx, e, name, name))
		a, err := anchors.PlanAdd(e, anchors.AddAsk{Set: name, Offered: []anchors.Found{{Source: "a file",
			Certificates: []*cert.Certificate{root}}}, Purposes: []trust.Purpose{trust.Servers}})
		must0(t, err)
		must(anchors.Add(ctx, e, a))
	}
	more := []trust.Party{{Name: "quay", Sets: []string{"left"}}, {Name: "desk", Sets: []string{"left"}}}
	for i := range 200 {
		more = append(more, trust.Party{Name: fmt.Sprint("gate-", i), Sets: []string{"left"}})
	}
	must(parties.Add(ctx, e, more))
	nginx, err := e.Receiver("nginx")
	must0(t, err)
	for i, c := range list {
		must(delivery.Handover(ctx, e, delivery.HandoverAsk{Certificate: c, Receiver: nginx, Dir: t.TempDir(),
			To: []string{"quay", "desk", "quay"}[i]}))
	}
	must(rollover.PlanSets(ctx, e, "left", "right", time.Now().AddDate(0, 0, 9)))
	p, err := rollover.Of(ctx, e, "left")
	must0(t, err)
	if len(p.Breaks) != 1 || p.Breaks[0].Count() != 2*202 {
		t.Errorf("%d groups: %+v", len(p.Breaks), p.Breaks)
	}
}
