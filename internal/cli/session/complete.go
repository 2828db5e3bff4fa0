package session

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"
	xterm "golang.org/x/term"

	"ironseal/internal/app/parties"
	"ironseal/pki/lifecycle"
)

// Completion asks the estate's own records. It stays silent when there is no
// estate: a shell has no place for errors.

type completer = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// Handles completes an authority's handle.
func (s *Session) Handles(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	h, err := e.Hierarchy(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, a := range h {
		if g := a.Current(); g != nil {
			out = append(out, a.Handle+"\t"+g.Certificate.Title())
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// Templates completes a template's name.
func (s *Session) Templates(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return e.TemplateNames(), cobra.ShellCompDirectiveNoFileComp
}

// Receivers completes a receiver's name.
func (s *Session) Receivers(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return e.ReceiverNames(), cobra.ShellCompDirectiveNoFileComp
}

// TrustSets completes a trust set's name.
func (s *Session) TrustSets(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	return e.DataNames("set"), cobra.ShellCompDirectiveDefault
}

// Parties completes a party's name.
func (s *Session) Parties(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	list, err := parties.List(cmd.Context(), e)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, p := range list {
		names = append(names, p.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// PartyFlag adds the option that names a party.
func (s *Session) PartyFlag(c *cobra.Command, into *string, words string) {
	c.Flags().StringVar(into, "party", "", words)
	Register(c, "party", s.Parties)
}

// Requests completes a request that waits.
func (s *Session) Requests(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	state := lifecycle.AnyRequest
	if cmd.Name() != "show" {
		state = lifecycle.Waiting
	}
	list, err := e.Requests(cmd.Context(), state)
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	var out []string
	for _, r := range list {
		out = append(out, fmt.Sprintf("R%d\t%s", r.Number, r.Title))
	}
	return out, cobra.ShellCompDirectiveDefault
}

// Certificates completes what a certificate is called.
func (s *Session) Certificates(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	out, _ := s.Handles(cmd, args, word)
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	list, err := e.Certificates(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for _, h := range list {
		for _, n := range h.Names {
			out = append(out, n.Value()+"\t"+h.Serial.Short())
		}
		out = append(out, h.Serial.Short()+"\t"+h.Title())
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// CompleteHandles lets an option complete handles.
func (s *Session) CompleteHandles(c *cobra.Command, flag string) { Register(c, flag, s.Handles) }

// CompleteTemplates lets an option complete templates.
func (s *Session) CompleteTemplates(c *cobra.Command, flag string) { Register(c, flag, s.Templates) }

// CompleteWords lets an option complete fixed words.
func CompleteWords(c *cobra.Command, flag string, words ...string) {
	Register(c, flag, func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return words, cobra.ShellCompDirectiveNoFileComp
	})
}

// Register lets an option complete what a function finds.
func Register(c *cobra.Command, flag string, f completer) {
	if err := c.RegisterFlagCompletionFunc(flag, f); err != nil {
		panic(err) // a flag that the command lacks: a fault in the program that its first test finds
	}
}

// StdinIsTerminal reports whether a person types into standard input.
func (s *Session) StdinIsTerminal() bool {
	f, ok := s.Stdin.(*os.File)
	return ok && xterm.IsTerminal(int(f.Fd()))
}
