package app_test

import (
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"testing"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/estate"
	"ironseal/pki/bundle"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
)

// BenchmarkLookup looks at one request and one certificate by name on an estate
// that has next to nothing, and on one of 1,000,000 certificates.
func BenchmarkLookup(b *testing.B) {
	for _, size := range []int{1, 1_000_000} {
		dir, e := newEstate(b)
		receive(b, e, 2)
		if err := sign(e, sheet(b, e, 1)); err != nil {
			b.Fatal(err)
		}
		crowd(b, dir, size)
		in := []intake.Input{{Name: "one more", Data: bundle.PEM(bundle.Request,
			specimen.Request(b, nil, "CN=z.ternbay.example", []string{"z.ternbay.example"}).Raw)}}
		if _, _, faults := intake.Receive(ctx, e, in, ""); len(faults) > 0 {
			b.Fatal(faults)
		}
		b.Run(fmt.Sprintf("request/%d", size), func(b *testing.B) {
			for b.Loop() {
				x := reopen(b, dir, world())
				_, r, err := x.Request(ctx, "R2")
				if err == nil {
					_, err = intake.Related(ctx, x, r)
				}
				if err != nil {
					b.Fatal(err)
				}
				x.Close()
			}
		})
		b.Run(fmt.Sprintf("certificate/%d", size), func(b *testing.B) {
			for b.Loop() {
				x := reopen(b, dir, world())
				if _, _, err := x.FindCertificate(ctx, "h0.ternbay.example"); err != nil {
					b.Fatal(err)
				}
				x.Close()
			}
		})
	}
}

// BenchmarkLarge does what an administrator does every day on an estate that has
// next to nothing, and on one of 100,000 certificates of which nothing is due.
func BenchmarkLarge(b *testing.B) {
	for _, size := range []int{1, 100_000} {
		dir, e := newEstate(b)
		receive(b, e, 1)
		if err := sign(e, sheet(b, e, 1)); err != nil {
			b.Fatal(err)
		}
		crowd(b, dir, size)
		for name, do := range map[string]func(*estate.Estate, int) error{
			"tree": func(x *estate.Estate, _ int) error { _, err := x.Hierarchy(ctx); return err },
			"due": func(x *estate.Estate, _ int) error {
				_, err := renewals.DueWithin(ctx, x,
					span.Days(60))
				return err
			},
			"forecast": func(x *estate.Estate, _ int) error {
				_, err := renewals.Forecast(ctx, x, span.Years(15), "")
				return err
			},
			"backup": func(x *estate.Estate, i int) error {
				b, err := backup.BackUp(ctx, x, filepath.Join(dir, fmt.Sprintf("../backup-%d-%d", size, i)))
				if err == nil && len(b.Files) == 0 {
					err = errors.New("the backup is empty")
				}
				return err
			},
		} {
			b.Run(fmt.Sprintf("%s/%d", name, size), func(b *testing.B) {
				i := 0
				for b.Loop() {
					x := reopen(b, dir, world())
					i++
					if err := do(x, i+b.N*1000); err != nil {
						b.Fatal(err)
					}
					x.Close()
				}
			})
		}
	}
}

// crowd fills the records with copies of one certificate under other serials
// and names.
func crowd(b *testing.B, dir string, n int) {
	b.Helper()
	settings, err := estate.ReadSettings(dir)
	if err != nil {
		b.Fatal(err)
	}
	if settings.Storage.OnServer() {
		crowdOnServer(b, settings.Storage.Records, n)
		return
	}
	db, err := sql.Open("sqlite", filepath.Join(dir, "records.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	for _, q := range []string{
		`WITH RECURSIVE k(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM k WHERE i < ?1) INSERT INTO request (sha256,
			der, title, key_sha256, sender, received, state)
		 SELECT randomblob(32), r.der, 'crowd' || i, randomblob(32), '', r.received, 'declined' FROM k,
		 	request r WHERE r.number = 1`,
		`WITH RECURSIVE k(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM k
			WHERE i < ?1) INSERT INTO certificate (serial, authority, issuer, der, title, subject, not_after,
				key_sha256, template, sheet, not_before,
				key_kind, names, traits)
		 SELECT lower(hex(randomblob(16))), c.authority, c.issuer, c.der, 'crowd' || i, 'CN=crowd' || i, c.not_after,
		 	randomblob(32), c.template, c.sheet, c.not_before, c.key_kind, c.names, c.traits
		 FROM k, certificate c WHERE c.request = 1`,
		`INSERT INTO name SELECT 'dns', title || '.ternbay.example', id FROM certificate
			WHERE title LIKE 'crowd%' AND ?1 > 0`,
	} {
		if _, err := db.Exec(q, n); err != nil {
			b.Fatal(err)
		}
	}
}

// crowdOnServer is crowd for records on a server.
func crowdOnServer(b *testing.B, url string, n int) {
	b.Helper()
	db, err := sql.Open("pgx", url)
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	const octets = "decode(md5(random()::text) || md5(random()::text), 'hex')"
	for _, q := range []string{
		"INSERT INTO request (sha256, der, title, key_sha256, sender, received, state) SELECT " + octets + ", r.der, " +
			"'crowd' || i, " + octets + ", '', r.received, 'declined' FROM generate_series(1, $1::bigint) i, " +
			"request r " +
			"WHERE r.number = 1",
		"INSERT INTO certificate (id, serial, authority, issuer, der, title, subject, not_after, key_sha256, " +
			"template, " +
			"sheet, not_before, key_kind, names, traits) SELECT 1000 + i, md5(random()::text), c.authority, " +
			"c.issuer, " +
			"c.der, 'crowd' || i, 'CN=crowd' || i, c.not_after, " + octets + ", c.template, c.sheet, c.not_before, " +
			"c.key_kind, c.names, c.traits FROM generate_series(1, $1::bigint) i, certificate c WHERE c.request = 1",
		"INSERT INTO name SELECT 'dns', title || '.ternbay.example', id FROM certificate WHERE title LIKE 'crowd%' " +
			"AND " +
			"$1::bigint > 0",
	} {
		if _, err := db.Exec(q, n); err != nil {
			b.Fatal(err)
		}
	}
	if _, err := db.Exec("ANALYZE"); err != nil {
		b.Fatal(err)
	}
}
