// Package runes knows the characters that could mislead whoever reads a text.
//
// A name in a request can move the cursor (C0 and C1 controls), turn the reading
// direction (bidirectional marks), or differ from another name in nothing that
// can be seen (blanks without width, fillers, tags, selectors). There is one list
// of them, here, for the terminal, for JSON, for files and for findings alike: a
// character that one of them shows and another hides is where a fault begins.
package runes

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// invisible are characters that show nothing and are neither controls nor format
// characters: fillers, joiners, selectors, and what Unicode sets aside as
// default ignorable (UAX 44, DerivedCoreProperties).
var invisible = &unicode.RangeTable{
	R16: []unicode.Range16{
		{Lo: 0x034f, Hi: 0x034f, Stride: 1}, // grapheme joiner
		{Lo: 0x115f, Hi: 0x1160, Stride: 1}, // Hangul fillers
		{Lo: 0x17b4, Hi: 0x17b5, Stride: 1}, // Khmer inherent vowels
		{Lo: 0x180b, Hi: 0x180f, Stride: 1}, // Mongolian selectors
		{Lo: 0x2028, Hi: 0x2029, Stride: 1}, // line and paragraph separators
		{Lo: 0x2065, Hi: 0x2065, Stride: 1},
		{Lo: 0x2800, Hi: 0x2800, Stride: 1}, // Braille pattern without a dot
		{Lo: 0x3164, Hi: 0x3164, Stride: 1}, // Hangul filler
		{Lo: 0xfe00, Hi: 0xfe0f, Stride: 1}, // variation selectors
		{Lo: 0xffa0, Hi: 0xffa0, Stride: 1}, // halfwidth Hangul filler
		{Lo: 0xfff0, Hi: 0xfff8, Stride: 1},
		{Lo: 0xfffe, Hi: 0xffff, Stride: 1}, // no characters
	},
	R32: []unicode.Range32{
		{Lo: 0x1bca0, Hi: 0x1bca3, Stride: 1}, // shorthand controls
		{Lo: 0x1d173, Hi: 0x1d17a, Stride: 1}, // musical controls
		{Lo: 0xe0000, Hi: 0xe0fff, Stride: 1}, // tags and further selectors
	},
}

// Hostile reports a character that could mislead: a control, a bidirectional or
// other format character, an invisible one, or one that means bytes that
// are no text.
func Hostile(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == unicode.ReplacementChar || unicode.Is(invisible, r)
}

// Misleading reports a text that holds a hostile character.
func Misleading(s string) bool {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' { // else it is plain, as most is
			return strings.IndexFunc(s, Hostile) >= 0
		}
	}
	return false
}

// Escape makes outside text harmless wherever it is shown: hostile characters
// become \x or \u escapes, and bytes that are not UTF-8 are shown one by one.
func Escape(s string) string {
	if !Misleading(s) {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		switch {
		case r == unicode.ReplacementChar && !strings.HasPrefix(s[i:], "\uFFFD"):
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case Hostile(r) && r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		case Hostile(r):
			fmt.Fprintf(&b, `\u{%x}`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// JSON escapes the hostile characters of a text that is JSON already, as JSON
// allows anywhere inside a string. Line ends and tabs between the values stay:
// inside a string JSON has escaped them before.
func JSON(s string) string {
	plain := true // as most is
	for i := 0; i < len(s) && plain; i++ {
		plain = s[i] >= ' ' && s[i] <= '~' || s[i] == '\n'
	}
	if plain {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n' || !Hostile(r):
			b.WriteRune(r)
		case r > 0xffff:
			r -= 0x10000
			fmt.Fprintf(&b, `\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}

// Clip shortens a text to n characters, with a mark where something is left out.
func Clip(s string, n int) string {
	if utf8.RuneCountInString(s) <= n {
		return s
	}
	return string([]rune(s)[:n]) + "…"
}
