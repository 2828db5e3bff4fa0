// Package revocation numbers revocation lists. Making and reading them will
// stand here as well.
package revocation

import "time"

// NextNumber is the number of an authority's next list (RFC 5280 section 5.2.3):
// one more than the last on record, or the time in seconds where that is more, so
// that a restored backup, which does not know the lists made after it, never goes
// backwards.
func NextNumber(last int64, now time.Time) int64 { return max(last+1, now.Unix()) }
