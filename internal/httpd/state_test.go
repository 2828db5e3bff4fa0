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

	"ironseal/internal/app/ops/service"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/store/sqlstore"
	"ironseal/pki/lifecycle"
)

// A full disk takes no request, and says so; what is served goes on.
func TestAFullDisk(t *testing.T) {
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
		data, _ := os.ReadFile(out)
		got = nil
		for line := range bytes.Lines(data) {
			var n service.Notice
			if json.Unmarshal(line, &n) != nil {
				return false
			}
			if n.What != "due" && n.Request != "R1" { // that is the desk's own
				got = append(got, n)
			}
		}
		return len(got) >= 4
	})
	want := []string{"request received R2", "certificate signed R2", "request received R3", "request declined R3"}
	for i, n := range got[:4] {
		if n.What+" "+n.Request != want[i] || n.Text == "" || n.At.IsZero() || n.By == "" {
			t.Errorf("%d: %+v", i, n)
		}
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
