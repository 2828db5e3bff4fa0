// Package cli is the command line: one file a noun.
//
// A command parses what a person typed, calls the estate, and prints what comes
// back. It decides nothing about certificates. Everything it needs from outside
// (clock, randomness, terminal, environment) is in App, so that a test or the
// demo runs commands exactly as a person does.
package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"

	"github.com/spf13/cobra"

	"ironseal/internal/act/overview"
	"ironseal/internal/custody"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/runes"
)

// Exit statuses.
const (
	Done    = 0
	Failed  = 1
	Usage   = 2
	Refused = 3 // by findings, or declined at the sheet
	No      = 4 // the answer is no: not valid, not trusted, journal broken

	Attention = 5 // with --alarm: done, and something needs attention soon
)

// App is the outside world of the commands.
type App struct {
	Stdin   io.Reader
	Stdout  io.Writer
	Stderr  io.Writer
	Console term.Console
	Now     func() time.Time
	Random  io.Reader
	Disk    disk.Disk
	Actor   string
	Env     func(string) string
	Version string
	Step    func(string) error
}

// Session is one run of the program.
type Session struct {
	App
	out, errs *term.Screen

	estateDir  string
	json       bool
	yes        bool
	quiet      bool
	colour     string
	asOf       string
	passFiles  []string
	started    bool
	acting     bool // the command changes records
	bannered   bool // it was said that this is a rehearsal
	openEstate *estate.Estate
}

// status is an error with an exit status of its own. A nil err prints nothing:
// the command has said all there is to say.
type status struct {
	code int
	err  error
}

func (s *status) Error() string {
	if s.err == nil {
		return ""
	}
	return s.err.Error()
}

func (s *status) Unwrap() error { return s.err }

func usage(format string, args ...any) error { return &status{Usage, fmt.Errorf(format, args...)} }

// Run runs one command line and returns its exit status.
func Run(ctx context.Context, a App, args []string) int {
	s := &Session{App: a}
	if s.Env == nil {
		s.Env = os.Getenv
	}
	root := s.root()
	root.SetArgs(args)
	root.SetIn(a.Stdin)
	root.SetOut(a.Stdout)
	root.SetErr(a.Stderr)
	s.screens()
	err := root.ExecuteContext(ctx)
	if s.openEstate != nil {
		err = errors.Join(err, s.openEstate.Close())
	}
	return s.finish(err)
}

// screens makes the screens anew once the flags are known.
func (s *Session) screens() {
	s.out = term.NewScreen(s.Stdout, term.When(s.colour), s.Env("NO_COLOR"))
	s.errs = term.NewScreen(s.Stderr, term.When(s.colour), s.Env("NO_COLOR"))
}

func (s *Session) finish(err error) int {
	if err == nil {
		return Done
	}
	code := Failed
	var st *status
	var refused *issue.Refused
	switch {
	case errors.As(err, &st):
		code = st.code
	case errors.As(err, &refused):
		code = Refused
	case !s.started:
		code = Usage
	}
	if text := err.Error(); text != "" {
		head := "ironseal:"
		for _, line := range strings.Split(text, "\n") {
			s.errs.Hung(head, term.Bad, runes.Escape(line))
			head = "         "
		}
	}
	return code
}

func (s *Session) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "ironseal",
		Short: "Run a private certificate authority: take in requests, check them, sign them, hand them out",
		Long: `Iron Seal runs a private certificate authority hierarchy.

It takes in signing requests in whatever shape they arrive, says in words what
is in them, shows what will be signed beside what was asked, signs by template,
and hands the result out in the right order and encoding.

Begin with:  ironseal estate create harbour     (or watch: ironseal demo)`,
		Version:       s.Version,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			s.started, s.acting = true, cmd.Annotations[reads] == ""
			if s.colour != "auto" && s.colour != "always" && s.colour != "never" {
				return usage("--color %q: use auto, always or never", s.colour)
			}
			s.screens()
			return s.applyAsOf(cmd.Context(), cmd)
		},
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return unknownCommand(cmd, args[0])
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.SetVersionTemplate("ironseal {{.Version}}\n")
	root.SetHelpCommand(helpCommand())
	root.SetHelpFunc(func(c *cobra.Command, args []string) { s.help(c, args) })
	root.SetFlagErrorFunc(unknownOption)
	f := root.PersistentFlags()
	f.StringVar(&s.estateDir, "estate", "", "the estate `DIR` (else IRONSEAL_ESTATE, else the nearest above)")
	f.BoolVar(&s.json, "json", false, "print JSON")
	f.BoolVar(&s.yes, "yes", false, "answer yes to questions; never passes a stop")
	f.StringArrayVar(&s.passFiles, "passphrase-file", nil, "read passphrases from `[HANDLE=]FILE`; may be repeated")
	f.StringVar(&s.colour, "color", "auto", "auto, always or never")
	f.StringVar(&s.asOf, "as-of", "", "look at things as of `TIME` (2030-01-31, or with T12:00:00Z); acts only in a "+
		"rehearsal")
	root.AddCommand(s.estateCommand(), s.authorityCommand(), s.templateCommand(), s.requestCommand(), s.signCommand(),
		s.certificateCommand(), s.convertCommand(), s.readCommand(), s.verifyCommand(), s.forecastCommand(),
		s.dueCommand(), s.courierCommand(), s.changeoverCommand(), s.journalCommand(), s.demoCommand(),
		s.versionCommand(), s.referenceCommand())
	return root
}

// helpCommand shows a command's help; asking for one that is not there is wrong usage.
func helpCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND]",
		Short: "Help about any command",
		RunE: func(c *cobra.Command, args []string) error {
			found, rest, err := c.Root().Find(args)
			if err != nil || len(rest) > 0 {
				return unknownCommand(found, strings.Join(rest, " "))
			}
			found.InitDefaultHelpFlag()
			return found.Help()
		},
	}
}

// versionCommand tells which build this is.
func (s *Session) versionCommand() *cobra.Command {
	return reading(&cobra.Command{Use: "version", Short: "Which build this is", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if s.json {
				return s.printJSON(map[string]string{"version": s.Version})
			}
			s.out.Say("ironseal %s", s.Version)
			return nil
		}})
}

// reads marks a command that changes nothing, on which --as-of works.
const reads = "reads"

func reading(c *cobra.Command) *cobra.Command {
	c.Annotations = map[string]string{reads: "yes"}
	return c
}

// applyAsOf moves the clock: for commands that read, anywhere; for acts, only in a
// rehearsal.
func (s *Session) applyAsOf(ctx context.Context, cmd *cobra.Command) error {
	if s.asOf == "" {
		return nil
	}
	t, err := parseTime(s.asOf)
	if err != nil {
		return &status{Usage, err}
	}
	s.Now = func() time.Time { return t }
	if cmd.Annotations[reads] != "" {
		return nil
	}
	e, err := s.estate(ctx)
	if err != nil {
		return err
	}
	if !e.Rehearsal {
		return usage("--as-of moves the clock only for commands that read, and in rehearsals; %s changes the "+
			"records: practise with: ironseal estate rehearse DIR", cmd.CommandPath())
	}
	return nil
}

func parseTime(text string) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04",
		"2006-01-02"} {
		if t, err := time.ParseInLocation(layout, strings.TrimSpace(text), time.UTC); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time: write 2030-01-31 or 2030-01-31T12:00:00Z", text)
}

func (s *Session) now() time.Time {
	if s.Now == nil {
		return time.Now().UTC()
	}
	return s.Now().UTC()
}

// random is the source of randomness.
func (s *Session) random() io.Reader {
	if s.Random == nil {
		return rand.Reader
	}
	return s.Random
}

// world hands the estate what it needs from outside.
func (s *Session) world() estate.World {
	return estate.World{Now: s.Now, Random: s.Random, Disk: s.Disk, Actor: s.Actor, Pass: (*passphrases)(s),
		Progress: s.progress, Step: s.Step}
}

func (s *Session) progress(what string) func() {
	if s.json {
		return func() {}
	}
	return s.errs.Progress(what)
}

// estate opens the estate that the person means.
func (s *Session) estate(ctx context.Context) (*estate.Estate, error) {
	if s.openEstate != nil {
		return s.openEstate, nil
	}
	dir := s.estateDir
	if dir == "" {
		dir = s.Env("IRONSEAL_ESTATE")
	}
	found, err := estate.Find(s.path(dir), ".")
	if err != nil {
		return nil, err
	}
	if s.openEstate, err = estate.Open(ctx, found, s.world()); err != nil {
		return nil, err
	}
	if s.acting {
		if err := s.openEstate.ReadOnly(); err != nil {
			return nil, err
		}
	}
	if s.openEstate.Rehearsal && !s.bannered {
		s.bannered = true
		s.errs.Say("%s", s.errs.Paint(term.Careful,
			fmt.Sprintf("REHEARSAL of %s: throwaway keys; the clock says %s",
				term.Safe(s.openEstate.Settings.Organisation.Name), s.now().Format("2006-01-02"))))
	}
	return s.openEstate, nil
}

// path drops blanks around a typed path, and says so.
func (s *Session) path(typed string) string {
	clean := strings.TrimFunc(typed, unicode.IsSpace)
	if clean != typed {
		s.errs.Say("(blanks around %q were dropped)", clean)
	}
	return clean
}

// passphrases answers custody's questions: from files, else at the terminal.
type passphrases Session

// Passphrase implements custody.Passphrases.
func (p *passphrases) Passphrase(ctx context.Context, q custody.Question) ([]byte, bool, error) {
	if file := p.fileFor(q.Handle); file != "" {
		secret, err := custody.ReadPassphraseFile(file)
		return secret, true, err
	}
	prompt := fmt.Sprintf("Passphrase of %s, %s: ", q.Handle, q.Purpose)
	switch {
	case q.New:
		return p.choose(ctx, q.Handle)
	case q.Again:
		prompt = "That does not open it. " + prompt
	}
	secret, err := p.Console.Secret(ctx, prompt)
	if errors.Is(err, term.ErrNoTerminal) {
		err = fmt.Errorf("%w: give it in a file: --passphrase-file FILE", err)
	}
	return custody.Canonical(secret), false, err
}

func (p *passphrases) fileFor(handle string) string {
	general := p.Env("IRONSEAL_PASSPHRASE_FILE")
	found := false
	if authority, number, ok := strings.Cut(handle, ".g"); ok && strings.Trim(number, "0123456789") == "" {
		handle = authority // one file serves all generations
	}
	for _, f := range p.passFiles {
		h, file, named := strings.Cut(f, "=")
		switch {
		case named && h == handle:
			return strings.TrimSpace(file)
		case !named && !found:
			general, found = strings.TrimSpace(f), true
		}
	}
	return general
}

func (p *passphrases) choose(ctx context.Context, handle string) ([]byte, bool, error) {
	for {
		first, err := p.Console.Secret(ctx, fmt.Sprintf("Choose a passphrase for %s: ", handle))
		if errors.Is(err, term.ErrNoTerminal) {
			err = fmt.Errorf("%w: give it in a file: --passphrase-file FILE", err)
		}
		if err != nil {
			return nil, false, err
		}
		if len(custody.Canonical(first)) == 0 {
			p.errs.Say("An empty passphrase protects nothing. Choose one.")
			continue
		}
		second, err := p.Console.Secret(ctx, "Once more: ")
		if err != nil {
			return nil, false, err
		}
		if bytes.Equal(first, second) {
			clear(second)
			return custody.Canonical(first), false, nil
		}
		p.errs.Say("The two differ. Choose again.")
	}
}

// agree asks a question that must be answered with yes.
func (s *Session) agree(ctx context.Context, question string) error {
	if s.yes {
		return nil
	}
	answer, err := s.Console.Line(ctx, question+" [yes/no] ")
	switch {
	case errors.Is(err, term.ErrNoTerminal):
		return usage("%w: answer beforehand with --yes", err)
	case err != nil:
		return fmt.Errorf("stopped; nothing was changed: %w", err)
	case strings.EqualFold(answer, "yes") || strings.EqualFold(answer, "y"):
		return nil
	}
	return &status{Refused, errDeclined}
}

var errDeclined = errors.New("declined; nothing was changed")

// printJSON prints a value as JSON. Characters that could mislead on a terminal
// are written as escapes, which JSON allows anywhere in a text.
func (s *Session) printJSON(v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return s.out.Raw([]byte(runes.JSON(string(data)) + "\n"))
}

// exactly and atLeast are Args functions whose errors name what is missing.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != n {
			return usage("%s needs %s: see %s --help", cmd.CommandPath(), what, cmd.CommandPath())
		}
		return nil
	}
}

func atLeast(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < n {
			return usage("%s needs %s: see %s --help", cmd.CommandPath(), what, cmd.CommandPath())
		}
		return nil
	}
}

// group makes a command that only holds others.
func group(use, short string, sub ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return unknownCommand(cmd, args[0])
		}
		return nil
	}, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(sub...)
	return c
}

// stdin reads standard input, bounded.
func (s *Session) stdin() ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(s.Stdin, bundle.MostBytes+1))
	if err != nil {
		return nil, fmt.Errorf("standard input: %w", err)
	}
	return data, nil
}

// waivers pairs --waive with --because.
func waivers(codes []string, because string) ([]finding.Waiver, error) {
	if len(codes) == 0 {
		if because != "" {
			return nil, usage("--because says why a finding is waived: name it with --waive CODE")
		}
		return nil, nil
	}
	if strings.TrimSpace(because) == "" {
		return nil, usage("--waive needs a reason: add --because TEXT")
	}
	var out []finding.Waiver
	for _, c := range codes {
		w := finding.Waiver{Because: because}
		if r, code, ok := strings.Cut(c, ":"); ok {
			n, err := estate.ParseNumber(r)
			if err != nil {
				return nil, &status{Usage, err}
			}
			w.Request, c = n, code
		}
		w.Code = finding.Code(strings.TrimSpace(c))
		if _, ok := finding.Lookup(w.Code); !ok {
			return nil, usage("--waive %s: there is no finding of this code: docs/findings.md lists them", w.Code)
		}
		out = append(out, w)
	}
	return out, nil
}

// tidy removes what acts that were cut off left behind in a directory that this one
// is about to write to, and says so: there may have been a private key in it.
func (s *Session) tidy(dir string) {
	removed, err := disk.Sweep(dir)
	for _, r := range removed {
		s.errs.Say("(left behind by an act that was cut off, and removed: %s)", term.Safe(r))
	}
	if err != nil {
		s.errs.Say("(%s)", term.Safe(err.Error()))
	}
}

// next prints the next step.
func (s *Session) next(list ...overview.Advice) {
	for i, a := range list {
		if i == 0 {
			s.out.Gap()
		}
		s.out.Say("%s  %s", s.out.Paint(term.Quiet, "next: "+a.Why+":"), s.out.Paint(term.Accent, a.Command))
	}
}
