package main

import (
	"bytes"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/pki/bundle"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
	"ironseal/pki/request"
	"ironseal/pki/specimen"
)

// bulkRequests makes one file with n requests of different keys.
func bulkRequests(t testing.TB, n int) []byte {
	t.Helper()
	return bulkRequestsFrom(t, 0, n)
}

// bulkRequestsFrom makes them for hosts with numbers from one on.
func bulkRequestsFrom(t testing.TB, from, n int) []byte {
	t.Helper()
	parts := make([][]byte, n)
	var wg sync.WaitGroup
	for core := range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := core; i < n; i += runtime.GOMAXPROCS(0) {
				host := fmt.Sprintf("h%d.ternbay.example", from+i)
				parts[i] = bundle.PEM(bundle.Request,
					specimen.Request(t, nil, "CN="+host+",O=Tern Bay Ferries", []string{host}).Raw)
			}
		})
	}
	wg.Wait()
	return bytes.Join(parts, nil)
}

// 500 rows of a manifest with five faulty ones: 495 are signed, five explained.
func TestManifestWithFaultyRows(t *testing.T) {
	long(t)
	t.Parallel()
	p := harbour(t)
	var drafts, signs strings.Builder
	drafts.WriteString("host,names\n")
	signs.WriteString("host,names,template,receiver,lifetime,note\n")
	for i := range 500 {
		host := fmt.Sprintf("h%d.ternbay.example", i)
		fmt.Fprintf(&drafts, "%s,alias%d.ternbay.example\n", host, i)
		row := fmt.Sprintf("%s,extra%d.ternbay.example,web-server,nginx,90d,quay", host, i)
		switch i {
		case 50:
			row = "=cmd()|x,,web-server,,,"
		case 100:
			row = host + ",,web-server,,soon,"
		case 150:
			row = "h149.ternbay.example,,web-server,,,again"
		case 200:
			row = host + ",,no-such-template,,,"
		case 250:
			row = host + ",crew@ternbay.example,web-server,,,"
		}
		signs.WriteString(row + "\n")
	}
	p.file("../drafts.csv", []byte(drafts.String()))
	p.file("../signs.csv", []byte(signs.String()))
	p.must("request", "draft", "--manifest", "../drafts.csv", "--out", "../drafts")
	r := p.run("", "sign", "--manifest", "../signs.csv", "--yes")
	if r.code != 1 || !strings.Contains(r.out, "Result: 495 signed, 5 not") {
		t.Errorf("exit status %d\n%s", r.code, r.errors)
	}
	for _, want := range []string{"line 52, =cmd()|x", "line 102, h100.ternbay.example",
		"line 152, h149.ternbay.example", "line 202, h200.ternbay.example", "line 252, h250.ternbay.example",
		"is not a lifetime", "stands in line 151 already", " is called ", "name-not-allowed"} {
		if !strings.Contains(strings.Join(strings.Fields(r.out), " "), want) {
			t.Errorf("the result does not say %q", want)
		}
	}
	if n := len(strings.Fields(p.must("certificate", "list", "--quiet"))); n != 497 {
		t.Errorf("%d certificates on record", n)
	}
	if again := p.run("", "sign", "--manifest", "../signs.csv", "--yes"); again.code != 1 ||
		!strings.Contains(again.out, "no request waits for this host") {
		t.Errorf("a second run: %d", again.code)
	}
	p.must("journal", "verify")
	for bad, word := range map[string]string{"": "names the columns", "hots,names\n": `did you mean "host"`,
		"names\nx\n": "column host is missing", "host\n": "no rows"} {
		t.Run(bad, func(t *testing.T) {
			p := p.with(t)
			p.file("../bad.csv", []byte(bad))
			if r := p.run("", "sign", "--manifest", "../bad.csv", "--template", "web-server", "--yes"); r.code != 1 ||
				!strings.Contains(r.errors, word) {
				t.Errorf("manifest %q: %d %s", bad, r.code, r.errors)
			}
		})
	}
}

// A receiver that takes the private key is a matter for keys that are here.
func TestAKeyThatStaysOnTheDeviceCannotGoToEveryReceiver(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	away := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	if r := p.run("", "sign", away, "--template", "web-server", "--for", "java", "--yes"); r.code != 3 ||
		!strings.Contains(strings.Join(strings.Fields(r.out+r.errors), " "), "this key stayed where the request was "+
			"made") {
		t.Errorf("%+v", r)
	}
	p.must("request", "draft", "b.ternbay.example", "--out", "..")
	p.must("request", "receive", "../b.ternbay.example.request.pem")
	p.must("sign", "R2", "--template", "web-server", "--for", "java", "--yes")
}

func TestRefusedOnlyByFindingsSaysSo(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.send("a.ternbay.example", []string{"a.ternbay.example"})
	p.send("b.ternbay.example", []string{"crew@ternbay.example"})
	if r := p.run("", "sign", "--all", "--template", "web-server", "--yes"); r.code != 3 ||
		!strings.Contains(r.out, "1 signed, 1 not") {
		t.Errorf("%+v", r)
	}
	// A waiver in bulk names its request, and holds for that one only.
	p.send("c.ternbay.example", []string{"c.ternbay.example"})
	if r := p.run("", "sign", "--all", "--template", "web-server", "--waive", "name-not-allowed", "--because", "x",
		"--yes"); r.code != 2 || !strings.Contains(r.errors, "--waive R7:name-not-allowed") {
		t.Errorf("%+v", r)
	}
	if r := p.run("", "sign", "--all", "--template", "web-server", "--waive", "R2:name-not-allowed", "--because",
		"the mail name may go", "--yes"); r.code != 0 || !strings.Contains(r.out, "2 signed, 0 not") {
		t.Errorf("%+v", r)
	}
}

func TestADraftAsksForATemplatesUsages(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	out := p.must("request", "draft", "gw.ternbay.example", "--template", "mutual-peer", "--out", "..")
	if !strings.Contains(out, "digitalSignature, serverAuth, clientAuth") {
		t.Error(out)
	}
}

func TestTemplateCheckKnowsWhatCanBeGranted(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.file("templates/long.toml", []byte("based-on = \"web-server\"\ntitle = \"Long\"\nlifetime = \"12y\"\n"))
	p.file("templates/open.toml", []byte("title = \"Open\"\nmakes = \"authority\"\nissuers = [\"any\"]\nlifetime = "+
		"\"1y\"\nkeys = [\"ecdsa-p256\"]\nkey-usage = [\"keyCertSign\"]\n"))
	out := p.must("template", "check")
	for _, want := range []string{"long gives 12 years", "with services (g1)", "open makes authorities without limit"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
			t.Errorf("it does not say %q:\n%s", want, out)
		}
	}
}

// rawRate is run as a process of its own: it opens the authority's key, then for
// every request verifies its signature, signs as many bytes and verifies that.
func TestRawRate(t *testing.T) {
	dir := os.Getenv("RAW_RATE_DIR")
	if dir == "" {
		t.Skip("run by the benchmark")
	}
	data, err := os.ReadFile(os.Getenv("RAW_RATE_KEY"))
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode(data)
	signer, err := pbes.Decrypt(block.Bytes, []byte("tern and gull"))
	if err != nil {
		t.Fatal(err)
	}
	data, err = os.ReadFile(filepath.Join(dir, "requests.pem"))
	if err != nil {
		t.Fatal(err)
	}
	var requests []*request.Request
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		r, err := request.Read(block.Bytes)
		if err != nil {
			t.Fatal(err)
		}
		requests = append(requests, r)
	}
	tbs := make([]byte, 420)
	begin := time.Now()
	var wg sync.WaitGroup
	for core := range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := core; i < len(requests); i += runtime.GOMAXPROCS(0) {
				if err := requests[i].Proven(); err != nil {
					t.Error(err)
				}
				if _, err := key.SignedObject(tbs, signer, rand.Reader); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	fmt.Printf("RAW %d\n", time.Since(begin).Nanoseconds())
}

// BenchmarkBulk signs 10,000 requests as a process, durably and journaled, and
// compares with the raw cryptographic cost on all cores, the opening of the
// authority's key counted on both sides. The raw cost is the mean of one run before
// and one after: machines become slower and faster.
func BenchmarkBulk(b *testing.B) {
	const count = 10_000
	for b.Loop() {
		b.StopTimer()
		p := harbour(b)
		settings, err := os.ReadFile(filepath.Join(p.dir, "ironseal.toml"))
		if err != nil {
			b.Fatal(err)
		}
		// as in a new estate
		p.file("ironseal.toml", bytes.Replace(settings, []byte("encryption-memory = 8"), []byte("encryption-memory "+
			"= 64"), 1))
		p.must("authority", "create", "yard", "--under", "root", "--key", "ecdsa-p256", "--yes")
		data := bulkRequests(b, count)
		p.file("../requests.pem", data)
		p.must("request", "receive", "../requests.pem", "--json")
		sum := strings.TrimSpace(p.must("authority", "show", "yard", "--field", "key_sha256"))
		keyFile := filepath.Join(p.dir, "keys", sum+".key")
		raw := rawCost(b, filepath.Dir(p.dir), keyFile)
		cmd := exec.Command(program, "sign", "--all", "--template", "web-server", "--by", "yard", "--yes")
		cmd.Dir, cmd.Env = p.dir, append(os.Environ(), p.env...)
		var faults bytes.Buffer
		cmd.Stderr = &faults
		b.StartTimer()
		begin := time.Now()
		if err := cmd.Run(); err != nil {
			b.Fatalf("%v: %s", err, faults.String()[:min(2000, faults.Len())])
		}
		took := time.Since(begin)
		b.StopTimer()
		raw = (raw + rawCost(b, filepath.Dir(p.dir), keyFile)) / 2
		b.ReportMetric(raw.Seconds()/took.Seconds(), "of-raw")
		b.ReportMetric(float64(count)/took.Seconds(), "certificates/s")
		b.ReportMetric(memoryOf(cmd.ProcessState), "MB")
		if n := strings.Count(p.must("certificate", "list", "--quiet"), "\n"); n != count+3 {
			b.Fatalf("%d certificates on record", n)
		}
		b.StartTimer()
	}
}

// rawCost is how long the raw work takes for the requests in a folder, see TestRawRate, with the opening of the key.
func rawCost(b *testing.B, dir, keyFile string) time.Duration {
	b.Helper()
	begin := time.Now()
	data, err := os.ReadFile(keyFile)
	if err != nil {
		b.Fatal(err)
	}
	block, _ := pem.Decode(data)
	if _, err := pbes.Decrypt(block.Bytes, []byte("tern and gull")); err != nil {
		b.Fatal(err)
	}
	opening := time.Since(begin)
	cmd := exec.Command(os.Args[0], "-test.run=^TestRawRate$")
	cmd.Env = append(os.Environ(), "RAW_RATE_DIR="+dir, "RAW_RATE_KEY="+keyFile)
	out, err := cmd.CombinedOutput()
	var ns int64
	for _, l := range strings.Split(string(out), "\n") {
		fmt.Sscanf(l, "RAW %d", &ns)
	}
	if err != nil || ns == 0 {
		b.Fatalf("%v\n%s", err, out)
	}
	return opening + time.Duration(ns)
}

// A certificate that an outside authority returned is matched to its request
// and checked before it is imported.
func TestTakingInWhatOthersSigned(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("request", "draft", "shop.ternbay.example", "www.shop.ternbay.example", "--out", "..")
	p.must("request", "receive", "../shop.ternbay.example.request.pem")
	data, err := os.ReadFile(filepath.Join(p.dir, "..", "shop.ternbay.example.key.pem"))
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode(data)
	signer, err := key.ReadPrivate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	lives := func(s specimen.Plan) specimen.Plan {
		s.From, s.Until = now.Add(-time.Hour), now.AddDate(1, 0, 0)
		return s
	}
	root := specimen.Make(t, nil, lives(specimen.Plan{Subject: "CN=Outside Root", Authority: true}))
	mid := specimen.Make(t, root, lives(specimen.Plan{Subject: "CN=Outside Services", Authority: true}))
	good := lives(specimen.Plan{Subject: "CN=shop.ternbay.example",
		Names: []string{"shop.ternbay.example", "www.shop.ternbay.example"}, Signer: signer,
		Extended: []string{"serverAuth"}})
	file := func(name string, list ...*specimen.Entity) string {
		var b bytes.Buffer
		for _, e := range list {
			b.Write(bundle.PEM(bundle.Certificate, e.Cert.Raw))
		}
		p.file("../"+name, b.Bytes())
		return "../" + name
	}
	anchor := file("anchor.pem", root)
	other, short, ended, extra, authority, subject := good, good, good, good, good, good
	other.Signer = nil
	short.Names = short.Names[:1]
	ended.Until = now.Add(-time.Minute)
	extra.Names = append(slices.Clone(good.Names), "evil.example")
	authority.Authority = true
	subject.Subject = "CN=evil.example"
	stranger := specimen.Make(t, nil, lives(specimen.Plan{Subject: "CN=Nobody Knows Me", Authority: true}))
	for _, c := range []struct {
		what, file string
		code       int
		word       string
	}{
		{"another key", file("other.pem", specimen.Make(t, mid, other), mid, root), 1,
			"no request that was sent from here has the key"},
		{"lacks a name", file("short.pem", specimen.Make(t, mid, short), mid, root), 3, "answer-lacks"},
		{"more names", file("extra.pem", specimen.Make(t, mid, extra), mid, root), 3, "answer-has-more"},
		{"an authority", file("authority.pem", specimen.Make(t, mid, authority), mid, root), 3, "answer-has-more"},
		{"another subject", file("subject.pem", specimen.Make(t, mid, subject), mid, root), 3,
			"answer-subject-differs"},
		{"a root that came along", file("stranger.pem", specimen.Make(t, stranger, good), stranger),
			3, "anchor-unknown"},
		{"ended", file("ended.pem", specimen.Make(t, mid, ended), mid, root), 3, "expired"},
		{"without its issuers", file("alone.pem", specimen.Make(t, mid, good)), 3, "answer-chain-open"},
	} {
		t.Run(c.what, func(t *testing.T) {
			p := p.with(t)
			args := []string{"certificate", "import", c.file, "--anchor", anchor, "--yes"}
			if c.code == 3 {
				args = append(args, "--request", "R1")
			}
			if r := p.run("", args...); r.code != c.code || !strings.Contains(r.errors, c.word) {
				t.Errorf("%s: %d %s", c.what, r.code, r.errors)
			}
		})
	}
	leaf := specimen.Make(t, mid, good)
	p.refused(1, "say so: --request R1", "certificate", "import", file("answer.pem", root, leaf, mid), "--anchor",
		anchor, "--yes")
	p.must("certificate", "import", "../answer.pem", "--request", "R1", "--anchor", anchor, "--yes")
	p.must("certificate", "handover", "R1", "--for", "haproxy", "--out", "..")
	page, err := os.ReadFile(filepath.Join(p.dir, "..", "shop.ternbay.example.haproxy", "shop.ternbay.example.pem"))
	if err != nil || bytes.Count(page, []byte("BEGIN CERTIFICATE")) != 2 ||
		!bytes.Contains(page, []byte("PRIVATE KEY")) {
		t.Errorf("%v\n%s", err, page)
	}
	if out := p.must("certificate", "list"); !strings.Contains(out, "outside") {
		t.Error(out)
	}
	if r := p.run("", "certificate", "import", "../answer.pem", "--anchor", anchor, "--yes"); r.code != 1 ||
		!strings.Contains(r.errors, "on record already") {
		t.Errorf("a second time: %+v", r)
	}
}
