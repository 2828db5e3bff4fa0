package session

import (
	"encoding/json"

	"ironseal/pki/runes"
)

// PrintJSON prints a value as JSON. Characters that could mislead on a terminal are
// written as escapes, which JSON allows anywhere in a text.
func (s *Session) PrintJSON(v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return s.Out.Raw([]byte(runes.JSON(string(data)) + "\n"))
}

// List is a JSON array that is printed as its values come, however many.
type List struct {
	s    *Session
	rows int
}

// NewList begins an array.
func (s *Session) NewList() *List { return &List{s: s} }

// Add prints the next value.
func (l *List) Add(v any) error {
	data, err := json.MarshalIndent(v, "  ", "  ")
	if err != nil {
		return err
	}
	before := ",\n  "
	if l.rows++; l.rows == 1 {
		before = "[\n  "
	}
	return l.s.Out.Raw([]byte(before + runes.JSON(string(data))))
}

// End ends the array.
func (l *List) End() error {
	after := "\n]\n"
	if l.rows == 0 {
		after = "[]\n"
	}
	return l.s.Out.Raw([]byte(after))
}
