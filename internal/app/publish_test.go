package app_test

import (
	"bytes"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/importing"
	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/revoke/monitoring"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/app/transfer"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/lifecycle"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
)

// publish signs what is due and writes the folder.
func publish(t testing.TB, e *estate.Estate, ask publishing.Ask, dir string) (publishing.Done, publishing.Released) {
	t.Helper()
	p, err := publishing.PlanLists(ctx, e, ask)
	if err != nil {
		t.Fatal(err)
	}
	done, err := publishing.Sign(ctx, e, p)
	if err != nil {
		t.Fatal(err)
	}
	out, err := publishing.Release(ctx, e, dir)
	if err != nil {
		t.Fatal(err)
	}
	return done, out
}

// served reads a list of a folder with the standard library, and checks who signed it.
func served(t testing.TB, e *estate.Estate, dir, file string) *x509.RevocationList {
	t.Helper()
	der, err := os.ReadFile(filepath.Join(dir, file))
	if err != nil {
		t.Fatal(err)
	}
	l, err := x509.ParseRevocationList(der)
	if err != nil {
		t.Fatal(file, err)
	}
	name, _, _ := strings.Cut(strings.TrimSuffix(file, ".crl"), "-")
	g, err := e.Generation(ctx, strings.TrimSuffix(name, ".delta"))
	if err != nil {
		t.Fatal(err)
	}
	issuer, err := x509.ParseCertificate(g.Certificate.Raw)
	if err != nil {
		t.Fatal(err)
	}
	if err := l.CheckSignatureFrom(issuer); err != nil {
		t.Error(file, err)
	}
	return l
}

// on are the serials of a list, sorted.
func on(l *x509.RevocationList) (out []string) {
	for _, r := range l.RevokedCertificateEntries {
		text := fmt.Sprintf("%x", r.SerialNumber)
		if len(text)%2 == 1 {
			text = "0" + text
		}
		out = append(out, text)
	}
	slices.Sort(out)
	return out
}

func serials(list ...estate.CertificateRecord) (out []string) {
	for _, c := range list {
		out = append(out, c.SerialHex())
	}
	slices.Sort(out)
	return out
}

// at opens an estate with another clock.
func at(t testing.TB, dir string, when time.Time) *estate.Estate {
	t.Helper()
	w := world()
	w.Now = func() time.Time { return when }
	return reopen(t, dir, w)
}

func TestListsTellWhatIsRevoked(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 5)
	to := filepath.Join(t.TempDir(), "public")
	revoke(t, e, revocation.KeyCompromise, list[0].SerialHex(), list[1].SerialHex())
	revoke(t, e, revocation.CertificateHold, list[2].SerialHex())
	_, out := publish(t, e, publishing.Ask{}, to)
	if len(out.Lists) != 2 || len(out.Absent)+len(out.Stale) != 0 {
		t.Errorf("%+v", out)
	}
	first := served(t, e, to, "services.g1.crl")
	if want := serials(list[:3]...); !slices.Equal(on(first), want) {
		t.Errorf("on it are %v, and it should be %v", on(first), want)
	}
	if on(served(t, e, to, "root.g1.crl")) != nil {
		t.Error("the root's list is not empty")
	}
	if done, out := publish(t, e, publishing.Ask{}, to); len(done.Lists) != 0 || !out.Same {
		t.Errorf("nothing changed, and %d lists were signed", len(done.Lists))
	}
	if _, _, err := revoking.Release(ctx, e, []string{"R3"}, "found"); err != nil {
		t.Fatal(err)
	}
	revoke(t, e, revocation.CertificateHold, list[3].SerialHex())
	revoke(t, e, revocation.KeyCompromise, list[3].SerialHex())
	done, _ := publish(t, e, publishing.Ask{}, to)
	second := served(t, e, to, "services.g1.crl")
	if want := serials(list[0], list[1], list[3]); !slices.Equal(on(second), want) || len(done.Lists) != 1 {
		t.Errorf("on it are %v, and it should be %v; %d lists", on(second), want, len(done.Lists))
	}
	if second.Number.Cmp(first.Number) <= 0 {
		t.Errorf("the number went from %s to %s", first.Number, second.Number)
	}
	for _, r := range second.RevokedCertificateEntries {
		if r.ReasonCode != int(revocation.KeyCompromise) {
			t.Errorf("%x is there for %d", r.SerialNumber, r.ReasonCode)
		}
	}
	// From the records again it is the same list: what was kept is no second truth.
	if err := os.RemoveAll(inventory.Folder(e)); err != nil {
		t.Fatal(err)
	}
	publish(t, e, publishing.Ask{}, to)
	if third := served(t, e, to, "services.g1.crl"); !slices.Equal(on(third), on(second)) {
		t.Errorf("made again it has %v, and before %v", on(third), on(second))
	}
	checkFolder(t, e, to)
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}

// checkFolder reads every file of a folder with the standard library.
func checkFolder(t testing.TB, e *estate.Estate, dir string) {
	t.Helper()
	files, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	contents, err := os.ReadFile(filepath.Join(dir, publishing.ContentsFile))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		data, err := os.ReadFile(filepath.Join(dir, f.Name()))
		if err != nil {
			t.Fatal(err)
		}
		if f.Name() != publishing.ContentsFile && !strings.Contains(string(contents), "- "+f.Name()+" ") {
			t.Errorf("the contents do not tell of %s", f.Name())
		}
		switch {
		case strings.HasSuffix(f.Name(), ".cer"):
			_, err = x509.ParseCertificate(data)
		case strings.HasSuffix(f.Name(), ".crl"):
			_, err = x509.ParseRevocationList(data)
		case strings.HasSuffix(f.Name(), ".lists.pem"):
			seen := map[string]bool{}
			for rest := data; len(rest) > 0 && err == nil; {
				var b *pem.Block
				if b, rest = pem.Decode(rest); b == nil {
					err = errors.New("it does not end as it should")
					break
				}
				var l *x509.RevocationList
				if l, err = x509.ParseRevocationList(b.Bytes); err == nil && seen[string(l.AuthorityKeyId)] {
					err = errors.New("a key has two lists in it")
				}
				if l != nil {
					seen[string(l.AuthorityKeyId)] = true
				}
			}
		}
		if err != nil {
			t.Errorf("%s: %v", f.Name(), err)
		}
		if who := disk.Exposed(filepath.Join(dir, f.Name())); who == "" ||
			runtime.GOOS != "windows" && !strings.Contains(who, "0644") {
			t.Errorf("%s is not for a web server to read alone: %q", f.Name(), who)
		}
	}
}

// What ended stays on a list until one was dated after its end (RFC 5280 section 3.3).
func TestWhatEndedLeavesTheList(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 3)
	to := filepath.Join(t.TempDir(), "public")
	revoke(t, e, revocation.KeyCompromise, list[0].SerialHex(), list[1].SerialHex())
	publish(t, e, publishing.Ask{}, to)
	after := list[0].NotAfter.AddDate(0, 0, 1)
	for i, want := range []int{2, 0, 0} {
		e := at(t, dir, after.AddDate(0, 0, 2*i))
		publish(t, e, publishing.Ask{}, to)
		if l := served(t, e, to, "services.g1.crl"); len(l.RevokedCertificateEntries) != want {
			t.Errorf("list %d after the end has %d entries", i, len(l.RevokedCertificateEntries))
		}
	}
}

// Generations with one name and key have one list; one with another key has its own, which
// goes on after the renewal, and after the authority is retired.
func TestEveryGenerationHasItsList(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 2)
	to := filepath.Join(t.TempDir(), "public")
	for _, same := range []bool{true, false} {
		p, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services", SameKey: same,
			Lifetime: span.Years(12)})
		if err == nil {
			_, _, err = authorities.Renew(ctx, e, p)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if _, _, err := authorities.Retire(ctx, e, "services", "its work is done", false); err != nil {
		t.Fatal(err)
	}
	revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
	_, out := publish(t, e, publishing.Ask{}, to)
	var titles []string
	for _, i := range out.Lists {
		titles = append(titles, i.Title())
	}
	if want := []string{"root.g1.crl", "services.g1.crl", "services.g3.crl"}; !slices.Equal(titles, want) {
		t.Errorf("lists %v", titles)
	}
	for _, file := range titles[1:] { // a client may take either for the name's
		if l := served(t, e, to, file); !slices.Equal(on(l), serials(list[0])) {
			t.Errorf("%s has %v", file, on(l))
		}
	}
	checkFolder(t, e, to)
	late := at(t, dir, time.Now().AddDate(11, 0, 0)) // g1 and g2 have the key; g2 goes on
	publish(t, late, publishing.Ask{}, to)
	served(t, late, to, "services.g1.crl")
}

func TestListsInParts(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	e.Settings.Publication.Address, e.Settings.Publication.PartSize = "http://pki.ternbay.example", 3
	receive(t, e, 7)
	var list []estate.CertificateRecord
	for i := range 7 {
		if err := sign(e, sheet(t, e, i+1)); err != nil {
			t.Fatal(err)
		}
		c, _, err := e.FindCertificate(ctx, fmt.Sprintf("R%d", i+1))
		if err != nil {
			t.Fatal(err)
		}
		parsed, err := x509.ParseCertificate(c.Raw)
		if err != nil {
			t.Fatal(err)
		}
		want := fmt.Sprintf("http://pki.ternbay.example/services.g1-%d.crl", i/3+1)
		if c.Record.Part != i/3+1 || !slices.Equal(parsed.CRLDistributionPoints, []string{want}) ||
			!slices.Equal(parsed.IssuingCertificateURL, []string{"http://pki.ternbay.example/services.g1.cer"}) {
			t.Errorf("%d stands on part %d, at %v", i, c.Record.Part, parsed.CRLDistributionPoints)
		}
		list = append(list, c)
	}
	to := filepath.Join(t.TempDir(), "public")
	revoke(t, e, revocation.Superseded, list[0].SerialHex(), list[5].SerialHex())
	publish(t, e, publishing.Ask{}, to)
	for file, want := range map[string][]estate.CertificateRecord{"services.g1-1.crl": list[:1],
		"services.g1-2.crl": list[5:6],
		"services.g1-3.crl": nil, "services.g1.crl": {list[0], list[5]}} {
		t.Run(file, func(t *testing.T) {
			l := served(t, e, to, file)
			if !slices.Equal(on(l), serials(want...)) {
				t.Errorf("%s has %v", file, on(l))
			}
			own, err := revocation.ReadList(l.Raw)
			if err != nil || own.Scoped == (file == "services.g1.crl") ||
				own.Scoped && own.Scope.Names[0].URI != "http://pki.ternbay.example/"+file {
				t.Errorf("%s is about %+v, %v", file, own.Scope, err)
			}
		})
	}
	revoke(t, e, revocation.Superseded, list[6].SerialHex())
	done, _ := publish(t, e, publishing.Ask{}, to)
	var titles []string
	for _, i := range done.Lists {
		titles = append(titles, i.Title())
	}
	if want := []string{"services.g1.crl", "services.g1-3.crl"}; !slices.Equal(titles, want) {
		t.Errorf("signed again were %v", titles)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
	// In a batch no part takes all of the time.
	for i := range 9 {
		host := fmt.Sprintf("more%d.ternbay.example", i)
		take(t, e, specimen.Request(t, nil, "CN="+host, []string{host}))
	}
	batch, err := signing.PlanAll(ctx, e, signing.SignAsk{Template: "web-server", By: "services"}, nil)
	if err != nil || len(batch) != 9 {
		t.Fatalf("%d are planned, %v", len(batch), err)
	}
	for i, x := range batch {
		if want := (7+i)/3 + 1; x.Err != nil || x.Sheet.Part() != want {
			t.Errorf("%s would stand on part %d, and not on %d: %v", x.Name, x.Sheet.Part(), want, x.Err)
		}
	}
}

func TestDeltaLists(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 4)
	to := filepath.Join(t.TempDir(), "public")
	set := func(e *estate.Estate) *estate.Estate {
		e.Settings.Publication.Address, e.Settings.Publication.Delta = "http://pki.ternbay.example", true
		return e
	}
	set(e)
	revoke(t, e, revocation.Superseded, list[0].SerialHex())
	revoke(t, e, revocation.CertificateHold, list[1].SerialHex())
	publish(t, e, publishing.Ask{}, to)
	base := served(t, e, to, "services.g1.crl")
	later := set(at(t, dir, time.Now().Add(time.Hour)))
	revoke(t, later, revocation.KeyCompromise, list[2].SerialHex())
	if _, _, err := revoking.Release(ctx, later, []string{"R2"}, "found"); err != nil {
		t.Fatal(err)
	}
	publish(t, later, publishing.Ask{}, to)
	whole, delta := served(t, later, to, "services.g1.crl"), served(t, later, to, "services.g1.delta.crl")
	own, err := revocation.ReadList(delta.Raw)
	if err != nil {
		t.Fatal(err)
	}
	if whole.Number.Cmp(delta.Number) != 0 || own.Base == nil || own.Base.Cmp(base.Number) != 0 {
		t.Errorf("whole %s, delta %s to %v, base %s", whole.Number, delta.Number, own.Base, base.Number)
	}
	reasons := map[string]int{}
	for _, r := range delta.RevokedCertificateEntries {
		reasons[fmt.Sprintf("%032x", r.SerialNumber)] = r.ReasonCode
	}
	if len(reasons) != 2 || reasons[padded(list[2])] != int(revocation.KeyCompromise) ||
		reasons[padded(list[1])] != int(revocation.RemoveFromCRL) {
		t.Errorf("%v", reasons)
	}
	if !slices.Equal(on(whole), serials(list[0], list[2])) {
		t.Errorf("%v", on(whole))
	}
}

func padded(c estate.CertificateRecord) string { return fmt.Sprintf("%032x", c.Serial.Big()) }

// An authority whose key is locked away signs lists ahead; each is served in its time, and
// what is revoked meanwhile takes the place of all of them.
func TestListsAreSignedAhead(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 2)
	to := filepath.Join(t.TempDir(), "public")
	month := span.Days(30)
	publish(t, e, publishing.Ask{Only: []string{"services"}, Ahead: 3, Life: span.Days(40), Step: month}, to)
	now := time.Now()
	var last *big.Int
	for i := range 4 {
		e := at(t, dir, now.AddDate(0, 0, 30*i+1))
		done, out := publish(t, e, publishing.Ask{Only: []string{"services"}}, to)
		l := served(t, e, to, "services.g1.crl")
		if len(done.Lists) > 0 || len(out.Stale) > 0 || l.NextUpdate.Before(e.Now()) || l.ThisUpdate.After(e.Now()) ||
			last != nil && l.Number.Cmp(last) <= 0 {
			t.Errorf("month %d: %d signed, stale %v, number %s, from %s to %s", i, len(done.Lists), out.Stale, l.Number,
				l.ThisUpdate, l.NextUpdate)
		}
		last = l.Number
		if i == 1 {
			revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
			publish(t, e, publishing.Ask{Only: []string{"services"}, Ahead: 3, Life: span.Days(40), Step: month}, to)
			again := served(t, e, to, "services.g1.crl")
			if again.Number.Cmp(l.Number) <= 0 || !slices.Equal(on(again), serials(list[0])) {
				t.Errorf("number %s after %s, %v", again.Number, l.Number, on(again))
			}
			last = again.Number
		}
		if i > 1 && !slices.Equal(on(l), serials(list[0])) {
			t.Errorf("month %d: what is revoked is on no list", i)
		}
	}
}

// The lists of a root in a safe are signed there and imported here; older ones, those of
// others and those that are not whole are refused.
func TestListsFromTheSafe(t *testing.T) {
	t.Parallel()
	safeDir, safe := newEstate(t)
	_, e := bareEstate(t, "Tern Bay Ferries")
	root, err := safe.Generation(ctx, "root")
	if err != nil {
		t.Fatal(err)
	}
	if err := adopt(e, external.AdoptAsk{Handle: "root", List: []*cert.Certificate{root.Certificate},
		Anchors: []*cert.Certificate{root.Certificate}}); err != nil {
		t.Fatal(err)
	}
	public := filepath.Join(t.TempDir(), "stick")
	list := func(when time.Time) []byte {
		t.Helper()
		x := at(t, safeDir, when)
		publish(t, x, publishing.Ask{All: true}, public)
		der, err := os.ReadFile(filepath.Join(public, "root.g1.crl"))
		if err != nil {
			t.Fatal(err)
		}
		return der
	}
	now := time.Now()
	first, second := list(now), list(now.Add(time.Hour))
	services, err := os.ReadFile(filepath.Join(public, "services.g1.crl"))
	if err != nil {
		t.Fatal(err)
	}
	soon := at(t, e.Dir, now.Add(2*time.Hour))
	for _, c := range []struct {
		der  []byte
		says string
	}{{second, ""}, {second, ""}, {first, "it is an older one"}, {services,
		"signed by no authority"},
		{second[:len(second)-3], "not the ASN.1 structure"}} {
		t.Run(c.says, func(t *testing.T) {
			_, err := importing.Lists(ctx, soon, [][]byte{c.der})
			if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
				t.Errorf("%q: %v", c.says, err)
			}
		})
	}
	to := filepath.Join(t.TempDir(), "public")
	_, out := publish(t, soon, publishing.Ask{}, to)
	if len(out.Lists) != 1 || len(out.Absent) != 0 {
		t.Errorf("%+v", out)
	}
	stick := filepath.Join(t.TempDir(), "lists")
	x := at(t, safeDir, now.Add(150*time.Minute))
	publish(t, x, publishing.Ask{Only: []string{"root"}, Ahead: 2}, public)
	if _, _, err := transfer.Pack(ctx, x, transfer.PackAsk{Dir: stick, Lists: true}); err != nil {
		t.Fatal(err)
	}
	folder, err := transfer.ReadFolder(stick)
	if err != nil {
		t.Fatal(err)
	}
	o, err := transfer.OpenFolder(ctx, at(t, e.Dir, now.Add(3*time.Hour)), folder, nil)
	if err != nil || len(o.Lists.Lists) != 3 { // the one for now, and two ahead; services is not known here
		t.Errorf("%+v, %v", o.Lists, err)
	}
	late := at(t, e.Dir, now.AddDate(1, 0, 0))
	if _, err := importing.Lists(ctx, late, [][]byte{list(now.Add(3 * time.Hour))}); err == nil ||
		!strings.Contains(err.Error(), "stale") {
		t.Errorf("a stale list: %v", err)
	}
	if _, out := publish(t, late, publishing.Ask{}, to); len(out.Stale) != 1 {
		t.Errorf("%+v", out)
	}
	if faults := checked(t, e.Dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}

// After a restored backup numbers go on, and what is missing is signed again.
func TestNumbersGoOnAfterARestore(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 2)
	to := filepath.Join(t.TempDir(), "public")
	revoke(t, e, revocation.Superseded, list[0].SerialHex())
	publish(t, e, publishing.Ask{}, to)
	file := filepath.Join(t.TempDir(), "b")
	if _, err := backup.BackUp(ctx, e, file); err != nil {
		t.Fatal(err)
	}
	later := at(t, dir, time.Now().Add(time.Hour))
	revoke(t, later, revocation.Superseded, list[1].SerialHex())
	publish(t, later, publishing.Ask{}, to)
	before := served(t, later, to, "services.g1.crl")
	restored := filepath.Join(t.TempDir(), "again")
	if _, err := backup.Restore(ctx, file, restored, world()); err != nil {
		t.Fatal(err)
	}
	x := at(t, restored, time.Now().Add(2*time.Hour))
	publish := func(x *estate.Estate, all bool) error {
		t.Helper()
		p, err := publishing.PlanLists(ctx, x, publishing.Ask{All: all})
		if err == nil {
			_, err = publishing.Sign(ctx, x, p)
		}
		if err == nil {
			_, err = publishing.Release(ctx, x, to)
		}
		return err
	}
	var lacks *publishing.Unrecorded
	if err := publish(x, true); !errors.As(err, &lacks) || lacks.Size != 2 {
		t.Errorf("a folder that knows more was replaced: %v", err)
	}
	if l := served(t, x, to, "services.g1.crl"); !bytes.Equal(l.Raw, before.Raw) {
		t.Error("the list in the folder is another one")
	}
	files, err := filepath.Glob(filepath.Join(to, "*.crl"))
	must0(t, err)
	var ders [][]byte
	for _, f := range files {
		der, err := os.ReadFile(f)
		must0(t, err)
		ders = append(ders, der)
	}
	if got, err := importing.Lists(ctx, x, ders); err != nil || len(got.News) != 1 {
		t.Errorf("%+v, %v", got, err)
	}
	if state := stateOf(t, x, list[1].SerialHex()); state != lifecycle.Revoked {
		t.Errorf("what was revoked after the backup is %s", state)
	}
	must0(t, publish(x, true))
	l := served(t, x, to, "services.g1.crl")
	if l.Number.Cmp(before.Number) <= 0 || !slices.Equal(on(l), serials(list...)) {
		t.Errorf("the number went from %s to %s, with %v", before.Number, l.Number, on(l))
	}
	if faults := checked(t, restored); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}

// A folder that holds something else is left alone; a disk that fails leaves the one before
// whole, and the next run mends it.
func TestAFolderIsReplacedWholeOrNotAtAll(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 2)
	to := filepath.Join(t.TempDir(), "public")
	publish(t, e, publishing.Ask{}, to)
	before := served(t, e, to, "services.g1.crl")
	revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
	full := errors.New("the disk is full")
	for n := range 40 {
		w := world()
		count := 0
		w.Disk = disk.Disk{Fault: func(disk.Step, string) error {
			if count++; count == n+1 {
				return full
			}
			return nil
		}}
		x := reopen(t, dir, w)
		p, err := publishing.PlanLists(ctx, x, publishing.Ask{All: true})
		if err != nil {
			t.Fatal(err)
		}
		if _, err = publishing.Sign(ctx, x, p); err == nil {
			_, err = publishing.Release(ctx, x, to)
		}
		if err == nil {
			break
		}
		if l := served(t, e, to, "services.g1.crl"); l.Number.Cmp(before.Number) < 0 {
			t.Fatalf("fault %d: the number went back", n)
		} else if len(l.RevokedCertificateEntries) == 1 {
			before = l
		}
		checkFolder(t, e, to)
	}
	publish(t, e, publishing.Ask{}, to)
	if l := served(t, e, to, "services.g1.crl"); !slices.Equal(on(l), serials(list[0])) {
		t.Errorf("%v", on(l))
	}
	foreign := filepath.Join(t.TempDir(), "www")
	if err := os.MkdirAll(foreign, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(foreign, "index.html"), []byte("ferries"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := publishing.Release(ctx, e, foreign); err == nil || !strings.Contains(err.Error(), "index.html") {
		t.Errorf("a folder of somebody else's: %v", err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}

// Two publish, and others revoke, at once: no number is given twice, nothing is lost.
func TestTwoPublishAtOnce(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 8)
	to := filepath.Join(t.TempDir(), "public")
	publish(t, e, publishing.Ask{}, to)
	var all sync.WaitGroup
	for i := range 2 {
		x := reopen(t, dir, world())
		all.Go(func() {
			for range 4 {
				p, err := publishing.PlanLists(ctx, x, publishing.Ask{All: true})
				if err == nil {
					_, err = publishing.Sign(ctx, x, p)
				}
				if err == nil {
					_, err = publishing.Release(ctx, x, to)
				}
				if err != nil && !strings.Contains(err.Error(), "run it again") && !errors.Is(err, disk.ErrExists) {
					t.Error(err)
				}
			}
		})
		y := reopen(t, dir, world())
		all.Go(func() {
			for _, c := range list[4*i : 4*i+4] {
				revoke(t, y, revocation.Superseded, c.SerialHex())
			}
		})
	}
	all.Wait()
	before, err := inventory.Known(ctx, e.Records)
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range before.Served(e.Now()) { // whoever came last, the newest is served
		if l := served(t, e, to, i.Title()); l.Number.Int64() != i.Number {
			t.Errorf("%s: %s is served, and %d is the newest", i.Title(), l.Number, i.Number)
		}
	}
	publish(t, e, publishing.Ask{}, to)
	if l := served(t, e, to, "services.g1.crl"); !slices.Equal(on(l), serials(list...)) {
		t.Errorf("%d are on it", len(l.RevokedCertificateEntries))
	}
	numbers := map[string]bool{}
	known, err := inventory.Known(ctx, e.Records)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range known.Scopes() {
		for _, i := range known.All(s) {
			k := fmt.Sprint(i.Title(), " ", i.Number)
			if numbers[k] {
				t.Errorf("%s was given twice", k)
			}
			numbers[k] = true
		}
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}

// Whoever wrote a list that is not on record, or serves an older one, is told of.
func TestListsWhereClientsLook(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 1)
	to := filepath.Join(t.TempDir(), "public")
	publish(t, e, publishing.Ask{}, to)
	old, err := os.ReadFile(filepath.Join(to, "services.g1.crl"))
	if err != nil {
		t.Fatal(err)
	}
	copied := copied(t, dir)
	later := at(t, dir, time.Now().Add(time.Minute))
	revoke(t, later, revocation.KeyCompromise, list[0].SerialHex())
	publish(t, later, publishing.Ask{}, to)
	now, err := os.ReadFile(filepath.Join(to, "services.g1.crl"))
	if err != nil {
		t.Fatal(err)
	}
	rogue := at(t, copied, time.Now().Add(time.Hour))
	publish(t, rogue, publishing.Ask{All: true}, filepath.Join(copied, "public"))
	unknown, err := os.ReadFile(filepath.Join(copied, "public", "services.g1.crl"))
	if err != nil {
		t.Fatal(err)
	}
	for what, c := range map[string]struct {
		data []byte
		e    *estate.Estate
		code string
	}{"the one": {now, later, ""}, "an older one": {old, later, "list-older"}, "one that nobody wrote down": {unknown,
		later,
		"list-not-on-record"}, "a cut one": {now[:100], later, "list-unreadable"},
		"a stale one": {now, at(t, dir, time.Now().AddDate(0, 1, 0)), "list-stale"},
		"another's":   {now, func() *estate.Estate { _, x := newEstate(t); return x }(), "list-of-another"}} {
		t.Run(what, func(t *testing.T) {
			got, err := monitoring.Check(ctx, c.e, "file", c.data)
			if err != nil || got.Good != (c.code == "") || c.code != "" && !got.Findings.Has(finding.Code(c.code)) {
				t.Errorf("%s: %+v, %v", what, got, err)
			}
		})
	}
}

// A list on record is known by its content digest, and one from before there were any by its SHA-256.
func TestListsOnRecordAreKnown(t *testing.T) {
	t.Parallel()
	_, e, _ := signed(t, 1)
	publish(t, e, publishing.Ask{}, filepath.Join(t.TempDir(), "public"))
	lists, err := inventory.Current(ctx, e)
	if err != nil || len(lists) != 2 {
		t.Fatal(len(lists), err)
	}
	sum := sha256.Sum256(lists[0].Raw)
	for what, i := range map[string]event.List{"digest": {ContentDigest: lists[0].ContentDigest()},
		"SHA-256": {SHA256: hex.EncodeToString(sum[:])}} {
		if !inventory.Is(i, lists[0]) || inventory.Is(i, lists[1]) {
			t.Errorf("by its %s it is not known", what)
		}
	}
	if inventory.Is(event.List{}, lists[0]) {
		t.Error("what has neither is any list")
	}
}
