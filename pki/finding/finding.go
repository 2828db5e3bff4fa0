// Package finding holds what Iron Seal has to say about a request, a plan, a
// certificate or a chain, as data rather than prose.
//
// A finding is one observation. It carries a stable code, so that a script, a
// waiver or a template can name it; a severity, which decides what may happen
// next; a message about this very object; and a remedy. Every code is declared
// once, in the registry of this package, and docs/findings.md is written from
// that registry, so the page and the program cannot disagree.
//
// The package decides nothing itself. Whoever examines an object calls New with
// a code; the severity comes from the registry and from nowhere else.
package finding

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"ironseal/pki/advice"
	"ironseal/pki/fault"
)

// Severity says what a finding does to an act. The order of the constants is
// the order of weight: a larger value weighs more.
type Severity int

const (
	// Note is worth knowing and asks for nothing.
	Note Severity = iota + 1
	// Warn will cost someone time later unless they act; it stops nothing.
	Warn
	// Waivable refuses the act until a person waives this code, with a reason.
	Waivable
	// Refused refuses the act permanently: no waiver passes it.
	Refused
)

var severityWords = map[Severity]string{Note: "note", Warn: "warning", Waivable: "needs a waiver", Refused: "refused"}

// String gives the severity as the word used on sheets and in JSON.
func (s Severity) String() string { return severityWords[s] }

// Words says what a severity does to an act.
func (s Severity) Words() string {
	switch s {
	case Waivable:
		return "needs a waiver"
	case Refused:
		return "refused, cannot be waived"
	}
	return s.String()
}

// MarshalJSON writes the severity as its word.
func (s Severity) MarshalJSON() ([]byte, error) { return json.Marshal(s.String()) }

// UnmarshalJSON reads the word.
func (s *Severity) UnmarshalJSON(data []byte) error {
	var word string
	if err := json.Unmarshal(data, &word); err != nil {
		return err
	}
	for v, w := range severityWords {
		if w == word || v == Waivable && word == "held" { // as it was called before
			*s = v
			return nil
		}
	}
	return fmt.Errorf("severity %q is not known", word)
}

// Code names one kind of finding permanently: kebab-case, never reused.
type Code string

// Finding is one observation about one object.
type Finding struct {
	Code     Code     `json:"code" doc:"its code: docs/findings.md explains each"`
	Severity Severity `json:"severity" doc:"refused, needs a waiver, warning or note"`
	// about this object; may hold outside text, so escape it when it is shown
	Message string `json:"message" doc:"what was found, about this object"`
	Remedy  string `json:"remedy,omitempty" doc:"what to do"`
	// Next are acts of the program that are the remedy, or follow it. Whoever shows a finding spells them.
	Next   advice.List `json:"-"`
	Waived string      `json:"waived,omitempty" doc:"the reason that was given for waiving it"`
}

// New makes the finding with the given code. Its severity and its remedy come
// from the registry. A code that the registry lacks is a fault in the program;
// it is given the severity Refused, so that the fault cannot let anything through.
func New(code Code, format string, args ...any) Finding {
	f := Finding{Code: code, Severity: Refused, Message: fmt.Sprintf(format, args...)}
	if rule, ok := Lookup(code); ok {
		f.Severity, f.Remedy, f.Next = rule.Severity, rule.Remedy, rule.Next
	}
	return f
}

// WithRemedy replaces the general remedy by one that fits this object.
func (f Finding) WithRemedy(format string, args ...any) Finding {
	f.Remedy, f.Next = fmt.Sprintf(format, args...), nil
	return f
}

// WithNext replaces the general remedy by acts of the program.
func (f Finding) WithNext(steps ...advice.Step) Finding {
	f.Remedy, f.Next = "", steps
	return f
}

// Steps are the remedy as advice: its words, then the acts of the program.
func (f Finding) Steps() advice.List {
	if f.Remedy == "" {
		return f.Next
	}
	return append(advice.List{advice.Say(f.Remedy)}, f.Next...)
}

// List is a set of findings about one object.
type List []Finding

// Ranked returns the findings with the weightiest first; findings of one
// severity keep the order in which they were made.
func (l List) Ranked() List {
	out := slices.Clone(l)
	slices.SortStableFunc(out, func(a, b Finding) int { return int(b.Severity) - int(a.Severity) })
	return out
}

// Refusing returns the findings that keep an act from being done: every refused one, and every
// one that needs a waiver and has none.
func (l List) Refusing() List {
	var out List
	for _, f := range l.Ranked() {
		if f.Severity == Refused || (f.Severity == Waivable && f.Waived == "") {
			out = append(out, f)
		}
	}
	return out
}

// Has reports whether a finding with this code is in the list.
func (l List) Has(code Code) bool {
	return slices.ContainsFunc(l, func(f Finding) bool { return f.Code == code })
}

// Codes returns the codes in the list, in order, for tests and for scripts.
func (l List) Codes() []Code {
	out := make([]Code, len(l))
	for i, f := range l {
		out[i] = f.Code
	}
	return out
}

// Distinct returns the codes in the list, in order, each once.
func (l List) Distinct() []Code {
	var out []Code
	for _, f := range l {
		if !slices.Contains(out, f.Code) {
			out = append(out, f.Code)
		}
	}
	return out
}

// Stops says what keeps an act from being done, of the findings that do: "refused by CODE" where one cannot be
// waived, else "needs a waiver: CODE".
func (l List) Stops() string {
	why := "needs a waiver: "
	stops := slices.DeleteFunc(slices.Clone(l), func(f Finding) bool { return f.Severity != Waivable })
	refused := slices.DeleteFunc(slices.Clone(l), func(f Finding) bool { return f.Severity != Refused })
	if len(refused) > 0 {
		why, stops = "refused by ", refused
	}
	var codes []string
	for _, c := range stops.Distinct() {
		codes = append(codes, string(c))
	}
	return why + strings.Join(codes, ", ")
}

// Waiver is a person's decision to continue despite a stop.
type Waiver struct {
	Request int64 // the number of the request it is for; 0 for the current one
	Code    Code
	Because string
}

// Waive marks the stops that the waivers for this request name. A waiver that
// names a bar, or a code that is not in the list, is an error: a person who
// waives something that is not there has looked at another sheet.
func (l List) Waive(request int64, waivers []Waiver) (List, error) {
	out := slices.Clone(l)
	for _, w := range waivers {
		if w.Request != 0 && w.Request != request {
			continue
		}
		if strings.TrimSpace(w.Because) == "" {
			return nil, fault.New(fault.BadInput, "waiver of %s: no reason is given", w.Code).Then(
				advice.To("add one", advice.Because))
		}
		hit := false
		for i := range out {
			if out[i].Code != w.Code {
				continue
			}
			if out[i].Severity == Refused {
				return nil, fault.New(fault.Refused, "waiver of %s: this finding cannot be waived", w.Code).
					Then(out[i].Steps()...)
			}
			out[i].Waived, hit = w.Because, true
		}
		if !hit {
			return nil, fmt.Errorf("waiver of %s: there is no such finding on this sheet: leave the waiver out", w.Code)
		}
	}
	return out, nil
}
