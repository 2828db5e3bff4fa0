// Package spell turns advice into the commands that a person types. It is the only place
// that knows how an act of the program is typed.
package spell

import (
	"strings"

	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
)

// Speller spells commands for one shell.
type Speller struct {
	Shell term.Shell
}

// Command is the command line of a step; "" where no act of the program follows.
func (s Speller) Command(step advice.Step) string {
	pattern, known := patterns()[step.Act]
	if !known {
		return ""
	}
	var words []string
	if !strings.HasPrefix(pattern, "--") {
		words = append(words, "ironseal")
	}
	for pattern != "" {
		var part string
		optional := pattern[0] == '['
		if optional {
			part, pattern, _ = strings.Cut(pattern[1:], "]")
			if !given(step, part) {
				pattern = strings.TrimLeft(pattern, " ")
				continue
			}
		} else {
			part, pattern, _ = strings.Cut(pattern, " ")
		}
		for _, word := range strings.Fields(part) {
			words = append(words, s.word(step, word))
		}
		pattern = strings.TrimLeft(pattern, " ")
	}
	return strings.Join(words, " ")
}

// given reports whether a step has the value, or names the option, of an optional part of a pattern.
func given(step advice.Step, part string) bool {
	_, name, valued := strings.Cut(part, "{")
	if !valued {
		name = strings.TrimPrefix(part, "--")
	}
	_, there := step.Value(strings.TrimSuffix(name, "}"))
	return there
}

// word is one word of a pattern, with the value that takes its place.
func (s Speller) word(step advice.Step, word string) string {
	name, valued := strings.CutPrefix(word, "{")
	if !valued {
		return word
	}
	name = strings.TrimSuffix(name, "}")
	text, there := step.Value(name)
	if !there || text == advice.Asked {
		return strings.ToUpper(name)
	}
	if strings.ToUpper(text) == text && strings.Trim(text,
		"ABCDEFGHIJKLMNOPQRSTUVWXYZ-") == "" { // a word to be replaced
		return text
	}
	var words []string
	for _, one := range strings.Split(text, "\n") { // several of them
		words = append(words, s.Shell.Word(one))
	}
	return strings.Join(words, " ")
}

// Step is a step in a line: what for, and the command.
func (s Speller) Step(step advice.Step) string {
	command := s.Command(step)
	if command == "" || step.Words == "" {
		return step.Words + command
	}
	return step.Words + ": " + command
}

// List is several steps in one line.
func (s Speller) List(list advice.List) string {
	var out []string
	for _, step := range list {
		out = append(out, s.Step(step))
	}
	return strings.Join(out, "; ")
}

// Error is an error with what to do next, in one line.
func (s Speller) Error(err error) string {
	next := s.List(fault.NextOf(err))
	if next == "" {
		return err.Error()
	}
	return err.Error() + ": " + next
}

// All are the command lines of all acts, with every option.
func All() map[advice.Act]string {
	out := map[advice.Act]string{}
	for act, pattern := range patterns() {
		step := advice.Step{Act: act}
		for _, part := range strings.FieldsFunc(pattern, func(r rune) bool {
			return strings.ContainsRune("[]{} ",
				r)
		}) {
			step.With = append(step.With, advice.Value{Name: strings.TrimPrefix(part, "--"), Text: advice.Asked})
		}
		out[act] = Speller{}.Command(step)
	}
	return out
}
