package app_test

import (
	"bytes"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	xocsp "golang.org/x/crypto/ocsp"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/revoke/importing"
	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/responding"
	"ironseal/internal/app/transfer"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/pki/cert"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
)

// apart makes an estate with a root, and another that has taken the root's certificate in.
func apart(t *testing.T) (safeDir string, safe *estate.Estate, dir string, e *estate.Estate) {
	t.Helper()
	safeDir, safe = newEstate(t)
	dir, e = bareEstate(t, "Tern Bay Ferries")
	root, err := safe.Generation(ctx, "root")
	must0(t, err)
	must0(t, adopt(e, external.AdoptAsk{Handle: "root", List: []*cert.Certificate{root.Certificate},
		Anchors: []*cert.Certificate{root.Certificate}}))
	return safeDir, safe, dir, e
}

// kept are the whole lists of the root in an estate, those of now and those ahead.
func kept(t *testing.T, e *estate.Estate) (out [][]byte) {
	t.Helper()
	list, err := inventory.Kept(ctx, e)
	must0(t, err)
	for _, k := range list {
		if strings.HasPrefix(k.Name, "root.") {
			out = append(out, k.DER)
		}
	}
	return out
}

func ahead(t *testing.T, e *estate.Estate, n int) {
	t.Helper()
	p, err := publishing.PlanLists(ctx, e, publishing.Ask{Only: []string{"root"}, All: true, Ahead: n,
		Life: span.Days(40),
		Step: span.Days(30)})
	must0(t, err)
	_, err = publishing.Sign(ctx, e, p)
	must0(t, err)
}

func takeIn(t *testing.T, e *estate.Estate, lists ...[]byte) importing.Taken {
	t.Helper()
	out, err := importing.Lists(ctx, e, lists)
	must0(t, err)
	return out
}

// Lists signed ahead may come in any order, one by one: each is served at its time, and that of today today.
func TestListsAheadComeOneByOne(t *testing.T) {
	t.Parallel()
	for name, order := range map[string][]int{"in order": {0, 1, 2}, "the last first": {2, 1, 0}, "mixed": {1, 2, 0}} {
		t.Run(name, func(t *testing.T) {
			_, safe, dir, e := apart(t)
			ahead(t, safe, 2)
			lists := kept(t, safe)
			for _, n := range order {
				_, err := importing.Lists(ctx, e, lists[n:n+1])
				must0(t, err)
			}
			for n := range lists {
				day := at(t, dir, time.Now().AddDate(0, 0, 30*n+1))
				to := filepath.Join(t.TempDir(), "public")
				publish(t, day, publishing.Ask{}, to)
				if l := served(t, day, to, "root.g1.crl"); !bytes.Equal(l.Raw, lists[n]) {
					t.Errorf("in month %d the list %s is served", n, l.Number)
				}
			}
		})
	}
}

// The machine of a root in a safe is restored from a backup that knows nothing of the lists signed ahead.
// The list that revokes a stolen authority has a lower number than those, and is served all the same.
func TestAListThatRevokesMoreIsServedWhateverItsNumber(t *testing.T) {
	t.Parallel()
	_, safe, dir, e := apart(t)
	file := filepath.Join(t.TempDir(), "backup")
	_, err := backup.BackUp(ctx, safe, file)
	must0(t, err)
	ahead(t, safe, 3)
	takeIn(t, e, kept(t, safe)...)
	restored := filepath.Join(t.TempDir(), "again")
	_, err = backup.Restore(ctx, file, restored, world())
	must0(t, err)
	x := at(t, restored, time.Now().Add(2*time.Second))
	revoke(t, x, revocation.CACompromise, "services")
	ahead(t, x, 0)
	late := at(t, dir, time.Now().Add(5*time.Second))
	emergency := kept(t, x)
	got, err := importing.Carried(ctx, late, emergency)
	if err != nil || len(got.Lists) != 1 || !got.Lists[0].Over {
		t.Fatalf("%+v, %v", got, err)
	}
	to := filepath.Join(t.TempDir(), "public")
	for _, day := range []*estate.Estate{late, at(t, dir, time.Now().AddDate(0, 0, 31))} {
		publish(t, day, publishing.Ask{}, to)
		if l := served(t, day, to, "root.g1.crl"); !bytes.Equal(l.Raw, emergency[0]) {
			t.Errorf("on %s the list %s is served", day.Now(), l.Number)
		}
	}
	if again := takeIn(t, late, emergency...); len(again.Known) != 1 || again.Head.Seq != 0 {
		t.Errorf("imported again: %+v", again)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}

// An older list that tells of a revocation takes no newer one's place. What it tells is put on record.
func TestAnOlderListIsLearntFrom(t *testing.T) {
	t.Parallel()
	_, safe, _, e := apart(t)
	revoke(t, safe, revocation.CACompromise, "services")
	ahead(t, safe, 0)
	older := kept(t, safe)
	later := at(t, safe.Dir, time.Now().Add(time.Hour))
	ahead(t, later, 0)
	newer := kept(t, later)
	x := at(t, e.Dir, time.Now().Add(2*time.Hour))
	takeIn(t, x, newer...)
	_, err := importing.Lists(ctx, x, older)
	if err == nil || !strings.Contains(err.Error(), "older one") { // the newer one has told all of it
		t.Errorf("%v", err)
	}
}

// A backup holds the lists that are served. Those of an authority elsewhere could be had from nowhere else.
func TestABackupHoldsTheLists(t *testing.T) {
	t.Parallel()
	_, safe, _, e := apart(t)
	ahead(t, safe, 2)
	lists := kept(t, safe)
	takeIn(t, e, lists...)
	file, restored := filepath.Join(t.TempDir(), "backup"), filepath.Join(t.TempDir(), "again")
	_, err := backup.BackUp(ctx, e, file)
	must0(t, err)
	_, err = backup.Restore(ctx, file, restored, world())
	must0(t, err)
	if faults := checked(t, restored); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
	x := reopen(t, restored, world())
	to := filepath.Join(t.TempDir(), "public")
	publish(t, x, publishing.Ask{}, to)
	if l := served(t, x, to, "root.g1.crl"); !bytes.Equal(l.Raw, lists[0]) {
		t.Errorf("%s is served", l.Number)
	}
	for _, f := range must(filepath.Glob(filepath.Join(restored, "lists", "*"))) {
		must0(t, os.Remove(f))
	}
	if _, out := publish(t, x, publishing.Ask{}, filepath.Join(t.TempDir(), "p")); len(out.Absent) != 1 {
		t.Errorf("without its list: %+v", out)
	}
	if again := takeIn(t, x, lists...); len(again.Known) != 3 {
		t.Errorf("imported again: %+v", again)
	}
	publish(t, x, publishing.Ask{}, filepath.Join(t.TempDir(), "q"))
}

// A list lies under every name that certificates on record name: the handle may be another one where the
// certificate was signed, and the address may have moved since.
func TestListsLieWhereCertificatesLook(t *testing.T) {
	t.Parallel()
	dir, safe := newEstate(t)
	safe.Settings.Publication.Address = "http://old.ternbay.example/crl"
	receive(t, safe, 2)
	must0(t, sign(safe, sheet(t, safe, 1)))
	c, _, err := safe.FindCertificate(ctx, "R1")
	must0(t, err)
	services, err := safe.Generation(ctx, "services")
	must0(t, err)
	root, err := safe.Generation(ctx, "root")
	must0(t, err)
	publish(t, safe, publishing.Ask{}, filepath.Join(t.TempDir(), "there"))
	var lists [][]byte
	for _, k := range must(inventory.Kept(ctx, safe)) {
		lists = append(lists, k.DER)
	}

	t.Run("another handle", func(t *testing.T) {
		_, e := bareEstate(t, "Tern Bay Ferries")
		e.Settings.Publication.Address = "http://old.ternbay.example/crl"
		must0(t, adopt(e, external.AdoptAsk{Handle: "top", List: []*cert.Certificate{root.Certificate},
			Anchors: []*cert.Certificate{root.Certificate}}))
		must0(t, adopt(e, external.AdoptAsk{Handle: "mid", List: []*cert.Certificate{services.Certificate,
			root.Certificate}, Anchors: []*cert.Certificate{root.Certificate}}))
		a, err := external.MatchAnswer(ctx, e, external.AnswerAsk{List: []*cert.Certificate{c.Certificate}})
		must0(t, err)
		_, err = external.Accept(ctx, e, a)
		must0(t, err)
		_, out := publish(t, e, publishing.Ask{}, filepath.Join(t.TempDir(), "none"))
		if want := []string{"http://old.ternbay.example/crl/services.g1.crl"}; !slices.Equal(out.Missing, want) {
			t.Errorf("missing is %v", out.Missing)
		}
		takeIn(t, e, lists...)
		to := filepath.Join(t.TempDir(), "public")
		if _, out = publish(t, e, publishing.Ask{}, to); len(out.Missing) > 0 {
			t.Errorf("missing is %v", out.Missing)
		}
		for _, file := range []string{"services.g1.crl", "services.g1.cer", "mid.g1.crl"} {
			if _, err := os.Stat(filepath.Join(to, file)); err != nil {
				t.Error(err)
			}
		}
	})
	t.Run("parts under two addresses", func(t *testing.T) {
		safe.Settings.Publication.PartSize = 100
		must0(t, sign(safe, sheet(t, safe, 2)))
		old, _, err := safe.FindCertificate(ctx, "R2")
		must0(t, err)
		safe.Settings.Publication.Address = "http://new.ternbay.example"
		revoke(t, safe, revocation.KeyCompromise, old.SerialHex())
		to := filepath.Join(t.TempDir(), "public")
		publish(t, safe, publishing.Ask{}, to)
		own, err := revocation.ReadList(served(t, safe, to, "services.g1-1.crl").Raw)
		must0(t, err)
		var names []string
		for _, n := range own.Scope.Names {
			names = append(names, n.URI)
		}
		for _, u := range parsed(t, old.Certificate).CRLDistributionPoints {
			if !slices.Contains(names, u) {
				t.Errorf("the part is about %v, and the certificate names %s", names, u)
			}
		}
		if !slices.Contains(names, "http://new.ternbay.example/services.g1-1.crl") {
			t.Errorf("the part is about %v", names)
		}
	})
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}

// Answers that were made before a revocation never take the place of those that tell of it. Answers of
// authorities that are left out stay, unless they tell otherwise than the records.
func TestAnswersAreNeverOlderThanTheRecords(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 2)
	to := filepath.Join(t.TempDir(), "answers")
	slow := reopen(t, dir, world())
	var once sync.Once
	_, err := responding.Prepare(ctx, slow, to, publishing.Ask{}, func(n int) {
		if n < 2 { // the first is about an authority
			return
		}
		once.Do(func() { // the slow one is signing; meanwhile the quick one goes from the revocation to the folder
			revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
			if _, err := responding.Prepare(ctx, e, to, publishing.Ask{}, nil); err != nil {
				t.Error(err)
			}
		})
	})
	must0(t, err)
	services, err := e.Generation(ctx, "services.g1")
	must0(t, err)
	status := func(c estate.CertificateRecord) int {
		t.Helper()
		der, err := os.ReadFile(filepath.Join(to, "services.g1."+c.SerialHex()+".ocsp"))
		if errors.Is(err, fs.ErrNotExist) {
			return -1
		}
		must0(t, err)
		a, err := xocsp.ParseResponseForCert(der, parsed(t, c.Certificate), parsed(t, services.Certificate))
		must0(t, err)
		return a.Status
	}
	if status(list[0]) != xocsp.Revoked || status(list[1]) != xocsp.Good {
		t.Errorf("%d and %d", status(list[0]), status(list[1]))
	}
	revoke(t, e, revocation.Superseded, list[1].SerialHex())
	_, err = responding.Prepare(ctx, e, to, publishing.Ask{Only: []string{"root"}}, nil)
	must0(t, err)
	if status(list[0]) != xocsp.Revoked || status(list[1]) != -1 { // the other one said good, which is true no more
		t.Errorf("left out: %d and %d", status(list[0]), status(list[1]))
	}
}

// A delta tells exactly what its whole list tells beyond the base, also where somebody revokes meanwhile.
func TestADeltaAgreesWithItsWholeList(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 5)
	e.Settings.Publication.Address, e.Settings.Publication.Delta = "http://pki.ternbay.example", true
	to := filepath.Join(t.TempDir(), "public")
	revoke(t, e, revocation.Superseded, list[0].SerialHex())
	publish(t, e, publishing.Ask{}, to)
	base := served(t, e, to, "services.g1.crl")
	revoke(t, e, revocation.Superseded, list[1].SerialHex())
	other := reopen(t, dir, world())
	w, meanwhile := world(), list[2:]
	w.Disk = disk.Disk{Fault: func(disk.Step, string) error {
		if len(meanwhile) > 0 {
			revoke(t, other, revocation.Superseded, meanwhile[0].SerialHex())
			meanwhile = meanwhile[1:]
		}
		return nil
	}}
	x := reopen(t, dir, w)
	x.Settings = e.Settings
	publish(t, x, publishing.Ask{}, to)
	whole, delta := on(served(t, x, to, "services.g1.crl")), on(served(t, x, to, "services.g1.delta.crl"))
	both := slices.Compact(slices.Sorted(slices.Values(append(on(base), delta...))))
	if !slices.Equal(both, whole) {
		t.Errorf("base and delta tell of %v, and the whole list of %v", both, whole)
	}
}

// Servers that check clients read one file an authority. It has the lists of every generation that stands,
// so that those who come with a certificate of the new one, or still of the old one, are let in.
func TestOneFileOfListsOutlivesARenewal(t *testing.T) {
	t.Parallel()
	_, e, _ := signed(t, 1)
	p, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services", Lifetime: span.Years(12)})
	must0(t, err)
	_, _, err = authorities.Renew(ctx, e, p)
	must0(t, err)
	to := filepath.Join(t.TempDir(), "public")
	publish(t, e, publishing.Ask{}, to)
	data, err := os.ReadFile(filepath.Join(to, "services.lists.pem"))
	must0(t, err)
	var have [][]byte
	for b, rest := pem.Decode(data); b != nil; b, rest = pem.Decode(rest) {
		have = append(have, b.Bytes)
	}
	for _, name := range []string{"services.g1.crl", "services.g2.crl", "root.g1.crl"} {
		if !slices.ContainsFunc(have, func(der []byte) bool { return bytes.Equal(der, served(t, e, to, name).Raw) }) {
			t.Errorf("%s is not in it", name)
		}
	}
	if len(have) != 3 {
		t.Errorf("%d lists are in it", len(have))
	}
}

// The machine of a root in a safe is restored, and has forgotten that it revoked an authority. Its next list
// leaves that out, with a higher number: it is refused, until the safe has learnt from its own newest list.
func TestAListThatForgetsARevocationIsRefused(t *testing.T) {
	t.Parallel()
	_, safe := newEstate(t)
	dir, e := bareEstate(t, "Tern Bay Gates")
	roots, _, err := safe.Roots(ctx)
	must0(t, err)
	_, err = transfer.OpenFolder(ctx, e, answered(t, safe, applied(t, e), "R1"), roots)
	must0(t, err)
	file, again := filepath.Join(t.TempDir(), "backup"), filepath.Join(t.TempDir(), "again")
	_, err = backup.BackUp(ctx, safe, file)
	must0(t, err)
	revoke(t, safe, revocation.CACompromise, "R1")
	ahead(t, safe, 0)
	takeIn(t, e, kept(t, safe)...)
	to := filepath.Join(t.TempDir(), "public")
	publish(t, e, publishing.Ask{}, to)
	before, err := os.ReadFile(filepath.Join(to, "offline.g1.crl"))
	must0(t, err)

	_, err = backup.Restore(ctx, file, again, world())
	must0(t, err)
	x := at(t, again, time.Now().Add(time.Hour))
	ahead(t, x, 0)
	late := at(t, dir, time.Now().Add(2*time.Hour))
	if _, err := importing.Lists(ctx, late, kept(t, x)); err == nil || !strings.Contains(err.Error(), "leaves out") {
		t.Errorf("a list that forgets: %v", err)
	}
	publish(t, late, publishing.Ask{}, to)
	if now, err := os.ReadFile(filepath.Join(to, "offline.g1.crl")); err != nil || !bytes.Equal(now, before) {
		t.Errorf("another list is served: %v", err)
	}
	if got := takeIn(t, x, before); len(got.News) != 1 {
		t.Errorf("the safe learnt %v", got.News)
	}
	y := at(t, again, time.Now().Add(3*time.Hour))
	ahead(t, y, 0)
	if got := takeIn(t, at(t, dir, time.Now().Add(4*time.Hour)), kept(t, y)...); len(got.Lists) != 1 {
		t.Errorf("%+v", got)
	}
	for _, dir := range []string{dir, again} {
		if faults := checked(t, dir); len(faults) > 0 {
			t.Errorf("%v", faults)
		}
	}
}

// A thief's list with the greatest number there is would leave our own lists without a next number.
func TestAListFarBeyondOurNumbersIsRefused(t *testing.T) {
	t.Parallel()
	dir, e, _ := signed(t, 1)
	services, err := e.Generation(ctx, "services")
	must0(t, err)
	signer, err := e.Keys.Open(ctx, services.Certificate.Key, "services", keystore.ForList)
	must0(t, err)
	d := revocation.Draft{Issuer: services.Certificate.Subject, KeyID: services.Certificate.SubjectKey,
		Number: math.MaxInt64, This: time.Now().Add(-time.Minute), Next: time.Now().Add(time.Hour)}
	der, err := d.Sign(nil, signer, rand.Reader, nil)
	must0(t, err)
	if _, err := importing.Lists(ctx, e, [][]byte{der}); err == nil || !strings.Contains(err.Error(), "far beyond") {
		t.Errorf("%v", err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
	root := partner(t) // and one that is adopted with its key would have none that follows
	d = revocation.Draft{Issuer: root.Cert.Subject, KeyID: root.Cert.SubjectKey, Number: math.MaxInt64,
		This: time.Now().Add(-time.Minute), Next: time.Now().Add(time.Hour)}
	der, err = d.Sign(nil, root.Signer, rand.Reader, nil)
	must0(t, err)
	if err := adopt(e, external.AdoptAsk{Handle: "partner", List: certs(root), Anchors: certs(root),
		Signer:  root.Signer,
		Revoked: [][]byte{der}}); err == nil || !strings.Contains(err.Error(), "continue from numbers") {
		t.Errorf("%v", err)
	}
}
