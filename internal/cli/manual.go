package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// manuals are manual pages of every command, by file name, in the language of the
// man macros.
func manuals(root *cobra.Command) map[string]string {
	pages := map[string]string{}
	var visit func(c *cobra.Command)
	visit = func(c *cobra.Command) {
		if c.Hidden || c.Name() == "help" {
			return
		}
		pages[strings.ReplaceAll(c.CommandPath(), " ", "-")+".1"] = manual(c)
		for _, sub := range c.Commands() {
			visit(sub)
		}
	}
	visit(root)
	return pages
}

func manual(c *cobra.Command) string {
	var b strings.Builder
	name := strings.ReplaceAll(c.CommandPath(), " ", "-")
	fmt.Fprintf(&b, ".TH %s 1 \"\" \"Iron Seal\" \"Iron Seal\"\n.SH NAME\n%s \\- %s\n", roff(strings.ToUpper(name)),
		roff(name), roff(c.Short))
	line := strings.TrimSuffix(c.UseLine(), " [flags]")
	if c.HasAvailableSubCommands() {
		line = c.CommandPath() + " COMMAND"
	}
	fmt.Fprintf(&b, ".SH SYNOPSIS\n.B %s\n", roff(line))
	if c.Long != "" {
		b.WriteString(".SH DESCRIPTION\n")
		for _, paragraph := range strings.Split(c.Long, "\n\n") {
			fmt.Fprintf(&b, ".PP\n%s\n", roff(paragraph))
		}
	}
	if c.HasAvailableSubCommands() {
		b.WriteString(".SH COMMANDS\n")
		for _, sub := range c.Commands() {
			if !sub.Hidden && sub.Name() != "help" {
				item(&b, sub.Name(), sub.Short)
			}
		}
	}
	manualOptions(&b, "OPTIONS", c.LocalNonPersistentFlags())
	manualOptions(&b, "OPTIONS OF EVERY COMMAND", c.Root().PersistentFlags())
	if c.Example != "" {
		fmt.Fprintf(&b, ".SH EXAMPLES\n.nf\n%s\n.fi\n", roff(c.Example))
	}
	b.WriteString(".SH EXIT STATUS\n")
	for _, s := range statuses {
		item(&b, s[0], s[1])
	}
	b.WriteString(".SH ENVIRONMENT\n")
	for _, e := range environment {
		item(&b, e[0], e[1])
	}
	return b.String()
}

func manualOptions(b *strings.Builder, title string, flags *pflag.FlagSet) {
	if !flags.HasAvailableFlags() {
		return
	}
	fmt.Fprintf(b, ".SH %s\n", title)
	flags.VisitAll(func(f *pflag.Flag) {
		if !f.Hidden && f.Name != "help" && f.Name != "version" {
			name, text := option(f)
			item(b, name, text)
		}
	})
}

func item(b *strings.Builder, name, text string) {
	fmt.Fprintf(b, ".TP\n.B %s\n%s\n", roff(name), roff(text))
}

// roff keeps text from being taken for requests.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			lines[i] = `\&` + l
		}
	}
	return strings.Join(lines, "\n")
}
