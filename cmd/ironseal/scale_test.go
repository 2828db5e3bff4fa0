package main

import (
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/probe"
	"ironseal/pki/request"
	"ironseal/pki/specimen"
)

// scaled is an estate of many certificates: made, or kept from an earlier run.
func scaled(b *testing.B, size int) (p place, fresh bool) {
	b.Helper()
	keep := os.Getenv("SCALE_KEEP")
	if keep == "" {
		return harbour(b), true
	}
	dir := filepath.Join(keep, strconv.Itoa(size))
	p = place{t: b, dir: filepath.Join(dir, "harbour"), env: []string{"IRONSEAL_PASSPHRASE_FILE=" +
		filepath.Join(dir, "pass")}}
	if _, err := os.Stat(filepath.Join(dir, "made")); err == nil {
		return p, false
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		b.Fatal(err)
	}
	copyTree(b, filepath.Dir(harbour(b).dir), dir)
	return p, true
}

// verified is how long it takes to verify requests, on all cores. It verifies every one: for a moment machines are
// faster than for long.
func verified(b *testing.B, data []byte) float64 {
	b.Helper()
	const together = 5000
	var took time.Duration
	verify := func(list []*request.Request) {
		begin := time.Now()
		estate.OnAllCores(len(list), func(i int) {
			if err := list[i].Proven(); err != nil {
				b.Error(err)
			}
		})
		took += time.Since(begin)
	}
	var list []*request.Request
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		r, err := request.Read(block.Bytes)
		if err != nil {
			b.Fatal(err)
		}
		if list = append(list, r); len(list) == together {
			verify(list)
			list = list[:0]
		}
	}
	verify(list)
	return took.Seconds()
}

// Targets in seconds are for a machine whose cores verify so many signatures (ECDSA, P-256) a second together.
const usualVerifications = 26_000

// grow takes in and signs so many requests, in parts of 100,000.
func (p place) grow(b *testing.B, size int, report func(name string, took, memory, most, mostMB float64)) {
	b.Helper()
	const part = 100_000
	var receiving, signing, proof, received, signed float64
	for from := 0; from < size; from += part {
		n := min(part, size-from)
		data := bulkRequestsFrom(b, from, n)
		p.file("../requests.pem", data)
		before := verified(b, data)
		took, memory := p.measured(b, "request", "receive", "../requests.pem")
		proof += (before + verified(b, data)) / 2
		receiving, received = receiving+took, max(received, memory)
		took, memory = p.measured(b, "sign", "--all", "--template", "web-server", "--by", "services", "--yes")
		signing, signed = signing+took, max(signed, memory)
	}
	report("receive, 1.3 of its verification", receiving, received, 1.3*proof, 200)
	report("sign --all, 0.8 of 2 verifications and a signature", signing, signed, 2.5*proof/0.8, 200)
}

// slowness is how much slower this machine is; 1 where it is not.
func slowness(b *testing.B) float64 {
	b.Helper()
	const count = 10_000
	r := specimen.Request(b, nil, "CN=h.ternbay.example", nil)
	begin := time.Now()
	estate.OnAllCores(count, func(int) {
		if err := r.Proven(); err != nil {
			b.Error(err)
		}
	})
	return max(1, usualVerifications*time.Since(begin).Seconds()/count)
}

// endpoints looks at 1,000 endpoints that this process serves, by names of which nothing is on record, and says how
// long bare handshakes take, as many at once.
func (p place) endpoints(b *testing.B) (took, memory, bare float64) {
	b.Helper()
	const host, count = "farm.ternbay.example", 1000
	draft := p.must("request", "draft", host, "*.ternbay.example", "--key", "ecdsa-p256", "--out", b.TempDir(),
		"--json")
	var made struct {
		Request string `json:"request_file"`
		Key     string `json:"key_file"`
	}
	var rows []struct{ Request string }
	if err := json.Unmarshal([]byte(draft), &made); err != nil {
		b.Fatal(err, draft)
	}
	received := p.must("request", "receive", made.Request, "--json")
	if err := json.Unmarshal([]byte(received), &rows); err != nil {
		b.Fatal(err, received)
	}
	chain := filepath.Join(b.TempDir(), "chain.pem")
	p.must("sign", rows[0].Request, "--template", "web-server", "--by", "services", "--yes")
	p.must("certificate", "export", rows[0].Request, "--with", "issuers", "--out", chain)
	pair, err := tls.LoadX509KeyPair(chain, made.Key)
	if err != nil {
		b.Fatal(err)
	}
	at := serving(b, func() (*tls.Certificate, error) { return &pair, nil })
	var list strings.Builder
	next := make(chan string, count)
	for i := range count {
		name := fmt.Sprintf("e%d.ternbay.example", i)
		fmt.Fprintf(&list, "%s@%s\n", name, at)
		next <- name
	}
	close(next)
	begin := time.Now()
	var all sync.WaitGroup
	for range probe.AtOnce {
		all.Go(func() {
			for name := range next {
				c, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true, ServerName: name})
				if err != nil {
					b.Error(err)
					continue
				}
				c.Close()
			}
		})
	}
	all.Wait()
	bare = time.Since(begin).Seconds()
	took, memory = p.measured(b, "probe", "--list", p.file("../endpoints.txt", []byte(list.String())))
	return took, memory, bare
}

// partiesTable is a table of machines that take kits.
func partiesTable(count int) []byte {
	var b strings.Builder
	b.WriteString("party,platform\n")
	for i := range count {
		fmt.Fprintf(&b, "gate-%d,%s\n", i, []string{"debian", "java"}[i%2])
	}
	return []byte(b.String())
}

// BenchmarkScale runs whole commands on an estate of very many certificates (SCALE; 100,000 where it is not set), and
// tells how far each is from what it should take. With SCALE_KEEP, the estate is made once and kept there.
func BenchmarkScale(b *testing.B) {
	size, err := strconv.Atoi(os.Getenv("SCALE"))
	if err != nil {
		size = 100_000
	}
	small, _ := scaled(b, 1000)
	if _, err := os.Stat(filepath.Join(small.dir, "../requests.pem")); err != nil {
		small.file("../requests.pem", bulkRequests(b, 1000))
		small.must("request", "receive", "../requests.pem", "--json")
		small.must("sign", "--all", "--template", "web-server", "--by", "services", "--yes")
		small.file("../made", nil)
	}
	report := func(name string, took, memory, most, mostMB float64) {
		b.Run(fmt.Sprintf("%s/%d", name, size), func(b *testing.B) {
			b.ReportMetric(took, "s")
			b.ReportMetric(memory, "MB")
			b.ReportMetric(took/most, "of-its-time")
			b.ReportMetric(memory/mostMB, "of-its-memory")
			b.ReportMetric(0, "ns/op")
		})
	}
	p, fresh := scaled(b, size)
	if fresh {
		p.grow(b, size, report)
		p.file("../made", nil)
	}
	n := float64(size)
	slow := slowness(b)
	for _, do := range []struct {
		name, args   string
		most, mostMB float64
	}{
		{"due", "due", 0.1, 64}, {"forecast", "forecast", 0.1, 64}, {"status", "estate status", 0.1, 64},
		{"calendar", "due --within 30d --ics " + filepath.Join(b.TempDir(), "due.ics"), 0.1, 64},
		{"first page", "certificate list --count 50", 0.05, 64},
		{"list, 300,000 a second", "certificate list", n / 300_000, 64},
		{"list of serials, 300,000 a second", "certificate list --quiet", n / 300_000, 64},
		{"check, 8 s for 100,000", "estate check", 8 * n / 100_000, 200 * max(1, n/100_000)},
	} {
		took, memory := p.measured(b, strings.Fields(do.args)...)
		report(do.name, took, memory, do.most*slow, do.mostMB)
	}
	took, memory, bare := p.endpoints(b)
	report("1,000 endpoints, 1.3 of bare handshakes", took, memory, 1.3*bare, 200)
	many := place{t: b, dir: filepath.Join(b.TempDir(), "harbour"), env: small.env}
	copyTree(b, filepath.Dir(small.dir), filepath.Dir(many.dir))
	took, memory = many.measured(b, "certificate", "handover", "--new", "--for", "nginx", "--out", "../handed")
	report("1,000 handovers, 5 s", took, memory, 5*slow, 200)
	many.file("../parties.csv", partiesTable(1000))
	many.must("party", "import", "../parties.csv")
	took, memory = many.measured(b, "trust", "kit", "--party", "all", "--out", "../kits")
	report("1,000 kits, 5 s", took, memory, 5*slow, 200)
	for i, do := range []struct{ name, args string }{{"look-up by name", "certificate show h77.ternbay.example"},
		{"look-up by serial", "certificate show SERIAL"},
		{"one signature", "sign NEW --template web-server --by services --yes"},
		{"one revocation", "revoke NEW --reason superseded --yes"}} {
		best := map[bool]float64{}
		var used float64
		for range 5 {
			for _, large := range []bool{false, true} {
				at := map[bool]place{false: small, true: p}[large]
				args := prepareOne(at, do.args, i)
				took, memory := at.measured(b, args...)
				if was, there := best[large]; !there || took < was {
					best[large] = took
				}
				used = memory
			}
		}
		report(do.name+", 1.2 of its time at 1,000", best[true], used, 1.2*best[false], 64)
	}
}

// prepareOne fills in what a command is about: a serial, or a request that is new, signed where it is to be revoked.
func prepareOne(p place, args string, which int) []string {
	p.t.Helper()
	switch {
	case strings.Contains(args, "SERIAL"):
		serial := strings.Fields(p.must("certificate", "list", "--name", "h99.ternbay.example", "--quiet"))[0]
		args = strings.Replace(args, "SERIAL", serial, 1)
	case strings.Contains(args, "NEW"):
		host := fmt.Sprintf("one-%d-%d.ternbay.example", which, time.Now().UnixNano())
		n := p.send(host, []string{host})
		if strings.HasPrefix(args, "revoke") {
			p.must("sign", n, "--template", "web-server", "--by", "services", "--yes")
		}
		args = strings.Replace(args, "NEW", n, 1)
	}
	return strings.Fields(args)
}
