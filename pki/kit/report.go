package kit

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"
)

// Report is what a kit's script says of one machine, as a line of JSON.
type Report struct {
	Host     string    `json:"host"`
	Platform string    `json:"platform"`
	Store    string    `json:"store"`
	Act      string    `json:"act"`     // install, remove or check
	SHA256   []string  `json:"sha256"`  // the roots of the kit
	Missing  []string  `json:"missing"` // those of them that the store has not
	When     time.Time `json:"when"`
}

// Bounds on reports: they come from machines that others administer.
const (
	mostReports = 10_000
	mostReport  = 64 << 10 // bytes of a line
	mostRoots   = 500
)

// hostForm is what a host may be called; its characters are harmless anywhere.
var hostForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9?._:-]{1,253}$`) })

// ReadReports reads reports, one a line. now bounds their times: none is from the future, but
// for a day, which clocks may differ by.
func ReadReports(data []byte, now time.Time) ([]Report, error) {
	var out []Report
	n := 0
	for line := range bytes.Lines(data) {
		n++
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		if len(line) > mostReport || len(out) == mostReports {
			return nil, fmt.Errorf("line %d of the reports is too long, or there are more than %d reports",
				n, mostReports)
		}
		var r Report
		if err := json.Unmarshal(line, &r); err != nil {
			return nil, fmt.Errorf("line %d is no report: %w", n, err)
		}
		if err := r.check(now); err != nil {
			return nil, fmt.Errorf("line %d of the reports: %w", n, err)
		}
		out = append(out, r)
	}
	return out, nil
}

func (r Report) check(now time.Time) error {
	switch {
	case !hostForm().MatchString(r.Host):
		return fmt.Errorf("host = %q is no name of a host", r.Host)
	case !hostForm().MatchString(r.Platform):
		return fmt.Errorf("platform = %q is no name of a platform", r.Platform)
	case r.Store == "" || len(r.Store) > 300 || strings.ContainsFunc(r.Store, func(c rune) bool {
		return c < ' ' || c > '~'
	}):
		return fmt.Errorf("store = %q is no place of a store", r.Store)
	case r.Act != "install" && r.Act != "remove" && r.Act != "check":
		return fmt.Errorf("act = %q: it is install, remove or check", r.Act)
	case len(r.SHA256) == 0 || len(r.SHA256) > mostRoots || len(r.Missing) > len(r.SHA256):
		return fmt.Errorf("sha256: there are %d, and 1 to %d are wanted, missing ones among them", len(r.SHA256),
			mostRoots)
	case r.When.IsZero() || r.When.After(now.AddDate(0, 0, 1)):
		return fmt.Errorf("when = %s: that is not yet", r.When.Format(time.RFC3339))
	}
	for _, s := range append(append([]string{}, r.SHA256...), r.Missing...) {
		if b, err := hex.DecodeString(s); err != nil || len(b) != 32 || s != strings.ToLower(s) {
			return fmt.Errorf("%q is no SHA-256 fingerprint", s)
		}
	}
	return nil
}
