// Package session is one run of the program: the options that every
// command has, the screens it prints on, the estate it has opened, and how it asks a
// person for consent, for a passphrase or for a file. Commands are built on it.
package session

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"

	"github.com/spf13/cobra"

	"ironseal/internal/cli/spell"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
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
	Shell   term.Shell // for which command lines are printed
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
	Out, Errs *term.Screen

	EstateDir string
	JSON      bool
	Yes       bool
	Quiet     bool
	Colour    string
	AsOf      string
	PassFiles []string

	ShareFiles []string // of custodians
	ShareKeys  []string // files of custodians' SSH private keys

	command   *cobra.Command // that runs
	arguments []string

	Under *Under // the proposal that the command runs for; nil for none
	// Rerun runs a command line in this session's place, for a proposal.
	Rerun func(ctx context.Context, args []string, under *Under) error

	Agent   string // the socket of an SSH agent
	KeyFile string // an operator's private key
	Started bool
	Acting  bool // the command changes records

	Inspecting bool // the command finds out what is wrong with records that must not be used
	OwnFiles   bool // the command is about files that are not those on record

	bannered bool // it was said that this is a rehearsal
	Opened   *estate.Estate
}

// Status is an error with an exit status of its own. A nil err prints nothing:
// the command has said all there is to say.
type Status struct {
	Code int
	Err  error
}

func (s *Status) Error() string {
	if s.Err == nil {
		return ""
	}
	return s.Err.Error()
}

func (s *Status) Unwrap() error { return s.Err }

// Misused is an error in how a command was used.
func Misused(format string, args ...any) *Status { return &Status{Usage, fmt.Errorf(format, args...)} }

// Then adds what a person can do next.
func (s *Status) Then(steps ...advice.Step) *Status {
	return &Status{s.Code, fault.New(fault.BadInput, "%w", s.Err).Then(steps...)}
}

// Speller spells next steps for the shell that started the program.
func (s *Session) Speller() spell.Speller { return spell.Speller{Shell: s.Shell} }

// Screens makes the screens again once the flags are known.
func (s *Session) Screens() {
	s.Out = term.NewScreen(s.Stdout, term.When(s.Colour), s.Env("NO_COLOR"))
	s.Errs = term.NewScreen(s.Stderr, term.When(s.Colour), s.Env("NO_COLOR"))
	s.Out.Steps, s.Errs.Steps = s.Speller().List, s.Speller().List
}

// Reads marks a command that changes nothing, on which --as-of works.
const Reads = "reads"

// Reading marks a command that changes nothing, on which --as-of works.
func Reading(c *cobra.Command) *cobra.Command {
	c.Annotations = map[string]string{Reads: "yes"}
	return c
}

// ParseTime reads a day or a moment that was typed; a day begins at midnight UTC.
func ParseTime(text string) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04",
		"2006-01-02"} {
		if t, err := time.ParseInLocation(layout, strings.TrimSpace(text), time.UTC); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time: write 2030-01-31 or 2030-01-31T12:00:00Z", text)
}

// Moment is what the clock says, or --as-of.
func (s *Session) Moment() time.Time {
	if s.Now == nil {
		return time.Now().UTC()
	}
	return s.Now().UTC()
}

// Entropy is the source of randomness.
func (s *Session) Entropy() io.Reader {
	if s.Random == nil {
		return rand.Reader
	}
	return s.Random
}

// EstateEnv hands the estate what it needs from outside.
func (s *Session) EstateEnv() estate.Env {
	w := s.ownEnv()
	if s.Under != nil {
		w.PlannedAt = s.Under.Planned
		if !s.Under.Approving {
			w.Approved = &estate.Approval{Name: s.Under.Name, Planned: s.Under.Planned}
		}
	}
	return w
}

func (s *Session) ownEnv() estate.Env {
	return estate.Env{Now: s.Now, Random: s.Random, Disk: s.Disk, Actor: estate.Identity{Name: s.Actor,
		Known: estate.ByLogin}, Pass: (*Passphrases)(s),
		Operator: s.operatorKeys(), Agent: s.SSHAgent(),
		Progress: s.progress, Step: s.Step, Inspecting: s.Inspecting,
		Reading: !s.Acting && !s.Inspecting, Spell: s.Speller().Command}
}

func (s *Session) progress(what string) func() {
	if s.JSON {
		return func() {}
	}
	return s.Errs.Progress(what)
}

// Estate opens the estate that the person means.
func (s *Session) Estate(ctx context.Context) (*estate.Estate, error) {
	if s.Opened != nil {
		return s.Opened, nil
	}
	dir := s.EstateDir
	if dir == "" {
		dir = s.Env("IRONSEAL_ESTATE")
	}
	found, err := estate.Find(s.Path(dir), ".")
	if err != nil {
		return nil, err
	}
	if s.Opened, err = estate.Open(ctx, found, s.EstateEnv()); err != nil {
		return nil, err
	}
	if s.Acting {
		if err := s.Opened.ReadOnly(); err != nil {
			return nil, err
		}
		s.told(s.Opened.Tidy())
		if !s.Inspecting && !s.OwnFiles {
			if err := s.Opened.CheckFiles(ctx); err != nil {
				return nil, err
			}
		}
	}
	if s.Opened.Rehearsal && !s.bannered {
		s.bannered = true
		s.Errs.Say("%s", s.Errs.Paint(term.Careful,
			fmt.Sprintf("REHEARSAL of %s: throwaway keys; the clock says %s",
				term.Safe(s.Opened.Settings.Organisation.Name), s.Moment().Format("2006-01-02"))))
	}
	return s.Opened, nil
}

// EstateIfAny is Estate for commands that need none: nil where none was named and none is here. An
// estate that was named or is here and cannot be opened is an error: what it knows would be left out
// without a word.
func (s *Session) EstateIfAny(ctx context.Context) (*estate.Estate, error) {
	e, err := s.Estate(ctx)
	if errors.Is(err, estate.ErrNone) && s.EstateDir == "" && s.Env("IRONSEAL_ESTATE") == "" {
		return nil, nil
	}
	return e, err
}

// Found finds a certificate by what a person calls it, and says which was taken where
// several fit.
func (s *Session) Found(ctx context.Context, e *estate.Estate, name string) (estate.CertificateRecord, error) {
	h, note, err := e.FindCertificate(ctx, name)
	if err == nil && note != "" {
		s.Errs.Say("(%s)", term.Safe(note))
	}
	return h, err
}

// Path drops blanks around a typed path, and quotes, with which file managers copy one, and says so.
func (s *Session) Path(typed string) string {
	clean := strings.TrimFunc(typed, unicode.IsSpace)
	if clean != typed {
		s.Errs.Say("(blanks around %q were dropped)", clean)
	}
	if n := len(clean); n > 2 && clean[0] == '"' && clean[n-1] == '"' {
		if _, err := os.Lstat(clean); err != nil {
			clean = clean[1 : n-1]
			s.Errs.Say("(quotes around %s were dropped)", term.Safe(clean))
		}
	}
	return clean
}

// Passphrases answers custody's questions: from files, else at the terminal.
type Passphrases Session

// Passphrase implements keystore.Passphrases.
func (p *Passphrases) Passphrase(ctx context.Context, q keystore.Question) ([]byte, bool, error) {
	if q.Shares != nil && !q.New {
		secret, err := p.gathered(ctx, q)
		return secret, true, err
	}
	if file := p.fileFor(q.Handle); file != "" {
		secret, err := keystore.ReadPassphraseFile(file)
		if err == nil && q.New {
			p.weak(q.Handle, secret)
		}
		return secret, true, err
	}
	prompt := fmt.Sprintf("Passphrase of %s, %s: ", q.Handle, q.Purpose)
	switch {
	case q.New:
		return p.Choose(ctx, q.Handle)
	case q.Again:
		prompt = "Wrong passphrase for " + q.Handle + ". " + prompt
	}
	secret, err := p.Console.Secret(ctx, prompt)
	if errors.Is(err, term.ErrNoTerminal) {
		err = fmt.Errorf("%w: give it in a file: --passphrase-file FILE", err)
	}
	return keystore.Canonical(secret), false, err
}

// PassphraseAtHand reports whether the passphrase of an authority's keys is in a file that was named.
func (s *Session) PassphraseAtHand(handle string) bool {
	p := Passphrases{App: s.App, PassFiles: s.PassFiles}
	return p.fileFor(handle) != ""
}

func (p *Passphrases) fileFor(handle string) string {
	general := p.Env("IRONSEAL_PASSPHRASE_FILE")
	found := false
	if authority, number, ok := strings.Cut(handle, ".g"); ok && strings.Trim(number, "0123456789") == "" {
		handle = authority // one file serves all generations
	}
	for _, f := range p.PassFiles {
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

// NewPassphrase gives new passphrases, for keys that have one: from these files, else at the terminal.
func (s *Session) NewPassphrase(files []string) func(context.Context, string) ([]byte, error) {
	only := &Passphrases{App: s.App, Errs: s.Errs, PassFiles: files}
	only.Env = func(string) string { return "" }
	return func(ctx context.Context, what string) ([]byte, error) {
		secret, _, err := only.Passphrase(ctx, keystore.Question{Handle: what, New: true})
		if errors.Is(err, term.ErrNoTerminal) {
			err = Misused("%w: give the new one in a file: --new-passphrase-file FILE", term.ErrNoTerminal)
		}
		if err == nil && len(secret) == 0 {
			err = fmt.Errorf("the new passphrase of %s is empty, and protects nothing: choose one", what)
		}
		return secret, err
	}
}

// weak tells what speaks against a new passphrase.
func (p *Passphrases) weak(handle string, secret []byte) {
	if why := keystore.Weakness(secret); why != "" {
		p.Errs.Hung("!", term.Careful, fmt.Sprintf("The passphrase for %s is weak: %s.", handle, why))
	}
}

// Choose lets a person choose a passphrase, typed twice.
func (p *Passphrases) Choose(ctx context.Context, handle string) ([]byte, bool, error) {
	for {
		first, err := p.Console.Secret(ctx, fmt.Sprintf("Choose a passphrase for %s: ", handle))
		if errors.Is(err, term.ErrNoTerminal) {
			err = fmt.Errorf("%w: give it in a file: --passphrase-file FILE", err)
		}
		if err != nil {
			return nil, false, err
		}
		if len(keystore.Canonical(first)) == 0 {
			p.Errs.Say("An empty passphrase protects nothing. Choose one.")
			continue
		}
		second, err := p.Console.Secret(ctx, "Once more: ")
		if err != nil {
			return nil, false, err
		}
		if bytes.Equal(first, second) {
			clear(second)
			secret := keystore.Canonical(first)
			p.weak(handle, secret)
			return secret, false, nil
		}
		p.Errs.Say("The two differ. Choose again.")
	}
}

// Agree asks a question that must be answered with yes.
func (s *Session) Agree(ctx context.Context, question string) error {
	if s.Yes {
		return nil
	}
	answer, err := s.Console.Line(ctx, question+" [yes/no] ")
	switch {
	case errors.Is(err, term.ErrNoTerminal):
		return Misused("%w: answer beforehand with --yes", err)
	case err != nil:
		return fmt.Errorf("stopped; nothing was changed: %w", err)
	case strings.EqualFold(answer, "yes") || strings.EqualFold(answer, "y"):
		return nil
	}
	return &Status{Refused, ErrDeclined}
}

var ErrDeclined = errors.New("declined; nothing was changed")

// Exactly and atLeast are Args functions whose errors name what is missing.
func Exactly(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != n {
			return Misused("%s needs %s: %s", cmd.CommandPath(), what, instead(cmd))
		}
		return nil
	}
}

// AtLeast is an Args function whose error names what is missing.
func AtLeast(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < n {
			return Misused("%s needs %s: %s", cmd.CommandPath(), what, instead(cmd))
		}
		return nil
	}
}

// Group makes a command that only holds others.
func Group(use, short string, sub ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return UnknownCommand(cmd, args[0])
		}
		return nil
	}, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(sub...)
	return c
}

// Input reads standard input, bounded.
func (s *Session) Input() ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(s.Stdin, bundle.MostBytes+1))
	if err != nil {
		return nil, fmt.Errorf("standard input: %w", err)
	}
	return data, nil
}

// Waivers pairs --waive with --because.
func Waivers(codes []string, because string) ([]finding.Waiver, error) {
	if len(codes) == 0 {
		if because != "" {
			return nil, Misused("--because says why a finding is waived: name it with --waive CODE")
		}
		return nil, nil
	}
	if strings.TrimSpace(because) == "" {
		return nil, Misused("--waive needs a reason: add --because TEXT")
	}
	var out []finding.Waiver
	for _, c := range codes {
		w := finding.Waiver{Because: because}
		if r, code, ok := strings.Cut(c, ":"); ok {
			n, err := estate.ParseNumber(r)
			if err != nil {
				return nil, &Status{Usage, err}
			}
			w.Request, c = n, code
		}
		rule, ok := finding.Lookup(finding.Code(strings.TrimSpace(c)))
		if !ok {
			return nil, Misused("--waive %s: there is no finding of this code: docs/findings.md lists them", c)
		}
		w.Code = rule.Code
		out = append(out, w)
	}
	return out, nil
}

// Tidy removes what acts that were cut off left behind in a directory that this one
// is about to write to, and says so: there may have been a private key in it.
func (s *Session) Tidy(dir string) {
	s.told(disk.Sweep(dir))
}

// told tells what was left behind and removed.
func (s *Session) told(removed []string, err error) {
	for _, r := range removed {
		s.Errs.Say("(left behind by an act that was cut off, and removed: %s)", term.Safe(r))
	}
	if err != nil {
		s.Errs.Say("(%s)", term.Safe(err.Error()))
	}
}

// Hint is the next thing to do, as the screen shows it: what for, and the command.
type Hint struct{ Why, Command string }

// Next prints what to do next.
func (s *Session) Next(list ...Hint) {
	for i, a := range list {
		if i == 0 {
			s.Out.Gap()
		}
		s.Out.Beside(s.Out.Paint(term.Quiet, "next: "+a.Why+":"), s.Out.Paint(term.Accent, a.Command))
	}
}

// Advise prints the next steps that an act advises.
func (s *Session) Advise(list ...advice.Step) {
	var hints []Hint
	for _, step := range list {
		hints = append(hints, Hint{step.Words, s.Speller().Command(step)})
	}
	s.Next(hints...)
}
