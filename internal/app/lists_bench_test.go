package app_test

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/responding"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/revocation"
)

// revokeMany puts so many revocations on record, the first numbered from.
func revokeMany(b *testing.B, e *estate.Estate, from, n int) {
	b.Helper()
	_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		serials, when, why := make([]string, n), make([]time.Time, n), make([]int, n)
		for i := range n {
			sum := sha256.Sum256(binary.BigEndian.AppendUint64(nil, uint64(from+i)))
			sum[0] &= 0x7f
			serials[i], when[i], why[i] = fmt.Sprintf("%x", sum[:16]), tx.Now(), int(revocation.Superseded)
		}
		return []event.Record{event.On("bench", event.KeyMovedAside{})}, tx.AddRevocations("services", 0, serials, when,
			why)
	})
	if err != nil {
		b.Fatal(err)
	}
}

// peak forgets the largest memory that the process had, and tells it afterwards, in megabytes.
func peak(b *testing.B) (tell func() float64) {
	b.Helper()
	debug.FreeOSMemory()
	if err := os.WriteFile("/proc/self/clear_refs", []byte("5"), 0o600); err != nil {
		b.Log("the largest memory cannot be told here: ", err)
	}
	return func() float64 {
		data, err := os.ReadFile("/proc/self/status")
		if err != nil {
			return 0
		}
		var kb float64
		for line := range strings.Lines(string(data)) {
			if strings.HasPrefix(line, "VmHWM:") {
				fmt.Sscanf(strings.TrimPrefix(line, "VmHWM:"), "%f", &kb)
			}
		}
		return kb / 1024
	}
}

// BenchmarkLists builds, signs and writes a list of many entries, then the next one with a
// hundred more, against reading the rows and hashing and writing the same bytes. Then all that clients fetch is
// written into a folder, against hashing and writing as many bytes as are in it.
func BenchmarkLists(b *testing.B) {
	const many = 1_000_000
	_, e := newEstate(b)
	revokeMany(b, e, 0, many)
	sign := func() time.Duration {
		b.Helper()
		begin := time.Now()
		p, err := publishing.PlanLists(ctx, e, publishing.Ask{Only: []string{"services"}})
		if err != nil {
			b.Fatal(err)
		}
		if d, err := publishing.Sign(ctx, e, p); err != nil || len(d.Lists) != 1 {
			b.Fatal(d.Lists, err)
		}
		return time.Since(begin)
	}
	for b.Loop() {
		if err := os.RemoveAll(inventory.Folder(e)); err != nil {
			b.Fatal(err)
		}
		tell := peak(b)
		full := sign()
		b.ReportMetric(tell(), "MB")
		begin := time.Now()
		err := e.Records.EachListEntry(ctx, "services", -1, 0, 0, func(store.ListEntry) error { return nil })
		if err != nil {
			b.Fatal(err)
		}
		rows := time.Since(begin)
		files, err := filepath.Glob(filepath.Join(inventory.Folder(e), "services*"))
		if err != nil || len(files) == 0 {
			b.Fatal(files, err)
		}
		der, err := os.ReadFile(files[len(files)-1])
		if err != nil {
			b.Fatal(err)
		}
		begin = time.Now()
		sha256.Sum256(der)
		if err := (disk.Disk{}).New(filepath.Join(b.TempDir(), "list"), der, 0o644); err != nil {
			b.Fatal(err)
		}
		bytes := time.Since(begin)
		var next time.Duration
		const times = 5
		for i := range times {
			revokeMany(b, e, many+i*100, 100)
			next += sign() / times
		}
		into := filepath.Join(b.TempDir(), "public")
		tell = peak(b)
		begin = time.Now()
		if _, err := publishing.Release(ctx, e, into); err != nil {
			b.Fatal(err)
		}
		folder := time.Since(begin)
		b.ReportMetric(tell(), "MB/folder")
		b.ReportMetric(folder.Seconds(), "s/folder")
		again := hashedAndWritten(b, into)
		b.ReportMetric(again.Seconds(), "s/bytes-of-folder")
		b.ReportMetric((full+folder).Seconds()/(rows+bytes+again).Seconds(), "x-rows+all-bytes")
		b.ReportMetric(full.Seconds(), "s/full")
		b.ReportMetric((rows + bytes).Seconds(), "s/rows+bytes")
		b.ReportMetric(full.Seconds()/(rows+bytes).Seconds(), "x-rows+bytes")
		b.ReportMetric(next.Seconds(), "s/next")
		b.ReportMetric(next.Seconds()/full.Seconds(), "next/full")
		b.ReportMetric(next.Seconds()/(rows+bytes).Seconds(), "next/rows+bytes")
	}
}

// hashedAndWritten is how long it takes to hash and to write what the files of a folder hold, each content once.
func hashedAndWritten(b *testing.B, dir string) time.Duration {
	b.Helper()
	files, err := os.ReadDir(dir)
	if err != nil {
		b.Fatal(err)
	}
	held := map[[32]byte][]byte{}
	for _, f := range files {
		data, err := os.ReadFile(filepath.Join(dir, f.Name()))
		if err != nil {
			b.Fatal(err)
		}
		held[sha256.Sum256(data)] = data
	}
	to := b.TempDir()
	begin := time.Now()
	for sum, data := range held {
		if sha256.Sum256(data) != sum {
			b.Fatal("it changed")
		}
		if err := (disk.Disk{}).New(filepath.Join(to, fmt.Sprintf("%x", sum[:8])), data, 0o644); err != nil {
			b.Fatal(err)
		}
	}
	return time.Since(begin)
}

// BenchmarkAnswers prepares an answer about every certificate of an estate.
func BenchmarkAnswers(b *testing.B) {
	_, e, _ := signed(b, 200)
	dir := filepath.Join(b.TempDir(), "answers")
	for b.Loop() {
		if _, err := responding.Prepare(ctx, e, dir, publishing.Ask{}, nil); err != nil {
			b.Fatal(err)
		}
	}
}
