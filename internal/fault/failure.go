// Package fault names the kinds of failure that a caller can act on, whatever their
// words: what an act planned from has changed, so plan again; somebody else is writing,
// so try later; there is no such thing, or the name fits several, so ask which is meant. A
// refusal by findings is a kind too, and is issue.Refused, which carries them.
package fault

import (
	"errors"
	"fmt"
)

// Kinds of failure, to be asked for with errors.Is.
var (
	ErrChanged  = errors.New("the record changed meanwhile")
	ErrBusy     = errors.New("somebody else is writing")
	ErrNotFound = errors.New("there is no such record")
	// ErrAmbiguous says that a name fits several, which the message lists.
	ErrAmbiguous = errors.New("the name fits several")
)

type failure struct {
	kind, words error
}

// Of is a failure of a kind, in words of its own; what they wrap stays wrapped.
func Of(kind error, format string, args ...any) error {
	return &failure{kind, fmt.Errorf(format, args...)}
}

// Error implements error.
func (f *failure) Error() string { return f.words.Error() }

// Unwrap gives the kind and what the words wrap.
func (f *failure) Unwrap() []error { return []error{f.kind, f.words} }
