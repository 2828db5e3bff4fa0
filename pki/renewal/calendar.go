package renewal

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
)

// Event is one day for a calendar.
type Event struct {
	Day     time.Time // the UTC day
	Summary string
	Text    string
	// what it is about: the same key gives the same entry again, so that a second import replaces the first
	Key string
}

// Calendar writes events as an iCalendar file (RFC 5545), whole days each, with a
// reminder a week before. stamp is when it was written.
func Calendar(events []Event, stamp time.Time) []byte {
	var b bytes.Buffer
	line := func(format string, args ...any) { fold(&b, fmt.Sprintf(format, args...)) }
	line("BEGIN:VCALENDAR")
	line("VERSION:2.0")
	line("PRODID:-//Iron Seal//due//EN")
	for _, e := range events {
		sum := sha256.Sum256([]byte(e.Key))
		line("BEGIN:VEVENT")
		line("UID:%x@ironseal.invalid", sum[:16])
		line("DTSTAMP:%s", stamp.UTC().Format("20060102T150405Z"))
		line("DTSTART;VALUE=DATE:%s", e.Day.UTC().Format("20060102"))
		line("DTEND;VALUE=DATE:%s", e.Day.UTC().AddDate(0, 0, 1).Format("20060102"))
		line("SUMMARY:%s", escaped(e.Summary))
		if e.Text != "" {
			line("DESCRIPTION:%s", escaped(e.Text))
		}
		line("TRANSP:TRANSPARENT")
		line("BEGIN:VALARM")
		line("ACTION:DISPLAY")
		line("DESCRIPTION:%s", escaped(e.Summary))
		line("TRIGGER:-P7D")
		line("END:VALARM")
		line("END:VEVENT")
	}
	line("END:VCALENDAR")
	return b.Bytes()
}

// escaped writes a text value (RFC 5545 section 3.3.11); control characters,
// which no value may hold, become blanks.
func escaped(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' || r == 0x7f || r == utf8.RuneError {
			return ' '
		}
		return r
	}, s)
	return strings.NewReplacer(`\`, `\\`, ";", `\;`, ",", `\,`, "\n", `\n`).Replace(s)
}

// fold breaks a line at 75 octets, never inside a character (section 3.1).
func fold(b *bytes.Buffer, s string) {
	room := 75
	for len(s) > room {
		cut := room
		for cut > 0 && !utf8.RuneStart(s[cut]) {
			cut--
		}
		b.WriteString(s[:cut] + "\r\n ")
		s, room = s[cut:], 74
	}
	b.WriteString(s + "\r\n")
}
