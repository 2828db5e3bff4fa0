package sqlstore

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"

	"ironseal/internal/store"
	"ironseal/internal/store/onserver"
	"ironseal/pki/journal"
)

// BenchmarkServerWriters lets eight programs record single acts on a server, each linked into the one journal, and
// compares with bare transactions of the same shape: the same lock, a row, an entry behind the newest, a commit.
func BenchmarkServerWriters(b *testing.B) {
	const writers = 8
	url := onserver.URL(b)
	place := store.Place{At: url, Head: filepath.Join(b.TempDir(), "head")}
	first, err := Create(ctx, place, "bench")
	if err != nil {
		b.Fatal(err)
	}
	defer first.Close()
	for b.Loop() {
		linked := rate(b, writers, func(w int) func(int) error {
			s, err := Open(ctx, place)
			if err != nil {
				b.Fatal(err)
			}
			b.Cleanup(func() { s.Close() })
			return func(i int) error {
				_, err := s.Act(ctx, time.Now, "me", nil, func(tx store.Tx) ([]journal.Entry, error) {
					return []journal.Entry{{Act: "note", Object: fmt.Sprint(w, i), Detail: "{}"}},
						tx.AddTransfer(fmt.Sprintf("%d %d %d", w, i, time.Now().UnixNano()), "x")
				})
				return err
			}
		})
		bare := rate(b, writers, func(w int) func(int) error {
			pool, err := pgxpool.New(ctx, url)
			if err != nil {
				b.Fatal(err)
			}
			db := stdlib.OpenDBFromPool(pool)
			b.Cleanup(func() { db.Close(); pool.Close() })
			return func(i int) error { return bareAct(db, w, i) }
		})
		b.ReportMetric(linked, "acts/s")
		b.ReportMetric(bare, "bare/s")
		b.ReportMetric(linked/bare, "part")
	}
}

// rate lets programs do something for a while, and tells how often all of them did it in a second.
func rate(b *testing.B, writers int, program func(int) func(int) error) float64 {
	b.Helper()
	var done atomic.Int64
	var all sync.WaitGroup
	acts := make([]func(int) error, writers)
	for w := range acts {
		acts[w] = program(w)
	}
	running, stop := context.WithTimeout(ctx, 3*time.Second)
	defer stop()
	begin := time.Now()
	for _, act := range acts {
		all.Go(func() {
			for i := 0; running.Err() == nil; i++ {
				if err := act(i); err != nil {
					b.Error(err)
					return
				}
				done.Add(1)
			}
		})
	}
	all.Wait()
	return float64(done.Load()) / time.Since(begin).Seconds()
}

// bareAct is a transaction of the shape of an act, without the program.
func bareAct(db *sql.DB, w, i int) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, "LOCK TABLE turn IN SHARE ROW EXCLUSIVE MODE"); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO carried VALUES ($1, $2, $3)", fmt.Sprintf("b %d %d %d", w, i,
		time.Now().UnixNano()), journal.Stamp(time.Now()), "x"); err != nil {
		return err
	}
	last, err := scanEntry(tx.QueryRowContext(ctx, "SELECT seq,at,actor,act,object,detail,prev,hash FROM journal "+
		"ORDER BY seq "+
		"DESC LIMIT 1"))
	if err != nil {
		return err
	}
	e := journal.Entry{Act: "note", Object: fmt.Sprint(w, i), Detail: "{}", Actor: "me", At: time.Now()}.After(last)
	if _, err := tx.ExecContext(ctx, "INSERT INTO journal VALUES ($1,$2,$3,$4,$5,$6,$7,$8)", e.Seq, journal.
		Stamp(e.At), e.Actor,
		e.Act, e.Object, e.Detail, e.Prev, e.Hash); err != nil {
		return err
	}
	return tx.Commit()
}
