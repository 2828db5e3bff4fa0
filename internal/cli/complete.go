package cli

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	xterm "golang.org/x/term"

	"ironseal/internal/disk"
	"ironseal/internal/records"
	"ironseal/pki/finding"
	"ironseal/pki/template"
)

// Completion asks the estate's own records. It stays silent when there is no
// estate: a shell has no place for errors.

type completer = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

func (s *Session) handles(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	e, err := s.estate(cmd.Context())
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

func (s *Session) templates(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	e, err := s.estate(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return e.TemplateNames(), cobra.ShellCompDirectiveNoFileComp
}

func (s *Session) receivers(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	e, err := s.estate(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return e.ReceiverNames(), cobra.ShellCompDirectiveNoFileComp
}

func (s *Session) requests(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	e, err := s.estate(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	state := ""
	if cmd.Name() != "show" {
		state = records.Waiting
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

func (s *Session) certificates(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	out, _ := s.handles(cmd, args, word)
	e, err := s.estate(cmd.Context())
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

func (s *Session) completeHandles(c *cobra.Command, flag string)   { register(c, flag, s.handles) }
func (s *Session) completeTemplates(c *cobra.Command, flag string) { register(c, flag, s.templates) }

func completeWords(c *cobra.Command, flag string, words ...string) {
	register(c, flag, func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return words, cobra.ShellCompDirectiveNoFileComp
	})
}

func register(c *cobra.Command, flag string, f completer) {
	if err := c.RegisterFlagCompletionFunc(flag, f); err != nil {
		panic(err) // a flag that the command lacks: a fault in the program that its first test finds
	}
}

func (s *Session) stdinIsTerminal() bool {
	f, ok := s.Stdin.(*os.File)
	return ok && xterm.IsTerminal(int(f.Fd()))
}

// referenceCommand writes the pages that are generated from the code.
func (s *Session) referenceCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "reference DIR",
		Short:  "Write the reference pages from the program itself",
		Hidden: true,
		Args:   exactly(1, "the directory to write to"),
		RunE: func(cmd *cobra.Command, args []string) error {
			for name, text := range map[string]string{"findings.md": finding.Reference(),
				"templates.md": template.Reference(), "commands.md": commandReference(cmd.Root())} {
				if err := (disk.Disk{}).Replace(filepath.Join(args[0], name), []byte(text), 0o644); err != nil {
					return err
				}
			}
			return nil
		},
	}
}
