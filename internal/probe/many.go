package probe

import (
	"context"
	"crypto/tls"
	"errors"
	"time"

	"golang.org/x/sync/errgroup"
)

// AtOnce is how many endpoints are looked at together: most of the time of each is waiting.
const AtOnce = 64

// Many looks at endpoints together, and gives each answer as it comes, with the place that its
// target has in the list; each is called by several at once. An endpoint that does not answer
// holds up no other.
func (o Options) Many(ctx context.Context, list []Target, now func() time.Time, each func(int, Answer)) {
	var g errgroup.Group
	g.SetLimit(AtOnce)
	for i := range list {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error {
			each(i, o.Look(ctx, list[i], now))
			return nil
		})
	}
	_ = g.Wait() // each answer carries its own failure
}

// Protocol is the version that was agreed on, in words; "" where none was.
func (a Answer) Protocol() string {
	if a.Version == 0 {
		return ""
	}
	return tls.VersionName(a.Version)
}

// OldOnly reports whether nothing newer than TLS 1.1 was agreed on, although it was offered.
func (a Answer) OldOnly() bool { return a.Version != 0 && a.Version < tls.VersionTLS12 }

// Declines is why a server that answers does not continue to TLS, in words; "" where it did not decline.
func (a Answer) Declines() string {
	var d *Declined
	if errors.As(a.Err, &d) {
		return d.Error()
	}
	return ""
}

// Weak is the suite that was agreed on, where it is a weak one.
func (a Answer) Weak() string {
	for _, s := range tls.InsecureCipherSuites() {
		if s.ID == a.Cipher {
			return s.Name
		}
	}
	return ""
}
