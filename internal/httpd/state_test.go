package httpd_test

import (
	"bytes"
	"encoding/json"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ops/service"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/store/onserver"
	"ironseal/internal/store/sqlstore"
	"ironseal/pki/lifecycle"
)

// A full disk takes no request, and says so; what is served goes on.
func TestAFullDisk(t *testing.T) {
	onserver.FilesOnly(t)
	t.Parallel()
	h := serve(t)
	issue(t, h.e, "pier.ternbay.example")
	if err := h.s.Estate().Records.(*sqlstore.Store).LimitPages(ctx); err != nil {
		t.Fatal(err)
	}
	refused := false
	for range 40 { // until the last page is full
		r, page := h.post("/hand-in", "request", asking(t, "crane.ternbay.example"), "from", "Ana", "purpose",
			strings.Repeat("long ", 150))
		switch {
		case r.StatusCode == 503 && !strings.Contains(page, "SQL") && !strings.Contains(page, h.dir):
			refused = true
		case r.StatusCode != 303:
			t.Fatalf("%d %s", r.StatusCode, page)
		}
	}
	if !refused {
		t.Error("the disk never became full")
	}
	if r, _ := get(t, h.public.URL+"/services.g1.crl"); r.StatusCode != 200 {
		t.Errorf("a list: %d", r.StatusCode)
	}
}

// A notify command gets one JSON event for what comes, is signed and is declined, and for what is due.
func TestNotices(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("/bin/sh"); err != nil {
		t.Skip("there is no shell here")
	}
	out := filepath.Join(t.TempDir(), "notices")
	h := serve(t, "notify         = []", `notify         = ["/bin/sh", "-c", "cat >> `+out+`"]`)
	h.handIn("request", asking(t, "crane.ternbay.example"), "from", "Ana Tide", "purpose", "the key is kept in a safe")
	sign(t, h.e, "R2")
	h.handIn("request", asking(t, "buoy.ternbay.example"), "from", "Bo Reef")
	if _, err := intake.Decide(ctx, h.e, "R3", lifecycle.Declined, "not ours", false); err != nil {
		t.Fatal(err)
	}
	var got []service.Notice
	soon(t, "the notices came", func() bool {
		got = noticesIn(out)
		return len(got) >= 4
	})
	want := []string{"request received R2", "certificate signed R2", "request received R3", "request declined R3"}
	for i, n := range got[:4] {
		if n.What+" "+n.Request != want[i] || n.Text == "" || n.At.IsZero() || n.By == "" {
			t.Errorf("%d: %+v", i, n)
		}
	}
}

// noticesIn are the notices in a file, without those of the desk's own request.
func noticesIn(file string) (got []service.Notice) {
	data, _ := os.ReadFile(file)
	for line := range bytes.Lines(data) {
		var n service.Notice
		if json.Unmarshal(line, &n) != nil {
			return got
		}
		if n.What != "due" && n.Request != "R1" {
			got = append(got, n)
		}
	}
	return got
}

// A machine that gets what it may have is no notice; one that waits is, with the reason.
func TestNoticesOfMachines(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("/bin/sh"); err != nil {
		t.Skip("there is no shell here")
	}
	out := filepath.Join(t.TempDir(), "notices")
	q := newQuay(t, "notify         = []", `notify         = ["/bin/sh", "-c", "cat >> `+out+`"]`)
	code := q.code("ternbay.example", 3)
	if status, text := q.enrols(newDevice(t, "gate-1.quay.ternbay.example"), "simpleenroll", code, nil); status != 200 {
		t.Fatal(status, text)
	}
	if status, _ := q.enrols(newDevice(t, "crane.ternbay.example"), "simpleenroll", code, nil); status != 202 {
		t.Fatal(status)
	}
	var got []service.Notice
	soon(t, "the notice came", func() bool {
		got = noticesIn(out)
		return len(got) > 0
	})
	time.Sleep(500 * time.Millisecond)
	if got = noticesIn(out); len(got) != 1 || got[0].Title != "crane.ternbay.example" ||
		!strings.Contains(got[0].Text, "outside what may be signed without a person") {
		t.Errorf("%+v", got)
	}
}

// luminance is the relative luminance of a colour such as #0b5a78 (WCAG 2).
func luminance(t *testing.T, colour string) float64 {
	t.Helper()
	part := func(at int) float64 {
		n, err := strconv.ParseUint(colour[at:at+2], 16, 8)
		if err != nil {
			t.Fatal(err)
		}
		c := float64(n) / 255
		if c <= 0.03928 {
			return c / 12.92
		}
		return math.Pow((c+0.055)/1.055, 2.4)
	}
	return 0.2126*part(1) + 0.7152*part(3) + 0.0722*part(5)
}

// Colours of the pages have the contrast of WCAG 2, level AA: 4.5 for text, 3 for the edges of fields.
func TestContrast(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("pages/style.css")
	if err != nil {
		t.Fatal(err)
	}
	schemes := regexp.MustCompile(`(?s):root \{([^}]*)\}`).FindAllSubmatch(text, -1)
	if len(schemes) != 2 {
		t.Fatalf("%d schemes", len(schemes))
	}
	for i, s := range schemes {
		colours := map[string]float64{}
		for _, m := range regexp.MustCompile(`--([a-z-]+):\s*(#[0-9a-f]{6})`).FindAllSubmatch(s[1], -1) {
			colours[string(m[1])] = luminance(t, string(m[2]))
		}
		check := func(on, under string, least float64) {
			a, b := colours[on], colours[under]
			if got := (max(a, b) + 0.05) / (min(a, b) + 0.05); got < least {
				t.Errorf("%s: %s on %s: %.2f", []string{"light", "dark"}[i], on, under, got)
			}
		}
		for _, ink := range []string{"ink", "soft", "link"} {
			for _, under := range []string{"paper", "card", "code", "good", "warn", "bad"} {
				check(ink, under, 4.5)
			}
		}
		check("on-button", "button", 4.5)
		check("line", "paper", 3)
		check("line", "card", 3)
	}
}
