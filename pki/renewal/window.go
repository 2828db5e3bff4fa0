package renewal

import "time"

// Window is when a machine renews its certificate on its own (RFC 9773 section 4.2): between the two moments, or at
// once after both.
type Window struct{ From, Until time.Time }

// WindowOf is the window of a certificate that begins and ends then. It lies where two thirds of its life are over.
// shrinks is the last day on
// which the full life is granted, zero where that is not known: the window ends by then, as long as half of the life is
// over. atOnce says that its key or its issuer is in an incident, or was revoked.
func WindowOf(begins, ends, shrinks, now time.Time, atOnce bool) Window {
	life := ends.Sub(begins)
	if atOnce {
		until := begins.Add(min(life/100, time.Hour))
		if now.Before(until) {
			until = now.Add(-time.Minute)
		}
		return Window{until.Add(-time.Minute).UTC(), until.UTC()}
	}
	w := Window{begins.Add(life * 63 / 100), begins.Add(life * 70 / 100)}
	half := begins.Add(life / 2)
	if !shrinks.IsZero() && shrinks.Before(w.Until) && shrinks.After(half) {
		w.Until = shrinks
		if early := shrinks.Add(-life / 20); early.Before(w.From) {
			w.From = early
		}
	}
	return Window{w.From.UTC(), w.Until.UTC()}
}

// Late reports whether a machine should have renewed a certificate by now.
func Late(begins, ends, now time.Time) bool { return !now.Before(LateFrom(begins, ends)) }

// LateFrom is when a machine is late: its window has passed, and half of what is left after it.
func LateFrom(begins, ends time.Time) time.Time {
	until := WindowOf(begins, ends, time.Time{}, begins, false).Until
	return until.Add(ends.Sub(until) / 2)
}
