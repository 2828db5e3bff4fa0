package main

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"
)

// worker is what one of eight programs does, over and over. Where others can cause a
// refusal, it is one of those, and nothing else.
type worker struct {
	name     string
	round    func(n int, do func(line string, args ...any) string)
	refusals []string
}

func workers() []worker {
	desk := func(who string) worker {
		return worker{who, func(n int, do func(string, ...any) string) {
			host := fmt.Sprintf("%s%d.ternbay.example", who, n)
			do("request draft %s --out ../%s", host, who)
			until(do, "sign ../%s/%s.request.pem --template web-server --by services --yes --json", who, host)
			until(do, "certificate renew %s --yes --json", host)
			do("certificate handover %s --for nginx --out ../%s/out%d --key ../%s/%s.key.pem", host, who, n, who, host)
		}, []string{"was renewed meanwhile"}}
	}
	return []worker{desk("north"), desk("south"), desk("west"),
		{"decliner", func(n int, do func(string, ...any) string) {
			do("request draft d%d.ternbay.example --out ../east", n)
			var came []struct{ Request string }
			if json.Unmarshal([]byte(do("request receive ../east/d%d.ternbay.example.request.pem --json", n)),
				&came) == nil && len(came) == 1 {
				do("request decline %s --because trying", came[0].Request)
			}
		}, nil},
		{"authorities", func(n int, do func(string, ...any) string) {
			do("authority create stores%d --under root --key ecdsa-p256 --yes", n)
			do("authority retire stores%d --because trying --yes", n)
			do("authority retire stores%d --because trying --destroy-key --yes", n)
		}, nil},
		{"renewals", func(n int, do func(string, ...any) string) { do("authority renew services --yes") }, nil},
		{"keeper", func(n int, do func(string, ...any) string) {
			do("estate backup ../b%d.backup", n)
			do("journal verify")
		}, nil},
		{"reader", func(n int, do func(string, ...any) string) {
			for _, line := range []string{"estate status", "due", "forecast", "certificate list --json",
				"authority tree", "estate check"} {
				do(line)
			}
		}, nil},
	}
}

// until does something again while the authority that it needs is being renewed.
func until(do func(string, ...any) string, line string, args ...any) {
	for range 8 {
		if out := do(line, args...); strings.Contains(out, `"signed"`) || strings.Contains(out, `"serial"`) {
			return
		}
	}
}

// Eight programs work on one estate at once: nobody is told anything but the truth, and
// everything that was reported is on record.
func TestEightProgramsAtWork(t *testing.T) {
	p := harbour(t)
	const rounds = 3
	var mu sync.Mutex
	done := map[string]int{}
	var wrong []string
	var wg sync.WaitGroup
	for _, w := range workers() {
		wg.Go(func() {
			do := func(line string, args ...any) string {
				step := strings.Fields(fmt.Sprintf(line, args...))
				r, err := p.try(step...)
				mu.Lock()
				defer mu.Unlock()
				switch {
				case err == nil && r.code == 0:
					done[strings.Join(step[:min(2, len(step))], " ")]++
				case err != nil || !anyIn(r.errors+r.out, w.refusals):
					wrong = append(wrong, fmt.Sprintf("%s: %v: %v exit status %d\n%s%s", w.name, step, err, r.code,
						r.out, r.errors))
				}
				return r.out
			}
			for n := range rounds {
				w.round(n, do)
			}
		})
	}
	wg.Wait()
	for _, w := range wrong {
		t.Error(w)
	}
	if out := p.must("estate", "check"); !strings.Contains(out, "No faults") {
		t.Error(out)
	}
	var certificates []struct{ Title string }
	if err := json.Unmarshal([]byte(p.must("certificate", "list", "--json", "--state", "any")),
		&certificates); err != nil {
		t.Fatal(err)
	}
	signed := 0
	for _, c := range certificates {
		if strings.HasSuffix(c.Title, "ternbay.example") {
			signed++
		}
	}
	told := done["certificate renew"]
	for step, n := range done {
		if strings.HasPrefix(step, "sign ") {
			told += n
		}
	}
	if signed != told || told < 2*rounds {
		t.Errorf("%d were told to be signed, and %d are on record", told, signed)
	}
	for n := range rounds {
		p.must("estate", "restore", fmt.Sprintf("../b%d.backup", n), fmt.Sprintf("../again%d", n), "--yes")
	}
}

func anyIn(text string, words []string) bool {
	for _, w := range words {
		if strings.Contains(text, w) {
			return true
		}
	}
	return false
}
