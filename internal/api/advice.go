package api

import (
	"ironseal/internal/app/audit"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ca/rollover"
	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/revoke/incidents"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/pki/advice"
	"ironseal/pki/finding"
)

// Speller writes next steps as whoever reads the answer would do them.
type Speller interface {
	Command(step advice.Step) string // the command alone
	Step(step advice.Step) string    // what for, and the command
	List(list advice.List) string    // several in a line
}

// Hint is the next thing to do: what for, and the command.
type Hint struct {
	Why     string `json:"why"`
	Command string `json:"command"`
}

// HintsOf are next steps as JSON has them.
func HintsOf(list advice.List, s Speller) []Hint {
	out := []Hint{}
	for _, step := range list {
		out = append(out, Hint{step.Words, s.Command(step)})
	}
	return out
}

// FindingsOf are findings as JSON has them: the remedy names the commands.
func FindingsOf(list finding.List, s Speller) finding.List {
	out := finding.List{}
	for _, f := range list {
		f.Remedy, f.Next = s.List(f.Steps()), nil
		out = append(out, f)
	}
	return out
}

// Status is the state of the estate.
type Status struct {
	overview.Status
	Next []Hint `json:"next" doc:"what to do next: why, and the command"`
}

// StatusOf is a status as JSON has it.
func StatusOf(st overview.Status, s Speller) Status { return Status{st, HintsOf(st.Next, s)} }

// Due is something that is due.
type Due struct {
	renewals.Due
	Command string `json:"command" doc:"what to do"`
}

// DueOf is what is due as JSON has it.
func DueOf(list []renewals.Due, s Speller) []Due {
	out := []Due{}
	for _, d := range list {
		out = append(out, Due{d, s.Command(d.Next)})
	}
	return out
}

// PlanStep is one step of a change-over.
type PlanStep struct {
	rollover.Step
	Command string `json:"command"` // that does it; "" for what is done elsewhere
}

// PlanOf is the plan of a change-over as JSON has it.
func PlanOf(list []rollover.Step, s Speller) []PlanStep {
	out := []PlanStep{}
	for _, x := range list {
		out = append(out, PlanStep{x, s.Command(x.Next)})
	}
	return out
}

// IncidentStep is one of the steps of an incident.
type IncidentStep struct {
	incidents.Step
	Next string `json:"next" doc:"the command to run next; empty if no step is left"`
}

// Incident is the progress of an incident.
type Incident struct {
	incidents.Progress
	Steps []IncidentStep `json:"steps" doc:"what is to be done, in order"`
}

// IncidentOf is an incident as JSON has it.
func IncidentOf(p incidents.Progress, s Speller) Incident {
	out := Incident{Progress: p, Steps: []IncidentStep{}}
	for _, st := range p.Steps {
		out.Steps = append(out.Steps, IncidentStep{st, s.Command(st.Next)})
	}
	return out
}

// Fault is something wrong with an estate.
type Fault struct {
	audit.Fault
	Remedy string `json:"remedy" doc:"what to do"`
}

// Check is what a check of the estate found.
type Check struct {
	audit.Checked
	Faults []Fault `json:"faults" doc:"what is wrong"`
}

// CheckOf is a check as JSON has it.
func CheckOf(c audit.Checked, s Speller) Check {
	out := Check{Checked: c, Faults: []Fault{}}
	for _, f := range c.Faults {
		out.Faults = append(out.Faults, Fault{f, s.List(f.Next)})
	}
	return out
}

// Later is a certificate that is to be revoked once another is in use.
type Later struct {
	revoking.Later
	Command string `json:"command,omitempty" doc:"the command that finds out"`
}

// LaterOf is what is to be revoked later as JSON has it.
func LaterOf(list []revoking.Later, s Speller) []Later {
	out := []Later{}
	for _, l := range list {
		out = append(out, Later{l, s.Command(l.Next)})
	}
	return out
}
