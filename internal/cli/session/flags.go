package session

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ironseal/pki/dn"
	"ironseal/pki/key"
	"ironseal/pki/san"
	"ironseal/pki/span"
)

// Some commands have modes, and not every flag has a meaning in every mode. A flag
// without one is wrong usage: whoever typed --encrypt must not get an open key.

// OnlyFlags refuses every flag of the command that was typed and is not among those
// that a mode uses. mode says which it is, as a person would.
func OnlyFlags(cmd *cobra.Command, mode string, used ...string) error {
	var lost []string
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if cmd.InheritedFlags().Lookup(f.Name) == nil && !slices.Contains(used, f.Name) {
			lost = append(lost, "--"+f.Name)
		}
	})
	if len(lost) == 0 {
		return nil
	}
	return Misused("%s: %s has no meaning %s: leave it out, or see %s --help", cmd.CommandPath(), strings.Join(lost,
		" "),
		mode, cmd.CommandPath())
}

// OneOf refuses a flag's word that is none of those that it takes.
func OneOf(flag, typed string, words ...string) error {
	if typed == "" || slices.Contains(words, typed) {
		return nil
	}
	return Misused("--%s %q: use one of %s", flag, typed, strings.Join(words, ", "))
}

// KindAsked reads a key kind as typed; none when nothing was.
func KindAsked(typed string) (key.Kind, error) {
	if typed == "" {
		return "", nil
	}
	k, err := key.ParseKind(typed)
	if err != nil {
		return "", &Status{Usage, err}
	}
	return k, nil
}

// SpanAsked reads a lifetime as typed; none when nothing was.
func SpanAsked(typed string) (span.Span, error) {
	if typed == "" {
		return span.Span{}, nil
	}
	d, err := span.Parse(typed)
	if err != nil {
		return d, &Status{Usage, err}
	}
	return d, nil
}

// WaiverFlags adds the options that waive findings.
func (s *Session) WaiverFlags(c *cobra.Command, waive *[]string, because *string) {
	c.Flags().StringArrayVar(waive, "waive", nil,
		"waive the finding with this `[REQUEST:]CODE`; may be repeated")
	c.Flags().StringVar(because, "because", "", "why it is waived")
}

// KindWords are the kinds of key, as they are typed.
func KindWords() []string {
	var out []string
	for _, k := range key.Kinds() {
		out = append(out, string(k))
	}
	return out
}

// QuietFlag adds the option that prints names alone.
func (s *Session) QuietFlag(c *cobra.Command, what string) {
	c.Flags().BoolVar(&s.Quiet, "quiet", false, what)
}

// TypedNames reads alternative names that were typed.
func TypedNames(args []string) ([]san.Name, error) {
	var out []san.Name
	for _, a := range args {
		n, err := san.ParseTyped(a)
		if err != nil {
			return nil, &Status{Usage, err}
		}
		out = append(out, n)
	}
	return out, nil
}

// SubjectAsked reads a subject that was typed; nil when none was.
func SubjectAsked(typed string) (*dn.Name, error) {
	if typed == "" {
		return nil, nil
	}
	n, err := dn.ParseTyped(typed)
	if err != nil {
		return nil, &Status{Code: Usage, Err: err}
	}
	return &n, nil
}
