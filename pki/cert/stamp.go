package cert

import (
	"time"
)

// Stamp writes a moment for people, in UTC to the second.
func Stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }
