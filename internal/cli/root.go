// Package cli is the command line. Each noun has a package of its own, which adds its
// commands; here they are put together, with the help and the exit statuses.
//
// A command parses what a person typed, calls an act, and prints the outcome. It
// decides nothing about certificates. Everything it needs from outside (clock,
// randomness, terminal, environment) is in an App, so that a test or the demo runs
// commands exactly as a person does.
package cli

import (
	"context"
	"errors"
	"io"
	"maps"
	"os"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ironseal/internal/cli/authority"
	"ironseal/internal/cli/certificate"
	"ironseal/internal/cli/changeover"
	"ironseal/internal/cli/files"
	"ironseal/internal/cli/incident"
	"ironseal/internal/cli/operator"
	"ironseal/internal/cli/party"
	"ironseal/internal/cli/probing"
	"ironseal/internal/cli/proposal"
	"ironseal/internal/cli/receiver"
	"ironseal/internal/cli/request"
	"ironseal/internal/cli/revocation"
	"ironseal/internal/cli/serve"
	"ironseal/internal/cli/session"
	"ironseal/internal/cli/sign"
	"ironseal/internal/cli/template"
	"ironseal/internal/cli/transfer"
	"ironseal/internal/cli/trust"
	"ironseal/internal/cli/upkeep"
	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/issue"
	"ironseal/pki/runes"
)

// Run runs one command line and returns its exit status.
func Run(ctx context.Context, a session.App, args []string) int {
	s := &session.Session{App: a}
	if s.Env == nil {
		s.Env = os.Getenv
	}
	return finish(s, run(ctx, s, args))
}

func run(ctx context.Context, s *session.Session, args []string) error {
	s.Rerun = func(ctx context.Context, args []string, under *session.Under) error {
		return rerun(ctx, s, args, under)
	}
	root := root(s, strings.Join(args[:min(1, len(args))], ""))
	ctx = session.WithAll(ctx, func() { addCommands(s, root, "") })
	root.SetArgs(args)
	root.SetIn(s.Stdin)
	root.SetOut(s.Stdout)
	root.SetErr(s.Stderr)
	s.Screens()
	err := root.ExecuteContext(ctx)
	if s.Opened != nil {
		err = errors.Join(err, s.Opened.Close())
	}
	return err
}

// rerun runs the command of a proposal, at this machine and for this person.
func rerun(ctx context.Context, s *session.Session, args []string, under *session.Under) error {
	again := &session.Session{App: s.App, Under: under, Started: true}
	own := []string{"--color=" + s.Colour}
	if s.EstateDir != "" {
		own = append(own, "--estate="+s.EstateDir)
	}
	for option, on := range map[string]bool{"--json": s.JSON, "--yes": s.Yes} {
		if on {
			own = append(own, option)
		}
	}
	for option, values := range map[string][]string{"--passphrase-file=": s.PassFiles, "--share-file=": s.ShareFiles,
		"--share-key=": s.ShareKeys,
		"--agent=":     {s.Agent}, "--operator-key=": {s.KeyFile}} {
		for _, v := range values {
			if v != "" {
				own = append(own, option+v)
			}
		}
	}
	return run(ctx, again, append(own, args...))
}

func finish(s *session.Session, err error) int {
	if err == nil {
		return session.Done
	}
	code := session.Failed
	var st *session.Status
	var refused *issue.Refused
	switch {
	case errors.As(err, &st):
		code = st.Code
	case errors.As(err, &refused):
		code = session.Refused
	case !s.Started:
		code = session.Usage
	}
	report(s, err)
	return code
}

// report prints what failed, and below each failure what to do next.
func report(s *session.Session, err error) {
	all := apart(err)
	head, arrow := "ironseal:", "→ "
	if len(all) > 1 { // what follows is another failure
		arrow = "  → "
	}
	say := func(line string) {
		s.Errs.Hung(head, term.Bad, runes.Escape(line))
		head = "         "
	}
	for _, one := range all {
		if text := one.Error(); text != "" {
			for _, line := range strings.Split(text, "\n") {
				say(line)
			}
		}
		for _, step := range fault.NextOf(one) {
			say(arrow + s.Speller().Step(step))
		}
	}
}

// apart takes failures that were joined apart.
func apart(err error) []error {
	if st, ok := err.(*session.Status); ok && st.Err != nil {
		return apart(st.Err)
	}
	list, ok := err.(interface{ Unwrap() []error })
	if !ok || reflect.TypeOf(err) != joined {
		return []error{err}
	}
	var out []error
	for _, one := range list.Unwrap() {
		out = append(out, apart(one)...)
	}
	return out
}

// joined is the type of failures that errors.Join joined; one message may wrap several causes as well.
var joined = reflect.TypeOf(errors.Join(errors.New("")))

// root makes the command line. Where first is the name of a command, only that one is made: to make all of them takes
// a good part of the time of a short command.
func root(s *session.Session, first string) *cobra.Command {
	cobra.MousetrapHelpText = `Iron Seal is a command-line program. Open PowerShell or the Command Prompt, and type:
  ironseal --help

Press Enter to close this window.
`
	cobra.MousetrapDisplayDuration = 0 // until Enter is pressed
	root := &cobra.Command{
		Use:   "ironseal",
		Short: "Run a private certificate authority: receive requests, check, sign, hand over, renew, revoke",
		Long: `Iron Seal runs a private certificate authority hierarchy.

It reads signing requests in any form and describes them. It compares what was asked with
what will be signed, and signs by template. It writes the result in the form that each device
accepts. It renews the authorities in time, brings their roots onto machines, and revokes what
is lost.

Begin with:  ironseal estate create harbour     (or watch: ironseal demo)`,
		Version:       s.Version,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(cmd *cobra.Command, args []string) error {
			s.Started, s.Acting = true, cmd.Annotations[session.Reads] == ""
			s.Running(cmd, args)
			if s.Colour != "auto" && s.Colour != "always" && s.Colour != "never" {
				return session.Misused("--color %q: use auto, always or never", s.Colour)
			}
			s.Screens()
			return applyAsOf(cmd.Context(), s, cmd)
		},
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return session.UnknownCommand(cmd, args[0])
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.SetVersionTemplate("ironseal {{.Version}}\n")
	root.CompletionOptions.DisableDefaultCmd = true
	root.SetHelpCommand(helpCommand())
	root.SetHelpFunc(func(c *cobra.Command, args []string) { help(s, c, args) })
	root.SetFlagErrorFunc(unknownOption)
	root.SetGlobalNormalizationFunc(today)
	everywhere(s, root.PersistentFlags())
	addCommands(s, root, first)
	return root
}

// command makes one command.
type command struct {
	name string
	make func(*session.Session) *cobra.Command
}

// topLevel are those below the name of the program.
func topLevel() []command {
	return []command{
		{"estate", upkeep.Estate}, {"authority", authority.Command}, {"template", template.Command},
		{"receiver", receiver.Command}, {"request", request.Command}, {"sign", sign.Command},
		{"certificate", certificate.Command}, {"convert", files.Convert}, {"read", files.Read},
		{"verify", files.Verify},
		{"probe", probing.Command}, {"party", party.Command}, {"forecast", upkeep.Forecast}, {"due", upkeep.Due},
		{"transfer", transfer.Command}, {"changeover", changeover.Command}, {"revoke", revocation.Revoke},
		{"unhold", revocation.Unhold}, {"revocations", revocation.Command}, {"incident", incident.Command},
		{"trust", trust.Command}, {"journal", upkeep.Journal}, {"serve", serve.Command}, {"desk", serve.Desk},
		{"enrol", serve.Enrol}, {"operator", operator.Command}, {"proposal", proposal.Command},
		{"approve", proposal.Approve}, {"object", proposal.Object}, {"demo", demoCommand},
		{"completion", completionCommand}, {"version", versionCommand}, {"reference", referenceCommand},
	}
}

// aboutAll are commands that tell of all others.
var aboutAll = []string{"completion", "reference"}

// addCommands adds the commands that are not there yet: the one of a name, or all.
func addCommands(s *session.Session, root *cobra.Command, only string) {
	named := slices.ContainsFunc(topLevel(), func(c command) bool { return c.name == only })
	if !named || slices.Contains(aboutAll, only) {
		only = ""
	}
	for _, c := range topLevel() {
		there := slices.ContainsFunc(root.Commands(), func(o *cobra.Command) bool { return o.Name() == c.name })
		if !there && (only == "" || only == c.name) {
			root.AddCommand(c.make(s))
		}
	}
}

// everywhere adds the options of every command.
func everywhere(s *session.Session, f *pflag.FlagSet) {
	f.StringVar(&s.EstateDir, "estate", "", "the estate `DIR` (else IRONSEAL_ESTATE, else the nearest above)")
	f.BoolVar(&s.JSON, "json", false, "print JSON")
	f.BoolVar(&s.Yes, "yes", false, "answer yes to questions; passes no finding that needs a waiver")
	f.StringArrayVar(&s.PassFiles, "passphrase-file", nil, "read passphrases from `[HANDLE=]FILE`; may be repeated")
	f.StringArrayVar(&s.ShareFiles, "share-file", nil, "read a custodian's share from `FILE`; may be repeated")
	f.StringArrayVar(&s.ShareKeys, "share-key", nil,
		"open a share that is sealed to an SSH key with the private key in `FILE`; may be repeated")
	f.StringVar(&s.Agent, "agent", "", "the `SOCKET` of an SSH agent (else SSH_AUTH_SOCK)")
	f.StringVar(&s.KeyFile, "operator-key", "", "the `FILE` of an operator's SSH key (else IRONSEAL_OPERATOR_KEY, "+
		"else the "+
		"agent)")
	f.StringVar(&s.Colour, "color", "auto", "auto, always or never")
	f.StringVar(&s.AsOf, "as-of", "", "look at things as of `TIME` (2030-01-31, or with T12:00:00Z); acts only in a "+
		"rehearsal")
}

// earlier are options as earlier versions called them: scripts may hold them.
var earlier = map[string]string{"seal": "encrypt", "seal-with": "encrypt-with"}

func today(_ *pflag.FlagSet, name string) pflag.NormalizedName {
	if now, ok := earlier[name]; ok {
		name = now
	}
	return pflag.NormalizedName(name)
}

// helpCommand shows a command's help; asking for one that is not there is wrong usage.
func helpCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "help [COMMAND]",
		Short:   "Show what a command does, and its options",
		Example: "  ironseal help sign\n  ironseal help certificate handover",
		RunE: func(c *cobra.Command, args []string) error {
			found, rest, err := c.Root().Find(args)
			if err != nil || len(rest) > 0 {
				return session.UnknownCommand(found, strings.Join(rest, " "))
			}
			found.InitDefaultHelpFlag()
			return found.Help()
		},
	}
}

// shells are the shells whose completion scripts the command library writes.
var shells = sync.OnceValue(func() map[string]func(*cobra.Command, io.Writer) error {
	return map[string]func(*cobra.Command, io.Writer) error{
		"bash":       func(c *cobra.Command, w io.Writer) error { return c.GenBashCompletionV2(w, true) },
		"zsh":        (*cobra.Command).GenZshCompletion,
		"fish":       func(c *cobra.Command, w io.Writer) error { return c.GenFishCompletion(w, true) },
		"powershell": (*cobra.Command).GenPowerShellCompletionWithDesc,
	}
})

// completionCommand prints the script by which a shell completes names on Tab.
func completionCommand(s *session.Session) *cobra.Command {
	names := slices.Sorted(maps.Keys(shells()))
	return session.Reading(&cobra.Command{
		Use:   "completion SHELL",
		Short: "Print a script that completes commands and names on Tab",
		Long: `Print a script for bash, zsh, fish or powershell. With it the shell completes commands, options,
handles, templates, requests and certificates when you press Tab.`,
		Example:   "  ironseal completion bash > ironseal.bash",
		ValidArgs: names,
		Args:      session.Exactly(1, "a shell: bash, zsh, fish or powershell"),
		RunE: func(c *cobra.Command, args []string) error {
			write, known := shells()[args[0]]
			if !known {
				return session.Misused("completion %q: use %s", args[0], strings.Join(names, ", "))
			}
			return write(c.Root(), s.Stdout)
		},
	})
}

// versionCommand tells which build this is.
func versionCommand(s *session.Session) *cobra.Command {
	return session.Reading(&cobra.Command{Use: "version", Short: "Show the version",
		Example: "  ironseal version", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if s.JSON {
				return s.PrintJSON(map[string]string{"version": s.Version})
			}
			s.Out.Say("ironseal %s", s.Version)
			return nil
		}})
}

// applyAsOf moves the clock: for commands that read, anywhere; for acts, only in a
// rehearsal.
func applyAsOf(ctx context.Context, s *session.Session, cmd *cobra.Command) error {
	if s.AsOf == "" {
		return nil
	}
	t, err := session.ParseTime(s.AsOf)
	if err != nil {
		return &session.Status{Code: session.Usage, Err: err}
	}
	s.Now = func() time.Time { return t }
	if cmd.Annotations[session.Reads] != "" {
		return nil
	}
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	if !e.Rehearsal {
		return session.Misused("--as-of moves the clock only for commands that read, and in rehearsals; %s changes "+
			"the records",
			cmd.CommandPath()).Then(advice.To("practise", advice.RehearseEstate, "folder", "DIR"))
	}
	return nil
}
