package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ironseal/internal/api"
	"ironseal/internal/cli/serve"
	"ironseal/internal/cli/session"
	"ironseal/internal/cli/spell"
	"ironseal/internal/disk"
	"ironseal/internal/term"
	"ironseal/pki/kit"
	"ironseal/pki/lifecycle"
	"ironseal/pki/receiver"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// commandReference writes docs/commands.md from the commands themselves.
func commandReference(root *cobra.Command) string {
	var b strings.Builder
	b.WriteString("# Commands\n\nThe program writes this page. Do not edit it.\n\n")
	b.WriteString("Options of every command:\n\n")
	writeFlags(&b, root.PersistentFlags())
	b.WriteString("\nExit status:\n\n| status | meaning |\n|---|---|\n")
	for _, s := range statuses {
		fmt.Fprintf(&b, "| %s | %s |\n", s[0], s[1])
	}
	writeCommands(&b, root)
	return b.String()
}

func writeCommands(b *strings.Builder, parent *cobra.Command) {
	for _, c := range parent.Commands() {
		if c.Hidden || c.Name() == "help" {
			continue
		}
		if c.HasSubCommands() {
			writeCommands(b, c)
			continue
		}
		fmt.Fprintf(b, "\n## %s\n\n", c.UseLine())
		text := c.Long
		if text == "" {
			text = c.Short + "."
		}
		b.WriteString(text + "\n")
		if c.LocalFlags().HasFlags() {
			b.WriteString("\n")
			writeFlags(b, c.LocalFlags())
		}
		if c.Example != "" {
			fmt.Fprintf(b, "\n```\n%s\n```\n", c.Example)
		}
	}
}

func writeFlags(b *strings.Builder, flags *pflag.FlagSet) {
	b.WriteString("| option | meaning |\n|---|---|\n")
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" || f.Name == "version" {
			return
		}
		name, text := option(f)
		fmt.Fprintf(b, "| `%s` | %s |\n", name, text)
	})
}

// referenceCommand writes the pages that are generated from the code.
func referenceCommand(s *session.Session) *cobra.Command {
	var man bool
	c := &cobra.Command{
		Use:   "reference DIR",
		Short: "Write the reference pages or the manual pages",
		Long: `Write the pages on commands, findings, states, templates, receivers, platforms, serving and JSON into a
directory.
With --man, write a manual page for each command.`,
		Example: "  ironseal reference ../pages\n  ironseal reference --man ../man1",
		Args:    session.Exactly(1, "the directory to write to"),
		RunE: func(cmd *cobra.Command, args []string) error {
			pages := map[string]string{"findings.md": spell.Findings(), "states.md": lifecycle.Reference(),
				"templates.md": template.Reference(),
				"receivers.md": receiver.Reference(), "platforms.md": kit.Reference(), "json.md": api.Reference(),
				"serving.md":  serve.Reference(),
				"commands.md": commandReference(cmd.Root())}
			if man {
				pages = manuals(cmd.Root())
			}
			dir := s.Path(args[0])
			if err := disk.Dir(dir); err != nil {
				return err
			}
			for name, text := range pages {
				if err := (disk.Disk{}).Replace(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
					return err
				}
			}
			s.Out.Say("%s %s in %s", s.Out.Paint(term.Good, "✓ wrote"), span.Count(len(pages), "page"), term.Safe(dir))
			return nil
		},
	}
	c.Flags().BoolVar(&man, "man", false, "manual pages in place of the reference")
	return session.Reading(c)
}
