// Package advice says what a person can do next, as data. It knows acts and what they are
// about, and not how an act is typed: the command line spells a step as a command, a page may
// make it a link.
package advice

import "encoding/json"

// Step is one thing that a person can do.
type Step struct {
	Words string // what for, without the command, such as "renew it first"
	Act   Act    // the act that does it; empty where no act of the program does
	With  []Value
}

// List is what a person can do, the first first.
type List []Step

// Value is one value that an act takes, such as an authority's handle.
type Value struct {
	Name string // as the act calls it, such as "authority" or "because"
	Text string // the value; Asked where the person has to choose it
}

// Asked means a value that the person has to choose.
const Asked = "\x00"

// Say is advice that no act of the program follows.
func Say(words string) Step { return Step{Words: words} }

// To is advice to do an act. Pairs are names and values, in turn.
func To(words string, act Act, pairs ...string) Step {
	s := Step{Words: words, Act: act}
	for i := 0; i+1 < len(pairs); i += 2 {
		s.With = append(s.With, Value{pairs[i], pairs[i+1]})
	}
	return s
}

// Value gives a value of the step by its name.
func (s Step) Value(name string) (string, bool) {
	for _, v := range s.With {
		if v.Name == name {
			return v.Text, true
		}
	}
	return "", false
}

// IsZero reports whether nothing is advised.
func (s Step) IsZero() bool { return s.Words == "" && s.Act == "" }

// MarshalJSON writes a step without a spelling: its words, the act and its values.
func (s Step) MarshalJSON() ([]byte, error) {
	with := map[string]string{}
	for _, v := range s.With {
		if v.Text != Asked {
			with[v.Name] = v.Text
		}
	}
	return json.Marshal(struct {
		Words string            `json:"words"`
		Act   Act               `json:"act,omitempty"`
		With  map[string]string `json:"with,omitempty"`
	}{s.Words, s.Act, with})
}
