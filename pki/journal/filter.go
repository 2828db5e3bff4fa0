package journal

import (
	"strings"
	"time"
)

// Filter says which entries are meant. What is empty means any; case does not count.
type Filter struct {
	Act    string    // part of what was done, such as "sign"
	Object string    // part of what it was done to, or of its detail: a name, a serial number, a digest
	Who    string    // who did it
	Since  time.Time // from this moment on
	Before time.Time // before this moment
}

// IsZero reports whether every entry is meant.
func (f Filter) IsZero() bool { return f == Filter{} }

// Fits reports whether an entry is meant.
func (f Filter) Fits(e Entry) bool {
	part := func(text, of string) bool { return strings.Contains(strings.ToLower(text), strings.ToLower(of)) }
	return part(e.Act, f.Act) && (part(e.Object, f.Object) || part(e.Detail, f.Object)) &&
		(f.Who == "" || strings.EqualFold(e.Actor, f.Who)) && (f.Since.IsZero() || !e.At.Before(f.Since)) &&
		(f.Before.IsZero() || e.At.Before(f.Before))
}
