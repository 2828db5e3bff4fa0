package main

import (
	"crypto/x509"
	"encoding/json"
	"fmt"
	"math/big"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// published is what is in a folder: numbers by file, and the serials on each list.
type published struct {
	numbers map[string]*big.Int
	serials map[string][]string
}

func readPublished(t testing.TB, dir string) published {
	t.Helper()
	out := published{map[string]*big.Int{}, map[string][]string{}}
	files, err := filepath.Glob(filepath.Join(dir, "*.crl"))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		der, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		l, err := x509.ParseRevocationList(der)
		if err != nil {
			t.Fatalf("%s is half written: %v", f, err)
		}
		text, err := os.ReadFile(strings.TrimSuffix(f, ".crl") + ".cer")
		if err != nil {
			t.Fatal(err)
		}
		issuer, err := x509.ParseCertificate(text)
		if err != nil {
			t.Fatal(err)
		}
		if err := l.CheckSignatureFrom(issuer); err != nil {
			t.Errorf("%s: %v", f, err)
		}
		name := filepath.Base(f)
		out.numbers[name], out.serials[name] = l.Number, []string{}
		for _, r := range l.RevokedCertificateEntries {
			out.serials[name] = append(out.serials[name], fmt.Sprintf("%032x", r.SerialNumber))
		}
		slices.Sort(out.serials[name])
	}
	return out
}

// TestListsAreRightWhateverIsKilled ends revoking, releasing and publishing at random calls,
// again and again on one estate: what is served stays whole, numbers go forward, none is given
// twice, and what is on record as revoked is on the next list. With IRONSEAL_KILLS=all a
// thousand times.
func TestListsAreRightWhateverIsKilled(t *testing.T) {
	if err := exec.Command("strace", "-qq", "-o", "/dev/null", "true").Run(); err != nil {
		t.Skip("programs cannot be traced here: ", err)
	}
	p := harbour(t)
	var hosts []string
	for i := range 4 {
		host := fmt.Sprintf("h%d.ternbay.example", i)
		hosts = append(hosts, host)
		p.send(host, []string{host})
		p.must("sign", fmt.Sprintf("R%d", i+1), "--template", "web-server", "--by", "services", "--yes")
	}
	p.must("revocations", "publish", "--to", "../public")
	dir := filepath.Join(p.dir, "../public")
	before := readPublished(t, dir)
	rounds := 25
	if os.Getenv("IRONSEAL_KILLS") == "all" {
		rounds = 1000
	}
	for n := range rounds {
		host := hosts[rand.IntN(len(hosts))]
		act := []string{"revoke " + host + " --reason hold --yes", "unhold " + host + " --because found",
			"revocations publish --to ../public", "revocations publish --to ../public --all"}[rand.IntN(4)]
		p.traced([]string{"-o", "/dev/null", "-e", fmt.Sprintf("inject=%s:signal=SIGKILL:when=%d", changing,
			1+rand.IntN(70))}, act)
		now := readPublished(t, dir)
		for file, number := range before.numbers {
			if now.numbers[file] == nil || now.numbers[file].Cmp(number) < 0 {
				t.Fatalf("round %d, %s: the number of %s went from %s to %v", n, act, file, number, now.numbers[file])
			}
		}
		if before = now; n%10 == 9 || n == rounds-1 {
			before = p.publishedAsOnRecord(dir)
		}
	}
	numbers := map[string]bool{}
	var entries []struct {
		Act    string
		Detail json.RawMessage
	}
	if err := json.Unmarshal([]byte(p.must("journal", "list", "--count", "0", "--json")), &entries); err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if e.Act != "publish lists" {
			continue
		}
		var told struct {
			Lists []struct {
				List   string
				Number int64
			}
		}
		if err := json.Unmarshal(e.Detail, &told); err != nil {
			t.Fatal(err)
		}
		for _, l := range told.Lists {
			k := fmt.Sprint(l.List, l.Number)
			if numbers[k] {
				t.Errorf("the number %d of %s was given twice", l.Number, l.List)
			}
			numbers[k] = true
		}
	}
	if len(numbers) < 3 {
		t.Errorf("only %d lists were signed", len(numbers))
	}
	p.must("estate", "check")
}

// publishedAsOnRecord publishes, and holds what is served against the records.
func (p place) publishedAsOnRecord(dir string) published {
	p.t.Helper()
	p.must("revocations", "publish", "--to", "../public")
	var list []struct{ Serial, State string }
	if err := json.Unmarshal([]byte(p.must("certificate", "list", "--state", "any", "--json")), &list); err != nil {
		p.t.Fatal(err)
	}
	want := []string{}
	for _, c := range list {
		if c.State == "on hold" || c.State == "revoked" {
			want = append(want, fmt.Sprintf("%032s", c.Serial))
		}
	}
	slices.Sort(want)
	now := readPublished(p.t, dir)
	if !slices.Equal(now.serials["services.g1.crl"], want) {
		p.t.Errorf("on the list are %v, and on record %v", now.serials["services.g1.crl"], want)
	}
	return now
}
