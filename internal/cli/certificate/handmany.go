package certificate

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/requests/handovers"
	"ironseal/internal/app/revoke/incidents"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/finding"
	"ironseal/pki/span"
)

// many says which certificates are handed over together.
type many struct {
	incident, manifest string
	parties            []string
	fresh              bool
}

func (m many) asked(args []string) bool {
	return m.incident != "" || m.manifest != "" || m.fresh || len(args) == 0 && len(m.parties) > 0 || len(args) > 1
}

// ways counts in how many ways certificates were named.
func (m many) ways(args []string) (n int) {
	for _, yes := range []bool{m.incident != "", m.manifest != "", m.fresh, len(args) > 0,
		len(args) == 0 && len(m.parties) > 0} {
		if yes {
			n++
		}
	}
	return n
}

func (m *many) flags(s *session.Session, c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&m.incident, "incident", "", "all replacements of this `INCIDENT` that are not handed over yet")
	f.StringVar(&m.manifest, "manifest", "", "the newest certificate of every host in this CSV `FILE`")
	f.BoolVar(&m.fresh, "new", false, "all valid certificates that are not handed over yet")
	f.StringArrayVar(&m.parties, "party", nil,
		"the `PARTY` that gets it; alone, what that party holds; may be repeated")
	session.Register(c, "party", s.Parties)
}

// items are what is handed over, and what of a manifest cannot be.
func (m many) items(ctx context.Context, s *session.Session, e *estate.Estate, args []string, receiver string) (
	items []handovers.Item, failed []session.Failure, err error) {
	var list []estate.CertificateRecord
	switch {
	case m.incident != "":
		p, err := incidents.Of(ctx, e, m.incident)
		if err != nil {
			return nil, nil, err
		}
		list = p.ToHandOver()
	case m.manifest != "":
		rows, err := s.Manifest(m.manifest)
		if err != nil {
			return nil, nil, err
		}
		items, faults, err := handovers.OfManifest(ctx, e, rows, receiver)
		for _, label := range slices.Sorted(maps.Keys(faults)) {
			failed = append(failed, session.Failure{Name: label, Why: faults[label].Error()})
		}
		return items, failed, err
	case m.fresh:
		if list, err = handovers.NotHandedOver(ctx, e); err != nil {
			return nil, nil, err
		}
	case len(args) == 0:
		items, err := handovers.OfParties(ctx, e, m.parties, receiver)
		return items, nil, err
	}
	for _, name := range args {
		h, err := s.Found(ctx, e, name)
		if err != nil {
			return nil, nil, err
		}
		list = append(list, h)
	}
	items, err = handovers.Of(ctx, e, list, receiver)
	return items, nil, err
}

// handMany hands over a folder each, a line each on the screen.
func handMany(ctx context.Context, s *session.Session, e *estate.Estate, f handoverFlags, args []string,
	waivers []finding.Waiver) error {
	items, failed, err := f.many.items(ctx, s, e, args, f.receiver)
	if err != nil {
		return err
	}
	if len(items)+len(failed) == 0 {
		return s.Nothing(s.Out.Paint(term.Good, "✓") + " Nothing is to be handed over.")
	}
	ask := handovers.Ask{Dir: s.Path(f.out), Waivers: waiversFor(waivers)}
	if ask.Password, err = passwords(ctx, s, f.pw); err != nil {
		return err
	}
	s.Tidy(ask.Dir)
	if earlier := handovers.Earlier(handovers.Dirs(ask.Dir, items)); len(earlier) > 0 {
		if err := s.Agree(ctx, fmt.Sprintf("%s in %s hold earlier handovers: replace them?",
			span.Count(len(earlier), "folder"), ask.Dir)); err != nil {
			return err
		}
		ask.Replace = true
	}
	rows := s.Out.Rolling([]string{"", "for", "receiver", "to", "key", "folder"}, "to", "key")
	list, err := handovers.All(ctx, e, items, ask, func(d handovers.Done) {
		if d.Err != nil {
			failed = append(failed, session.Failure{Name: fmt.Sprintf("%s, serial %s", d.Certificate.Title(),
				d.Certificate.Serial.Short()), Why: d.Err.Error()})
		} else if !s.JSON {
			rows.Row(handedRow(d))
		}
	})
	if !s.JSON {
		rows.End()
	}
	if err != nil {
		return err
	}
	return handedMany(s, list, failed, ask.Dir, f.pw.Made)
}

func handedRow(d handovers.Done) []term.Cell {
	key := "here"
	if !d.KeyHere {
		key = "elsewhere"
	}
	base := d.Dir[strings.LastIndexAny(d.Dir, `/\`)+1:]
	return []term.Cell{{Text: "✓", Tone: term.Good}, {Text: d.Certificate.Title(), Tone: term.Strong},
		{Text: d.Receiver}, {Text: session.OrDash(d.To)}, {Text: key, Tone: term.Quiet}, {Text: base}}
}

// waiversFor gives the waivers that name the request of a certificate.
func waiversFor(all []finding.Waiver) func(estate.CertificateRecord) []finding.Waiver {
	return func(c estate.CertificateRecord) (out []finding.Waiver) {
		for _, w := range all {
			if w.Request == c.Record.Request {
				w.Request = 0
				out = append(out, w)
			}
		}
		return out
	}
}

// passwords gives the password of each file: one from a file for all, or one that is made for each.
func passwords(ctx context.Context, s *session.Session, pw session.PasswordFlags) (func(handovers.Item) ([]byte, error),
	error) {
	if pw.File == "" && !pw.Made {
		return func(i handovers.Item) ([]byte, error) {
			return nil, session.Misused("%s takes a file with a password: give --make-password, or --encrypt-with FILE",
				i.Receiver)
		}, nil
	}
	return func(handovers.Item) ([]byte, error) {
		secret, _, err := s.Password(ctx, pw, "the files")
		return secret, err
	}, nil
}

// handedMany says how it went.
func handedMany(s *session.Session, list []handovers.Done, failed []session.Failure, dir string, made bool) error {
	done := 0
	rows := []map[string]any{}
	for _, d := range list {
		if d.Err != nil {
			continue
		}
		done++
		row := map[string]any{"title": d.Certificate.Title(), "serial": d.Certificate.SerialHex(),
			"receiver": d.Receiver,
			"to":       d.To, "directory": d.Dir, "key_here": d.KeyHere, "findings": append(finding.List{},
				d.Findings...)}
		if made && d.Password != nil {
			row["password"] = string(d.Password)
		}
		rows = append(rows, row)
	}
	if s.JSON {
		if err := s.PrintJSON(map[string]any{"handed_over": rows, "failed": append([]session.Failure{},
			failed...)}); err != nil {
			return err
		}
	} else {
		if made {
			drawPasswords(s, list)
		}
		s.DrawFailures(failed)
		s.Out.Gap()
		s.Out.Say("%s %d handed over, %d not", s.Out.Paint(term.Strong, "Result:"), done, len(failed))
		s.Out.Say("  %s lists them", term.Safe(dir+"/"+handovers.IndexFile))
	}
	if len(failed) > 0 {
		return fmt.Errorf("%d of %d were not handed over: each is listed above with its reason", len(failed),
			done+len(failed))
	}
	return nil
}

func drawPasswords(s *session.Session, list []handovers.Done) {
	var rows [][]term.Cell
	for _, d := range list {
		if d.Err == nil && d.Password != nil {
			rows = append(rows, []term.Cell{{Text: d.Certificate.Title()}, {Text: string(d.Password),
				Tone: term.Accent}})
		}
	}
	if len(rows) == 0 {
		return
	}
	s.Out.Gap()
	s.Out.Table([]string{"for", "password"}, rows)
	s.Out.Say("%s", s.Out.Paint(term.Quiet, "Passwords are shown once. Send each by another way than its file."))
}
