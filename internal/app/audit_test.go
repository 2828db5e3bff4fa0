package app_test

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"database/sql"
	"fmt"
	"math/big"
	mrand "math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/audit"
	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/incidents"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/app/transfer"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/internal/store/onserver"
	"ironseal/internal/store/sqlstore"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
)

// weakPair makes two RSA keys that share a prime.
func weakPair(t testing.TB) [2]*rsa.PrivateKey {
	t.Helper()
	prime := func() *big.Int {
		for {
			p, err := rand.Prime(rand.Reader, 1024)
			if err != nil {
				t.Fatal(err)
			}
			if new(big.Int).GCD(nil, nil, new(big.Int).Sub(p, big.NewInt(1)),
				big.NewInt(65537)).Cmp(big.NewInt(1)) == 0 {
				return p
			}
		}
	}
	one, shared := big.NewInt(1), prime()
	var out [2]*rsa.PrivateKey
	for i := range out {
		q := prime()
		phi := new(big.Int).Mul(new(big.Int).Sub(shared, one), new(big.Int).Sub(q, one))
		k := &rsa.PrivateKey{PublicKey: rsa.PublicKey{N: new(big.Int).Mul(shared, q), E: 65537},
			D: new(big.Int).ModInverse(big.NewInt(65537), phi), Primes: []*big.Int{shared, q}}
		k.Precompute()
		out[i] = k
	}
	return out
}

// taken receives requests for a key and a host.
func taken(t testing.TB, e *estate.Estate, signer *rsa.PrivateKey, host string) {
	t.Helper()
	r := specimen.Request(t, signer, "CN="+host, []string{host})
	if _, _, faults := intake.Receive(ctx, e, []intake.Input{{Name: host, Data: bundle.PEM(bundle.Request, r.Raw)}},
		"the yard"); len(faults) > 0 {
		t.Fatal(faults)
	}
}

// busyEstate makes an estate in which everything that records can hold is on record.
func busyEstate(t testing.TB) (string, *estate.Estate) {
	t.Helper()
	dir, e := newEstate(t)
	out := t.TempDir()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	receive(t, e, 8)
	e.Settings.Publication.Address = "http://pki.ternbay.example"
	for i := range 3 {
		must(sign(e, sheet(t, e, i+1)))
	}
	s, err := signing.Plan(ctx, e, signing.SignAsk{Request: "R4", Template: "web-server", By: "services",
		Amend:   issue.Amendments{Drop: specimen.Names(t, "nobody.ternbay.example")},
		Waivers: []finding.Waiver{{Code: finding.DropMissed, Because: "it was gone already"}}})
	must(err)
	must(sign(e, s))
	_, err = intake.Decide(ctx, e, "R5", lifecycle.Declined, "out of service", false)
	must(err)
	_, _, err = transfer.Pack(ctx, e, transfer.PackAsk{Dir: filepath.Join(out, "stick"), Requests: []string{"R6"}})
	must(err)
	for _, host := range []string{"d1.ternbay.example", "d2.ternbay.example"} {
		d, err := intake.Draft(ctx, world(), e, intake.DraftAsk{Names: specimen.Names(t, host), Dir: out})
		must(err)
		if _, _, f := intake.Receive(ctx, e, []intake.Input{{Name: "d", Data: bundle.PEM(bundle.Request,
			d.Request.Raw)}},
			""); f != nil {
			t.Fatal(f)
		}
	}
	_, err = intake.Decide(ctx, e, "R9", lifecycle.Withdrawn, "the wrong host", false)
	must(err)
	again, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: "h0.ternbay.example"})
	must(err)
	must(sign(e, again))
	outside(t, e)
	h, _, err := e.FindCertificate(ctx, "h1.ternbay.example")
	must(err)
	_, other := newEstate(t)
	receive(t, other, 1)
	stick := filepath.Join(out, "from-elsewhere")
	_, _, err = transfer.Pack(ctx, other, transfer.PackAsk{Dir: stick, All: true})
	must(err)
	folder, err := transfer.ReadFolder(stick)
	must(err)
	_, err = transfer.OpenFolder(ctx, e, folder, nil)
	must(err)
	nginx, err := e.Receiver("nginx")
	must(err)
	_, err = delivery.Handover(ctx, e, delivery.HandoverAsk{Certificate: h, Receiver: nginx, Dir: out, To: "the quay"})
	must(err)
	for i, k := range weakPair(t) {
		taken(t, e, k, fmt.Sprintf("weak%d.ternbay.example", i))
	}
	renew := func(ask authorities.RenewAsk) {
		p, err := authorities.PlanRenewal(ctx, e, ask)
		must(err)
		_, _, err = authorities.Renew(ctx, e, p)
		must(err)
	}
	renew(authorities.RenewAsk{Handle: "root"})
	renew(authorities.RenewAsk{Handle: "services", Day: time.Now().AddDate(0, 1, 0)})
	list, err := renewals.PlanChange(ctx, e, "services", nil)
	must(err)
	for _, x := range list {
		must(x.Err)
		must(sign(e, x.Sheet))
	}
	for _, ask := range []authorities.Ask{{Handle: "stores", Under: "root"}, {Handle: "ships", Under: "root"}} {
		p, err := authorities.PlanNew(ctx, e, ask)
		must(err)
		_, _, err = authorities.Create(ctx, e, p)
		must(err)
	}
	_, _, err = authorities.Retire(ctx, e, "stores", "its work went to another", false)
	must(err)
	_, _, err = external.Apply(ctx, e, external.ApplyAsk{Handle: "gates", Parent: "far"})
	must(err)
	_, err = external.WithdrawApplication(ctx, e, "gates")
	must(err)
	takenBack(t, e)
	return dir, e
}

// takenBack revokes, puts on hold, releases, publishes, and opens an incident.
func takenBack(t testing.TB, e *estate.Estate) {
	t.Helper()
	publish := func() {
		t.Helper()
		p, err := publishing.PlanLists(ctx, e, publishing.Ask{})
		if err == nil {
			_, err = publishing.Sign(ctx, e, p)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	list, err := e.Certificates(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var own []string
	for _, c := range list {
		if !c.IsAuthority() && strings.HasPrefix(c.Record.Issuer, "services.g") {
			own = append(own, c.SerialHex())
		}
	}
	revoke(t, e, revocation.KeyCompromise, own[0])
	revoke(t, e, revocation.CertificateHold, own[1], own[2])
	publish()
	if _, _, err := revoking.Release(ctx, e, own[1:2], "it was found"); err != nil {
		t.Fatal(err)
	}
	revoke(t, e, revocation.CessationOfOperation, own[2])
	publish()
	if _, _, err := incidents.Open(ctx, e, "ships", "a drill"); err != nil {
		t.Fatal(err)
	}
	if _, err := revoking.Schedule(ctx, e, list[len(list)-1:], span.Days(3)); err != nil {
		t.Fatal(err)
	}
}

// revoke takes certificates back.
func revoke(t testing.TB, e *estate.Estate, why revocation.Reason, names ...string) {
	t.Helper()
	p, err := revoking.PlanRevoke(ctx, e, revoking.Ask{Names: names, Reason: why, Because: "a test",
		Since: e.Now().AddDate(0, 0, -1)})
	if err == nil {
		_, err = revoking.Revoke(ctx, e, p)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// outside adopts an authority with a list, and imports an answer of another's.
func outside(t testing.TB, e *estate.Estate) {
	t.Helper()
	now := time.Now().UTC().Truncate(time.Second)
	live := func(p specimen.Plan) specimen.Plan {
		p.From, p.Until = now.AddDate(-1, 0, 0), now.AddDate(5, 0, 0)
		return p
	}
	root := specimen.Make(t, nil, live(specimen.Plan{Subject: "CN=Far Root", Authority: true}))
	mid := specimen.Make(t, root, live(specimen.Plan{Subject: "CN=Far Services", Authority: true}))
	leaf := specimen.Make(t, mid, live(specimen.Plan{Subject: "CN=far.ternbay.example",
		Names: []string{"far.ternbay.example"}}))
	parent, err := x509.ParseCertificate(mid.Cert.Raw)
	if err != nil {
		t.Fatal(err)
	}
	crl, err := x509.CreateRevocationList(rand.Reader,
		&x509.RevocationList{Number: big.NewInt(7), ThisUpdate: now, NextUpdate: now.AddDate(0, 1, 0),
			RevokedCertificateEntries: []x509.RevocationListEntry{{SerialNumber: big.NewInt(77), RevocationTime: now,
				ReasonCode: 1}}}, parent, mid.Signer)
	if err != nil {
		t.Fatal(err)
	}
	a, err := external.PlanAdoption(ctx, e, external.AdoptAsk{Handle: "far", List: []*cert.Certificate{mid.Cert,
		root.Cert},
		Issued: []*cert.Certificate{leaf.Cert}, Revoked: [][]byte{crl}, Anchors: []*cert.Certificate{root.Cert}})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := external.Adopt(ctx, e, a); err != nil {
		t.Fatal(err)
	}
	stranger := specimen.Make(t, nil, live(specimen.Plan{Subject: "CN=Stranger", Authority: true}))
	signer := specimen.Key(t, key.P256)
	r := specimen.Request(t, signer, "CN=shop.ternbay.example", []string{"shop.ternbay.example"})
	got, _, faults := intake.Receive(ctx, e, []intake.Input{{Name: "shop", Data: bundle.PEM(bundle.Request, r.Raw)}},
		"")
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	answer := specimen.Make(t, stranger, live(specimen.Plan{Subject: "CN=shop.ternbay.example",
		Names: []string{"shop.ternbay.example"}, Signer: signer}))
	m, err := external.MatchAnswer(ctx, e, external.AnswerAsk{List: []*cert.Certificate{answer.Cert},
		Anchors: []*cert.Certificate{stranger.Cert}, Request: fmt.Sprint("R", got[0].Record.Number)})
	if err != nil {
		t.Fatal(err)
	}
	m.Chain = []*cert.Certificate{stranger.Cert}
	if _, err := external.Accept(ctx, e, m); err != nil {
		t.Fatal(err)
	}
}

// known are the faults of an estate that nobody has touched: the two keys that
// share a prime.
func checked(t testing.TB, dir string) []audit.Fault {
	t.Helper()
	e, err := estate.Open(ctx, dir, world())
	if err != nil {
		return []audit.Fault{{About: "records", What: err.Error()}}
	}
	defer e.Close()
	c, err := audit.Check(ctx, e, audit.CheckAsk{})
	if err != nil {
		return []audit.Fault{{About: "check", What: err.Error()}}
	}
	return slices.DeleteFunc(c.Faults, func(f audit.Fault) bool {
		return strings.Contains(f.What,
			"shares a prime")
	})
}

func copied(t testing.TB, dir string) string {
	t.Helper()
	to := filepath.Join(t.TempDir(), "copy")
	if err := os.CopyFS(to, os.DirFS(dir)); err != nil {
		t.Fatal(err)
	}
	for _, pattern := range []string{"keys/*", "records.db*"} {
		files, _ := filepath.Glob(filepath.Join(to, pattern))
		for _, f := range files {
			if err := os.Chmod(f, 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	settings, err := estate.ReadSettings(to)
	if err == nil && settings.Storage.OnServer() {
		url := onserver.URL(t)
		from, openErr := sqlstore.Open(ctx, estate.PlaceOf(dir, settings.Storage))
		must0(t, openErr)
		defer from.Close()
		made, copyErr := sqlstore.Copy(ctx, from, store.Place{At: url, Head: filepath.Join(to, estate.HeadFile)})
		must0(t, copyErr)
		must0(t, made.Close())
		must0(t, estate.PointTo(to, disk.Disk{}, url))
	}
	return to
}

// harmless are edits that change nothing that anybody could rely on.
var harmless = map[string]string{
	"waiver id": "nothing refers to it", "moduli id": "nothing refers to it", "sent id": "nothing refers to it",
	"generation id": "told where anything refers to it",
	"revocation id": "a list whose count does not agree with the records is made again",
}

// Whatever is changed in the records by hand, the check tells of it: every column of
// every table, a row that is gone, one that is there twice, one too many.
func TestEditsOfTheRecordsAreTold(t *testing.T) {
	onserver.FilesOnly(t)
	t.Parallel()
	dir, e := busyEstate(t)
	e.Close()
	if faults := checked(t, dir); len(faults) > 0 {
		t.Fatalf("an estate that nobody touched: %v", faults)
	}
	tables := []string{"meta", "authority", "template", "request", "certificate", "generation", "link", "sent",
		"holder", "revocation", "place", "carried", "name", "outside", "draft", "waiver", "journal", "moduli", "flaw"}
	tried, silent := 0, 0
	try := func(what, statement string, args ...any) {
		to := copied(t, dir)
		defer os.RemoveAll(filepath.Dir(to))
		db, err := sql.Open("sqlite", filepath.Join(to, "records.db"))
		if err != nil {
			t.Fatal(err)
		}
		db.SetMaxOpenConns(1)
		res, err := db.Exec(statement, args...)
		if err != nil {
			db.Close()
			return // the database refuses it
		}
		n, _ := res.RowsAffected()
		db.Close()
		if n == 0 && !strings.HasPrefix(statement, "CREATE") && !strings.HasPrefix(statement, "DROP") {
			t.Errorf("%s changed nothing", what)
			return
		}
		tried++
		if len(checked(t, to)) == 0 {
			if _, ok := harmless[what]; !ok {
				silent++
				t.Errorf("%s: the check calls it sound (%s)", what, statement)
			}
		}
	}
	r := mrand.New(mrand.NewPCG(uint64(time.Now().UnixNano()), 25)) // every run tries other rows
	for _, table := range tables {
		columns, rows := describeTable(t, dir, table)
		if len(rows) == 0 {
			t.Fatalf("the table %s is empty: the test tries nothing on it", table)
		}
		at := rows[r.IntN(len(rows))]
		for _, c := range columns {
			if !thorough() && r.IntN(5) > 0 {
				continue
			}
			try(table+" "+c.name, fmt.Sprintf("UPDATE %s SET %s = %s WHERE rowid = ?", table, c.name, c.changed()), at)
		}
		try(table+" row gone", "DELETE FROM "+table+" WHERE rowid = ?", at)
		var others []string
		for _, c := range columns {
			if c.primary && c.kind == "INTEGER" {
				others = append(others, "1000000")
			} else if c.unique {
				others = append(others, c.changed())
			} else {
				others = append(others, c.name)
			}
		}
		try(table+" row added", fmt.Sprintf("INSERT INTO %s SELECT %s FROM %s WHERE rowid = ?", table,
			strings.Join(others, ", "), table), at)
		try(table+" emptied", "DELETE FROM "+table)
	}
	_, rows := describeTable(t, dir, "certificate")
	for _, at := range rows { // the row decides whether it shows
		try("certificate replaced_by",
			"UPDATE certificate SET replaced_by = coalesce(replaced_by,0) + 1 WHERE rowid = ?", at)
	}
	try("a trigger", "CREATE TRIGGER t AFTER INSERT ON request BEGIN UPDATE request SET state = 'signed'; END")
	try("a view", "CREATE VIEW v AS SELECT 1")
	try("an index gone", "DROP INDEX certificate_serial")
	try("the end of the journal cut off", "DELETE FROM journal WHERE seq > (SELECT max(seq) - 3 FROM journal)")
	try("a foreign certificate", "UPDATE certificate SET der = ? WHERE id = (SELECT max(id) FROM certificate)",
		specimen.Make(t, nil, specimen.Plan{Subject: "CN=evil"}).Cert.Raw)
	t.Logf("%d edits tried, %d were silent", tried, silent)
}

type column struct {
	name, kind      string
	primary, unique bool
}

// changed is an expression that gives another value of the column's type.
func (c column) changed() string {
	switch c.kind {
	case "INTEGER":
		return "coalesce(" + c.name + ",0) + 1"
	case "BLOB":
		return "CASE WHEN length(coalesce(" + c.name + ",x'')) = 0 THEN x'01' ELSE substr(" + c.name + ",1,length(" +
			c.name + ")-1) || CASE WHEN substr(" + c.name + ",-1,1) = x'00' THEN x'01' ELSE x'00' END END"
	}
	return c.name + " || '0'"
}

func describeTable(t testing.TB, dir, table string) (columns []column, rows []int64) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, "records.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	info, err := db.Query("SELECT name, type, pk FROM pragma_table_info(?)", table)
	if err != nil {
		t.Fatal(err)
	}
	defer info.Close()
	for info.Next() {
		var c column
		var pk int
		if err := info.Scan(&c.name, &c.kind, &pk); err != nil {
			t.Fatal(err)
		}
		c.primary, c.unique = pk > 0, pk > 0 || c.name == "sha256" || c.name == "handle" || c.name == "serial"
		columns = append(columns, c)
	}
	ids, err := db.Query("SELECT rowid FROM " + table + " ORDER BY rowid")
	if err != nil {
		t.Fatal(err)
	}
	defer ids.Close()
	for ids.Next() {
		var id int64
		if err := ids.Scan(&id); err != nil {
			t.Fatal(err)
		}
		rows = append(rows, id)
	}
	return columns, rows
}

// The head that is noted beside the records tells of a journal that was emptied or
// replaced by an older one; without the note an emptied one is reported all the same.
func TestACutJournalIsTold(t *testing.T) {
	onserver.FilesOnly(t)
	t.Parallel()
	dir, e := newEstate(t)
	old := copied(t, dir)
	receive(t, e, 1)
	e.Close()
	data, err := os.ReadFile(filepath.Join(old, "records.db"))
	if err != nil {
		t.Fatal(err)
	}
	to := copied(t, dir)
	for _, f := range []string{"records.db-wal", "records.db-shm"} {
		os.Remove(filepath.Join(to, f))
	}
	if err := os.WriteFile(filepath.Join(to, "records.db"), data, 0o600); err != nil {
		t.Fatal(err)
	}
	faults := checked(t, to)
	if len(faults) == 0 || !bytes.Contains([]byte(fmt.Sprint(faults)), []byte("cut off")) {
		t.Errorf("older records under a newer head: %v", faults)
	}
}
