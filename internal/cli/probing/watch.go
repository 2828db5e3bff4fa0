package probing

import (
	"context"
	"fmt"
	"time"

	"ironseal/internal/app/ops/probes"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/probe"
	"ironseal/internal/term"
	"ironseal/pki/endpoint"
)

// again looks again and again at what is not right yet, and says what becomes of it, until
// everything is: trusted, or serving the certificate that is waited for.
func (f *flags) again(ctx context.Context, s *session.Session, e *estate.Estate, l *probes.Looking,
	outcomes []probes.Outcome) ([]probes.Outcome, error) {
	want := ""
	if f.until != "" {
		sum, err := f.wanted(ctx, s, e)
		if err != nil {
			return nil, err
		}
		want = sum
	}
	right := func(o probes.Outcome) bool {
		if want != "" {
			return o.Row.SHA256 == want
		}
		return o.Trusted
	}
	for {
		var open []int
		var targets []probe.Target
		for i, o := range outcomes {
			if !right(o) {
				open, targets = append(open, i), append(targets, o.Target)
			}
		}
		if len(open) == 0 {
			return outcomes, nil
		}
		s.Errs.Say("%s", s.Errs.Paint(term.Quiet, fmt.Sprintf("%s  %d of %d not yet", time.Now().Format("15:04:05"),
			len(open), len(outcomes))))
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(f.watch):
		}
		now := l.All(ctx, targets, nil)
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		for n, o := range now {
			i := open[n]
			for _, words := range endpoint.Days.Differences(outcomes[i].Row, o.Row) {
				s.Errs.Say("  %s: %s", s.Errs.Paint(term.Strong, term.Safe(label(o))), term.Safe(words))
			}
			outcomes[i] = o
		}
	}
}

// wanted is the fingerprint of the certificate that is waited for.
func (f *flags) wanted(ctx context.Context, s *session.Session, e *estate.Estate) (string, error) {
	if e == nil {
		return "", session.Misused("probe: --until names a certificate on record, and there is no estate here")
	}
	h, err := s.Found(ctx, e, f.until)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%x", h.SHA256()), nil
}
