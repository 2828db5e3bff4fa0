package request

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/requests/intake"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// draftManifest drafts for every row of a manifest, and takes the requests in.
func draftManifest(s *session.Session, cmd *cobra.Command, base intake.DraftAsk, file string) error {
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return err
	}
	rows, err := s.Manifest(file)
	if err != nil {
		return err
	}
	var inputs []intake.Input
	var failed []session.Failure
	var asks []intake.DraftAsk
	var labels []string
	for _, row := range rows {
		if row.Err != nil {
			failed = append(failed, session.Failure{Name: row.Label(), Why: row.Err.Error()})
			continue
		}
		ask := base
		ask.Names = append([]san.Name{row.Host}, row.Names...)
		asks, labels = append(asks, ask), append(labels, row.Label())
	}
	count, stop := s.Counter("drafting", len(asks))
	drafts, whys := intake.DraftAll(cmd.Context(), s.EstateEnv(), e, asks, count)
	for i, d := range drafts {
		if whys[i] != nil {
			failed = append(failed, session.Failure{Name: labels[i], Why: whys[i].Error()})
			continue
		}
		inputs = append(inputs, intake.Input{Name: d.RequestFile, Data: bundle.PEM(bundle.Request, d.Request.Raw)})
	}
	stop()
	list, head, faults := intake.Receive(cmd.Context(), e, inputs, "") // no one sent them
	if len(faults) > 0 {
		return errors.Join(faults...)
	}
	if s.JSON {
		names := []string{}
		for _, r := range list {
			names = append(names, fmt.Sprintf("R%d", r.Record.Number))
		}
		if err := s.PrintJSON(map[string]any{"requests": names, "failed": append([]session.Failure{},
			failed...)}); err != nil {
			return err
		}
	} else {
		s.DrawFailures(failed)
		s.Out.Say("%s %d drafted and received, %d not   %s", s.Out.Paint(term.Strong, "Result:"), len(list),
			len(failed), s.Out.Paint(term.Quiet, "journal "+head.String()))
		s.Next(session.Hint{Why: "sign them",
			Command: "ironseal sign --manifest " + s.Shell.Word(file) + " --template NAME"})
	}
	if len(failed) > 0 {
		return fmt.Errorf("%d of %d rows were not drafted", len(failed), len(rows))
	}
	return nil
}

// draftAsking asks for what a draft needs, question by question, and shows the
// result before anything is written.
func draftAsking(s *session.Session, cmd *cobra.Command, ask *intake.DraftAsk, encrypted bool) error {
	ctx := cmd.Context()
	s.Out.Say("A key and a request for a host. After the first question, Enter takes what is usual.")
	names, err := askNames(ctx, s)
	if err != nil {
		return err
	}
	ask.Names = names
	if ask.Key == "" {
		if ask.Key, err = askKey(ctx, s); err != nil {
			return err
		}
	}
	s.Out.Gap()
	s.Out.Say("%s", s.Out.Paint(term.Strong, "This will be drafted:"))
	var texts []string
	for _, n := range ask.Names {
		texts = append(texts, n.String())
	}
	kind := string(ask.Key)
	if kind == "" {
		kind = "the estate's default"
	}
	s.Out.Say("  names  %s", term.Safe(strings.Join(texts, ", ")))
	if ask.Subject != nil {
		s.Out.Say("  for    %s", term.Safe(ask.Subject.String()))
	}
	if encrypted {
		s.Out.Say("  key    %s, encrypted under a passphrase", kind)
	} else {
		s.Out.Say("  key    %s, readable by its owner only", kind)
	}
	stem := label.FileName(ask.Names[0].Value())
	s.Out.Say("  files  %s.request.pem", term.Safe(filepath.Join(ask.Dir, stem)))
	s.Out.Say("         %s.key.pem", term.Safe(filepath.Join(ask.Dir, stem)))
	return s.Agree(ctx, "Write it?")
}

// askNames gathers names: the host's own, those of its services, inside and
// outside, and whatever else the person adds; then it shows what they come to.
func askNames(ctx context.Context, s *session.Session) ([]san.Name, error) {
	host, err := askName(ctx, s, "The host's full name, as users type it: ", false)
	if err != nil {
		return nil, err
	}
	list := []san.Name{*host}
	inside, err := line(ctx, s, "Its domain on the inside, where that is another (Enter: the same): ")
	if err != nil {
		return nil, err
	}
	services, err := askServices(ctx, s)
	if err != nil {
		return nil, err
	}
	if len(services) > 0 {
		list = append(list, drawServices(s, services, *host, strings.Trim(inside, " ."))...)
	}
	for {
		n, err := askName(ctx, s, "Another name or address (Enter for none): ", true)
		if err != nil {
			return nil, err
		}
		if n == nil {
			return pruneNames(ctx, s, list)
		}
		list = append(list, *n)
	}
}

// askName asks until a name is typed that can be read; nil is no answer, where
// that will do.
func askName(ctx context.Context, s *session.Session, prompt string, mayBeNone bool) (*san.Name, error) {
	for {
		answer, err := line(ctx, s, prompt)
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
		s.Out.Say("  %s", term.Safe(err.Error()))
	}
}

func askServices(ctx context.Context, s *session.Session) ([]request.Service, error) {
	var words []string
	for _, v := range request.Services() {
		words = append(words, v.Word)
	}
	for {
		answer, err := line(ctx, s, fmt.Sprintf("What runs there? One or more of %s (Enter: none): ",
			strings.Join(words, ", ")))
		if err != nil {
			return nil, err
		}
		var out []request.Service
		for _, word := range strings.FieldsFunc(answer, func(r rune) bool { return r == ' ' || r == ',' }) {
			var v request.Service
			if v, err = request.ServiceNamed(word); err != nil {
				s.Out.Say("  %s", term.Safe(err.Error()))
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
func drawServices(s *session.Session, services []request.Service, host san.Name, inside string) (all []san.Name) {
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
	s.Out.Gap()
	s.Out.Table([]string{"service", "inside", "outside"}, rows)
	s.Out.Gap()
	return all
}

// pruneNames shows what the names come to, and lets the person leave some out.
func pruneNames(ctx context.Context, s *session.Session, list []san.Name) ([]san.Name, error) {
	kept, pruned := request.Unite(list)
	if len(kept) < 2 {
		return kept, nil
	}
	s.Out.Say("%s", s.Out.Paint(term.Strong, "Together, sorted:"))
	for i, n := range kept {
		s.Out.Say("  %2d  %s", i+1, term.Safe(n.String()))
	}
	for _, p := range pruned {
		s.Out.Say("%s", s.Out.Paint(term.Quiet, fmt.Sprintf("   -  %s: %s", term.Safe(p.Name.String()), p.Why)))
	}
	for {
		answer, err := line(ctx, s, "Leave out which? Numbers (Enter: none): ")
		if err != nil {
			return nil, err
		}
		left, err := without(kept, strings.FieldsFunc(answer, func(r rune) bool { return r == ' ' || r == ',' }))
		if err == nil {
			return left, nil
		}
		s.Out.Say("  %s", term.Safe(err.Error()))
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

func askKey(ctx context.Context, s *session.Session) (key.Kind, error) {
	for {
		answer, err := line(ctx, s, "Key kind (Enter: the default; rsa-2048 where the device is old): ")
		if err != nil || answer == "" {
			return "", err
		}
		k, err := key.ParseKind(answer)
		if err == nil {
			return k, nil
		}
		s.Out.Say("  %s", err)
	}
}

// line asks one question; without a terminal, that is wrong usage.
func line(ctx context.Context, s *session.Session, prompt string) (string, error) {
	answer, err := s.Console.Line(ctx, prompt)
	if errors.Is(err, term.ErrNoTerminal) {
		return "",
			session.Misused("request draft needs at least one name, or a terminal to ask on").
				Then(advice.To("see the help", advice.DraftRequest, "help", ""))
	}
	return answer, err
}
