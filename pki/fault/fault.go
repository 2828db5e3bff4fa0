// Package fault says as data what went wrong: the kind of failure, what it is about, why, what
// caused it, and what a person can do next.
//
// Code asks for the kind with errors.Is(err, fault.NotFound) and never reads the words. The
// next steps are typed (pki/advice); whoever shows a fault spells them as commands or links.
package fault

import (
	"errors"
	"fmt"

	"ironseal/pki/advice"
)

// Kind says what a caller can do about a failure. A Kind is an error itself, so that it can be
// wrapped and asked for with errors.Is.
type Kind string

const (
	// BadInput: what was given cannot be used. Correct it.
	BadInput Kind = "the input cannot be used"
	// NotFound: nothing is on record, or in place, under this name.
	NotFound Kind = "there is no such record"
	// Ambiguous: a name fits several. The message lists them.
	Ambiguous Kind = "the name fits several"
	// Changed: what a plan was made from is different now. Plan again.
	Changed Kind = "the record changed meanwhile"
	// Busy: another program is writing. Try again later.
	Busy Kind = "another program is writing"
	// Refused: the rules forbid it. Findings say which, where there are findings.
	Refused Kind = "it is refused"
	// Unavailable: the disk, a device or the network does not serve.
	Unavailable Kind = "it cannot be reached"
	// Internal: the program or its records are at fault.
	Internal Kind = "the program is at fault"
)

// Error implements error.
func (k Kind) Error() string { return string(k) }

// Ref names what a fault is about.
type Ref struct {
	Sort Sort
	Name string // a handle, a number such as R7, a serial, a path
}

// Sort is the sort of thing that a Ref names.
type Sort string

// Sorts of things.
const (
	Request     Sort = "request"
	Certificate Sort = "certificate"
	Authority   Sort = "authority"
	Template    Sort = "template"
	Receiver    Sort = "receiver"
	TrustSet    Sort = "trust set"
	Party       Sort = "party"
	Incident    Sort = "incident"
	List        Sort = "revocation list"
	Key         Sort = "key"
	File        Sort = "file"
	Estate      Sort = "estate"
	Records     Sort = "records"
)

// Named is a reference to the thing of this sort with a name.
func (s Sort) Named(format string, args ...any) Ref { return Ref{s, fmt.Sprintf(format, args...)} }

// Fault is a failure. Its message says what and why; the next steps are not in it.
type Fault struct {
	Kind  Kind
	About Ref
	Next  advice.List
	words error
}

// New is a fault. The format is that of fmt.Errorf: an error behind %w is kept as the cause.
func New(kind Kind, format string, args ...any) *Fault {
	return &Fault{Kind: kind, words: fmt.Errorf(format, args...)}
}

// On says what the fault is about.
func (f *Fault) On(about Ref) *Fault {
	f.About = about
	return f
}

// Then adds what a person can do next.
func (f *Fault) Then(steps ...advice.Step) *Fault {
	f.Next = append(f.Next, steps...)
	return f
}

// Error implements error.
func (f *Fault) Error() string { return f.words.Error() }

// Is reports whether the fault is of a kind.
func (f *Fault) Is(target error) bool { return target == error(f.Kind) }

// Unwrap gives what the message was made of, and with it the cause.
func (f *Fault) Unwrap() error { return f.words }

// KindOf is the kind of the outermost fault in an error; Internal if none exists.
func KindOf(err error) Kind {
	if f, ok := errors.AsType[*Fault](err); ok {
		return f.Kind
	}
	if k, ok := errors.AsType[Kind](err); ok {
		return k
	}
	return Internal
}

// NextOf collects the next steps of all faults in an error, the outermost first.
func NextOf(err error) advice.List {
	var out advice.List
	if f, ok := err.(*Fault); ok {
		out = append(out, f.Next...)
	}
	switch e := err.(type) {
	case interface{ Unwrap() error }:
		if inner := e.Unwrap(); inner != nil {
			out = append(out, NextOf(inner)...)
		}
	case interface{ Unwrap() []error }:
		for _, inner := range e.Unwrap() {
			out = append(out, NextOf(inner)...)
		}
	}
	return out
}
