package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/key"
	"ironseal/pki/san"
)

// draftManifest drafts for every row of a manifest, and takes the requests in.
func (s *session) draftManifest(cmd *cobra.Command, base estate.DraftAsk, file string) error {
	e, err := s.estate(cmd.Context())
	if err != nil {
		return err
	}
	rows, err := s.manifest(file)
	if err != nil {
		return err
	}
	var inputs []estate.Input
	var failed []failure
	count, stop := s.counter("drafting", len(rows))
	for i, row := range rows {
		count(i + 1)
		if row.Err != nil {
			failed = append(failed, failure{row.Label(), row.Err.Error(), false})
			continue
		}
		ask := base
		ask.Names = append([]san.Name{row.Host}, row.Names...)
		d, err := estate.Draft(cmd.Context(), s.world(), e, ask)
		if err != nil {
			failed = append(failed, failure{row.Label(), err.Error(), false})
			continue
		}
		inputs = append(inputs, estate.Input{Name: d.RequestFile, Data: bundle.PEM(bundle.Request, d.Request.Raw)})
	}
	stop()
	list, head, faults := e.Receive(cmd.Context(), inputs, "manifest "+file)
	if len(faults) > 0 {
		return errors.Join(faults...)
	}
	if s.json {
		names := []string{}
		for _, r := range list {
			names = append(names, fmt.Sprintf("R%d", r.Record.Number))
		}
		if err := s.printJSON(map[string]any{"requests": names, "failed": append([]failure{}, failed...)}); err != nil {
			return err
		}
	} else {
		s.drawFailures(failed)
		s.out.Say("%s %d drafted and taken in, %d not   %s", s.out.Paint(term.Strong, "Result:"), len(list), len(failed), s.out.Paint(term.Quiet, "journal "+head.String()))
		s.next(estate.Advice{Why: "sign them", Command: "ironseal sign --manifest " + file + " --template NAME"})
	}
	if len(failed) > 0 {
		return fmt.Errorf("%d of %d rows were not drafted", len(failed), len(rows))
	}
	return nil
}

// draftAsking asks for what a draft needs, question by question, and shows the
// result before anything is written.
func (s *session) draftAsking(cmd *cobra.Command, ask estate.DraftAsk) error {
	ctx := cmd.Context()
	s.out.Say("A key and a request for a host. After the first question, Enter takes what is usual.")
	names, err := s.askNames(ctx)
	if err != nil {
		return err
	}
	ask.Names = names
	if ask.Key, err = s.askKey(ctx); err != nil {
		return err
	}
	s.out.Gap()
	s.out.Say("%s", s.out.Paint(term.Strong, "This will be drafted:"))
	var texts []string
	for _, n := range ask.Names {
		texts = append(texts, n.String())
	}
	kind := string(ask.Key)
	if kind == "" {
		kind = "the estate's default"
	}
	s.out.Say("  names  %s", term.Safe(strings.Join(texts, ", ")))
	s.out.Say("  key    %s, readable by its owner only", kind)
	stem := bundle.FileName(ask.Names[0].Value)
	s.out.Say("  files  %s.request.pem", term.Safe(filepath.Join(ask.Dir, stem)))
	s.out.Say("         %s.key.pem", term.Safe(filepath.Join(ask.Dir, stem)))
	if err := s.agree(ctx, "Write it?"); err != nil {
		return err
	}
	return s.draft(cmd, ask)
}

// services are names that hosts of a kind usually have, inside and outside.
var services = []struct {
	word  string
	names []string // {name} stands for the host's full name, {domain} for it without its first part
}{
	{"web", []string{"www.{name}"}},
	{"mail", []string{"smtp.{domain}", "imap.{domain}", "autodiscover.{domain}"}},
	{"directory", []string{"{domain}"}},
	{"none", nil},
}

func (s *session) askNames(ctx context.Context) ([]san.Name, error) {
	var out []san.Name
	add := func(n san.Name) {
		for _, have := range out {
			if have.Same(n) {
				return
			}
		}
		out = append(out, n)
	}
	for len(out) == 0 {
		answer, err := s.line(ctx, "The host's full name, as users type it: ")
		if err != nil {
			return nil, err
		}
		n, err := san.ParseTyped(answer)
		if err != nil {
			s.out.Say("  %s", term.Safe(err.Error()))
			continue
		}
		add(n)
	}
	_, domain, _ := strings.Cut(out[0].Value, ".")
	var words []string
	for _, v := range services {
		words = append(words, v.word)
	}
	answer, err := s.line(ctx, fmt.Sprintf("What is it? Its usual names are added [%s] ", strings.Join(words, "/")))
	if err != nil {
		return nil, err
	}
	for _, v := range services {
		if v.word != strings.ToLower(answer) || domain == "" {
			continue
		}
		for _, pattern := range v.names {
			if n, err := san.ParseTyped(strings.NewReplacer("{name}", out[0].Value, "{domain}", domain).Replace(pattern)); err == nil {
				add(n)
			}
		}
	}
	for {
		answer, err := s.line(ctx, "Another name or address (Enter when there is none): ")
		if err != nil || answer == "" {
			return out, err
		}
		n, err := san.ParseTyped(answer)
		if err != nil {
			s.out.Say("  %s", term.Safe(err.Error()))
			continue
		}
		add(n)
	}
}

func (s *session) askKey(ctx context.Context) (key.Kind, error) {
	for {
		answer, err := s.line(ctx, "Key kind (Enter: the default; rsa-2048 where the device is old): ")
		if err != nil || answer == "" {
			return "", err
		}
		k, err := key.ParseKind(answer)
		if err == nil {
			return k, nil
		}
		s.out.Say("  %s", err)
	}
}

// line asks one question; without a terminal, that is wrong usage.
func (s *session) line(ctx context.Context, prompt string) (string, error) {
	answer, err := s.Console.Line(ctx, prompt)
	if errors.Is(err, term.ErrNoTerminal) {
		return "", usage("request draft needs at least one name, or a terminal to ask on: see ironseal request draft --help")
	}
	return answer, err
}
