package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/act/intake"
	"ironseal/internal/act/overview"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// draftManifest drafts for every row of a manifest, and takes the requests in.
func (s *Session) draftManifest(cmd *cobra.Command, base intake.DraftAsk, file string) error {
	e, err := s.estate(cmd.Context())
	if err != nil {
		return err
	}
	rows, err := s.manifest(file)
	if err != nil {
		return err
	}
	var inputs []intake.Input
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
		d, err := intake.Draft(cmd.Context(), s.world(), e, ask)
		if err != nil {
			failed = append(failed, failure{row.Label(), err.Error(), false})
			continue
		}
		inputs = append(inputs, intake.Input{Name: d.RequestFile, Data: bundle.PEM(bundle.Request, d.Request.Raw)})
	}
	stop()
	list, head, faults := intake.Receive(cmd.Context(), e, inputs, "manifest "+file)
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
		s.out.Say("%s %d drafted and taken in, %d not   %s", s.out.Paint(term.Strong, "Result:"), len(list),
			len(failed), s.out.Paint(term.Quiet, "journal "+head.String()))
		s.next(overview.Advice{Why: "sign them",
			Command: "ironseal sign --manifest " + shellWord(file) + " --template NAME"})
	}
	if len(failed) > 0 {
		return fmt.Errorf("%d of %d rows were not drafted", len(failed), len(rows))
	}
	return nil
}

// draftAsking asks for what a draft needs, question by question, and shows the
// result before anything is written.
func (s *Session) draftAsking(cmd *cobra.Command, ask *intake.DraftAsk, sealed bool) error {
	ctx := cmd.Context()
	s.out.Say("A key and a request for a host. After the first question, Enter takes what is usual.")
	names, err := s.askNames(ctx)
	if err != nil {
		return err
	}
	ask.Names = names
	if ask.Key == "" {
		if ask.Key, err = s.askKey(ctx); err != nil {
			return err
		}
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
	if ask.Subject != nil {
		s.out.Say("  for    %s", term.Safe(ask.Subject.String()))
	}
	if sealed {
		s.out.Say("  key    %s, sealed under a passphrase", kind)
	} else {
		s.out.Say("  key    %s, readable by its owner only", kind)
	}
	stem := label.FileName(ask.Names[0].Value())
	s.out.Say("  files  %s.request.pem", term.Safe(filepath.Join(ask.Dir, stem)))
	s.out.Say("         %s.key.pem", term.Safe(filepath.Join(ask.Dir, stem)))
	return s.agree(ctx, "Write it?")
}

// askNames gathers names: the host's own, those of its services, inside and
// outside, and whatever else the person adds; then it shows what they come to.
func (s *Session) askNames(ctx context.Context) ([]san.Name, error) {
	host, err := s.askName(ctx, "The host's full name, as users type it: ", false)
	if err != nil {
		return nil, err
	}
	list := []san.Name{*host}
	inside, err := s.line(ctx, "Its domain on the inside, where that is another (Enter: the same): ")
	if err != nil {
		return nil, err
	}
	services, err := s.askServices(ctx)
	if err != nil {
		return nil, err
	}
	if len(services) > 0 {
		list = append(list, s.drawServices(services, *host, strings.Trim(inside, " ."))...)
	}
	for {
		n, err := s.askName(ctx, "Another name or address (Enter when there is none): ", true)
		if err != nil {
			return nil, err
		}
		if n == nil {
			return s.pruneNames(ctx, list)
		}
		list = append(list, *n)
	}
}

// askName asks until a name is typed that can be read; nil is no answer, where
// that will do.
func (s *Session) askName(ctx context.Context, prompt string, mayBeNone bool) (*san.Name, error) {
	for {
		answer, err := s.line(ctx, prompt)
		if err != nil {
			return nil, err
		}
		if answer == "" && mayBeNone {
			return nil, nil
		}
		n, err := san.ParseTyped(answer)
		if err == nil {
			return &n, nil
		}
		s.out.Say("  %s", term.Safe(err.Error()))
	}
}

func (s *Session) askServices(ctx context.Context) ([]request.Service, error) {
	var words []string
	for _, v := range request.Services() {
		words = append(words, v.Word)
	}
	for {
		answer, err := s.line(ctx, fmt.Sprintf("What runs there? One or more of %s (Enter: none): ",
			strings.Join(words, ", ")))
		if err != nil {
			return nil, err
		}
		var out []request.Service
		for _, word := range strings.FieldsFunc(answer, func(r rune) bool { return r == ' ' || r == ',' }) {
			var v request.Service
			if v, err = request.ServiceNamed(word); err != nil {
				s.out.Say("  %s", term.Safe(err.Error()))
				break
			}
			out = append(out, v)
		}
		if err == nil {
			return out, nil
		}
	}
}

// drawServices shows each service with its names, and returns all of them.
func (s *Session) drawServices(services []request.Service, host san.Name, inside string) (all []san.Name) {
	var rows [][]term.Cell
	for _, v := range services {
		within, outside := v.NamesOf(host, inside)
		all = append(append(all, within...), outside...)
		for i := range max(len(within), len(outside), 1) {
			row := make([]term.Cell, 3)
			if i == 0 {
				row[0].Text = v.Word
			}
			if i < len(within) {
				row[1].Text = within[i].Value()
			}
			if i < len(outside) {
				row[2].Text = outside[i].Value()
			}
			rows = append(rows, row)
		}
	}
	s.out.Gap()
	s.out.Table([]string{"service", "inside", "outside"}, rows)
	s.out.Gap()
	return all
}

// pruneNames shows what the names come to, and lets the person leave some out.
func (s *Session) pruneNames(ctx context.Context, list []san.Name) ([]san.Name, error) {
	kept, pruned := request.Unite(list)
	if len(kept) < 2 {
		return kept, nil
	}
	s.out.Say("%s", s.out.Paint(term.Strong, "Together, sorted:"))
	for i, n := range kept {
		s.out.Say("  %2d  %s", i+1, term.Safe(n.String()))
	}
	for _, p := range pruned {
		s.out.Say("%s", s.out.Paint(term.Quiet, fmt.Sprintf("   -  %s: %s", term.Safe(p.Name.String()), p.Why)))
	}
	for {
		answer, err := s.line(ctx, "Leave out which? Numbers (Enter: none): ")
		if err != nil {
			return nil, err
		}
		left, err := without(kept, strings.FieldsFunc(answer, func(r rune) bool { return r == ' ' || r == ',' }))
		if err == nil {
			return left, nil
		}
		s.out.Say("  %s", term.Safe(err.Error()))
	}
}

// without drops names by the numbers that they were shown with; the first, which
// names the host, stays.
func without(list []san.Name, numbers []string) ([]san.Name, error) {
	drop := map[int]bool{}
	for _, text := range numbers {
		n, err := strconv.Atoi(text)
		if err != nil || n < 2 || n > len(list) {
			return nil, fmt.Errorf("%q is not one of the numbers 2 to %d; the first names the host and stays", text,
				len(list))
		}
		drop[n-1] = true
	}
	var out []san.Name
	for i, n := range list {
		if !drop[i] {
			out = append(out, n)
		}
	}
	return out, nil
}

func (s *Session) askKey(ctx context.Context) (key.Kind, error) {
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
func (s *Session) line(ctx context.Context, prompt string) (string, error) {
	answer, err := s.Console.Line(ctx, prompt)
	if errors.Is(err, term.ErrNoTerminal) {
		return "", usage("request draft needs at least one name, or a terminal to ask on: see ironseal request " +
			"draft --help")
	}
	return answer, err
}
