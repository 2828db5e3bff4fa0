package session

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/term"
	"ironseal/pki/cert"
	"ironseal/pki/describe"
	"ironseal/pki/finding"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/template"
)

// ShowFlags adds the options of commands that show one object.
func (s *Session) ShowFlags(c *cobra.Command, all *bool, field *string) {
	c.Flags().BoolVar(all, "all", false, "show the details too")
	c.Flags().StringVar(field, "field", "", "print only the value of this field: `NAME` is serial, sha256, sha1, "+
		"not_after …")
}

// PrintObject prints a description: as JSON, as one bare field, or in words.
func (s *Session) PrintObject(o describe.Object, all bool, field string) error {
	switch {
	case field != "" && s.JSON:
		return Misused("--field prints one bare value, and --json everything: use one of the two")
	case field != "":
		values, ok := o.Field(field)
		if !ok {
			return Misused("--field %q: no field is called so; there are: %v", field, o.Keys())
		}
		for _, v := range values {
			s.Out.Say("%s", term.Safe(v))
		}
	case s.JSON:
		o.Findings = api.FindingsOf(o.Findings, s.Speller())
		return s.PrintJSON(o)
	default:
		s.Out.Describe(o, all)
	}
	return nil
}

// Nothing says that there was nothing to sign; in JSON, by an empty result.
func (s *Session) Nothing(words string) error {
	if s.JSON {
		return s.PrintJSON(map[string]any{"signed": []describe.Object{}, "failed": []Failure{}})
	}
	s.Out.Say("%s", words)
	return nil
}

// Failure is one row that was not signed.
type Failure struct {
	Name    string `json:"name"`
	Why     string `json:"why"`
	Refused bool
}

// DrawFailures prints what could not be done, and why.
func (s *Session) DrawFailures(failed []Failure) {
	if len(failed) == 0 {
		return
	}
	s.Out.Gap()
	var cells [][]term.Cell
	for _, f := range failed {
		cells = append(cells, []term.Cell{{Text: "✗", Tone: term.Bad}, {Text: f.Name, Tone: term.Strong},
			{Text: f.Why}})
	}
	s.Out.Table([]string{"", "", ""}, cells)
}

// Counter shows how far a bulk act has come, on a terminal.
func (s *Session) Counter(what string, total int) (count func(int), stop func()) {
	if s.JSON || !s.Errs.Terminal || total < 50 {
		return func(int) {}, func() {}
	}
	return s.Errs.Counter(what, total)
}

// Trusted names the roots that a person gave in trust, with what to compare.
func (s *Session) Trusted(anchors []*cert.Certificate) {
	for _, a := range anchors {
		s.Out.Say("  trusted because it was given: %s, check code %s", term.Safe(a.Title()),
			s.Out.Paint(term.Accent, label.CheckCode(a.Raw)))
	}
}

// StateCell draws a state; red is what needs doing. planned says that another serves in
// its place, so that its end was meant.
func StateCell(state lifecycle.State, planned bool) term.Cell {
	if planned && state == lifecycle.Expired {
		return term.Cell{Text: "· " + string(state), Tone: term.Quiet}
	}
	switch state {
	case lifecycle.Valid:
		return term.Cell{Text: "✓ " + string(state), Tone: term.Good}
	case lifecycle.Expiring:
		return term.Cell{Text: "! " + string(state), Tone: term.Careful}
	}
	if state == lifecycle.Replaced || state == lifecycle.Prepared {
		return term.Cell{Text: "· " + string(state), Tone: term.Quiet}
	}
	return term.Cell{Text: "✗ " + string(state), Tone: term.Bad}
}

// OrDash is a text, or a dash for none.
func OrDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// Refusal says in a line or two what prevents signing, and how to continue.
func Refusal(about, outcome string, list finding.List) error {
	hint := "a refused finding cannot be waived"
	if stops := list.Stops(); strings.HasPrefix(stops, "needs") {
		hint = "to continue anyway:"
		for _, c := range list.Distinct() {
			hint += " --waive " + string(c)
		}
		hint += " --because TEXT"
	}
	return &Status{Refused, fmt.Errorf("%s: %s: %s\n%s", about, outcome, list.Stops(), hint)}
}

// PrintChanges prints how two things differ.
func (s *Session) PrintChanges(list []template.Change, a, b string) error {
	if s.JSON {
		return s.PrintJSON(append([]template.Change{}, list...))
	}
	if len(list) == 0 {
		s.Out.Say("%s %s and %s say the same", s.Out.Paint(term.Good, "✓"), a, b)
		return nil
	}
	var cells [][]term.Cell
	for _, c := range list {
		cells = append(cells, []term.Cell{{Text: c.Label, Tone: term.Quiet}, {Text: OrDash(c.A)},
			{Text: OrDash(c.B), Tone: term.Careful}})
	}
	s.Out.Table([]string{"", a, b}, cells)
	return nil
}
