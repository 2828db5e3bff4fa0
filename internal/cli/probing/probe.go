// Package probing has the command that looks at live endpoints.
package probing

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/ops/probes"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/cli/session"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/probe"
	"ironseal/internal/report/board"
	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/endpoint"
	"ironseal/pki/fault"
	"ironseal/pki/path"
)

const aboutProbe = `Connect to endpoints and judge what they present, as a client does that trusts the estate's own
roots, or --set or --anchor. If people use another name than the host, put it before:
booking.ternbay.example@192.0.2.17:443.

Mail, directories and databases start TLS after some plain text. The port says so (25, 110,
143, 389, 587, 3306, 5222, 5432, 21), or smtp://, imap://, pop3://, ldap://, postgres://,
mysql://, ftp:// and xmpp://. An address copied from a browser works too.

Revocation is checked by the stapled answer, the lists that the estate published, those given
with --revocations, and --fetch.

For every failure it says what to do, and what the records know: which certificate is served,
whether it is the newest for the name, and who holds it. The exit status is 4 if any endpoint
is not trusted.`

// flags are what can be asked for.
type flags struct {
	list, set, client, clientKey string
	anchors                      []string
	wait, watch                  time.Duration
	until, like, before          string
	page, metrics                string
	party                        []string
	all, record                  bool
	revocations                  session.Revocations
}

// Command is ironseal probe.
func Command(s *session.Session) *cobra.Command {
	var f flags
	c := session.Reading(&cobra.Command{
		Use:   "probe [NAME@]HOST:PORT...",
		Short: "Check live endpoints: whether clients trust them, and why not",
		Long:  aboutProbe,
		Example: `  ironseal probe booking.ternbay.example:443 mail.ternbay.example:25
  ironseal probe booking.ternbay.example@192.0.2.17:8443 --anchor ../handed-out/root.pem
  ironseal probe --list ../endpoints.txt --before ../before.json`,
		RunE: func(cmd *cobra.Command, args []string) error { return f.run(cmd.Context(), s, args) },
	})
	fl := c.Flags()
	fl.StringVar(&f.list, "list", "", "look at the endpoints in this `FILE`: one a line, or a table with the column "+
		"endpoint")
	fl.StringVar(&f.set, "set", "", "judge by this trust `SET`; the estate's own roots otherwise")
	fl.StringArrayVar(&f.anchors, "anchor", nil, "judge by the roots in this `FILE`; may be repeated")
	fl.StringVar(&f.client, "client", "", "present this `CERTIFICATE` where one is asked for: on record, or a file")
	fl.StringVar(&f.clientKey, "client-key", "",
		"the `FILE` of its private key; the key of a draft is found without it")
	fl.DurationVar(&f.wait, "wait", 10*time.Second, "the `TIME` that each step of an endpoint may take, such as 5s")
	fl.DurationVar(&f.watch, "watch", 0, "look again after this `TIME`, such as 10s, until all are trusted")
	fl.StringVar(&f.until, "until", "", "with --watch: until this `CERTIFICATE` is served")
	fl.StringVar(&f.like, "like", "", "say in what they differ from this `HOST:PORT`, which is right")
	fl.StringVar(&f.before, "before", "", "keep the result in this `FILE`; if it is there already, say what has "+
		"changed since")
	fl.StringVar(&f.page, "html", "", "write a page that needs nothing but itself to this `FILE`")
	fl.StringVar(&f.metrics, "metrics", "", "write figures for a collector (OpenMetrics) to this `FILE`")
	fl.BoolVar(&f.all, "all", false, "look at every endpoint on record")
	fl.StringSliceVar(&f.party, "party", nil, "only the endpoints of this `PARTY`; may be repeated")
	fl.BoolVar(&f.record, "record", false, "put on record what was seen, for party show")
	f.revocations.Flags(c)
	session.Register(c, "party", s.Parties)
	session.Register(c, "set", s.TrustSets)
	session.Register(c, "client", s.Certificates)
	return c
}

// fit refuses options that do not go together, or mean nothing.
func (f *flags) fit(s *session.Session) error {
	switch {
	case f.record && s.AsOf != "":
		return session.Misused("probe: --record keeps what is seen now: leave out --as-of")
	case f.wait <= 0 || f.watch < 0:
		return session.Misused("probe: --wait and --watch take a time above zero, such as 10s")
	case f.until != "" && f.watch == 0:
		return session.Misused("probe: --until says when --watch ends: add --watch 10s")
	case f.clientKey != "" && f.client == "":
		return session.Misused("probe: --client-key belongs to a certificate: name it with --client")
	}
	return nil
}

func (f *flags) run(ctx context.Context, s *session.Session, args []string) error {
	if err := f.fit(s); err != nil {
		return err
	}
	defer session.Roomy()()
	targets, faults, err := f.targets(ctx, s, args)
	if err != nil {
		return err
	}
	e, ask, err := f.ask(ctx, s)
	if err != nil {
		return err
	}
	if err := f.revocations.Prepare(ctx, s, e); err != nil {
		return err
	}
	ask.Evidence = func(ctx context.Context, presented []*cert.Certificate, stapled []byte, q *path.Question) {
		f.revocations.Into(ctx, s, q, slices.Concat(presented, q.Anchors), stapled)
	}
	ask.Options.Nameless = f.list == "" && !f.all && len(targets) <= mostNameless
	l, err := probes.Begin(ctx, e, ask)
	if err != nil {
		return err
	}
	for _, fault := range faults {
		s.Errs.Say("%s %s", s.Errs.Paint(term.Careful, "! left out:"), term.Safe(fault.Error()))
	}
	count, stop := s.Counter("looking at endpoints:", len(targets))
	outcomes := l.All(ctx, targets, count)
	stop()
	if err := ctx.Err(); err != nil {
		return err
	}
	if f.watch > 0 {
		if outcomes, err = f.again(ctx, s, e, l, outcomes); err != nil {
			return err
		}
	}
	for i := range outcomes { // the page, the figures and JSON show the commands as well
		outcomes[i].Row.Findings = api.FindingsOf(outcomes[i].Row.Findings, s.Speller())
	}
	if err := f.write(s, e, ask, outcomes); err != nil {
		return err
	}
	if f.record {
		if e == nil {
			return session.Misused("probe: --record needs an estate")
		}
		if _, err := parties.RecordObservations(ctx, e, ask.Set, outcomes); err != nil {
			return err
		}
	}
	return f.report(ctx, s, l, outcomes, len(faults))
}

// write makes the page and the figures, each whole or not at all.
func (f *flags) write(s *session.Session, e *estate.Estate, ask probes.Ask, outcomes []probes.Outcome) error {
	b := board.Board{Title: "Live", Set: ask.Set, Now: ask.Now}
	if e != nil {
		b.Title = e.Settings.Organisation.Name
	}
	for _, o := range outcomes {
		b.Rows = append(b.Rows, o.Row)
	}
	if f.page != "" {
		data, err := b.Page()
		if err == nil {
			err = s.EstateEnv().Disk.Replace(s.Path(f.page), data, 0o644)
		}
		if err != nil {
			return fmt.Errorf("page %s: %w", f.page, err)
		}
	}
	if f.metrics != "" {
		if err := s.EstateEnv().Disk.Replace(s.Path(f.metrics), b.Metrics(), 0o644); err != nil {
			return fmt.Errorf("figures %s: %w", f.metrics, err)
		}
	}
	return nil
}

// mostNameless is up to how many endpoints each is examined a second time without a name.
const mostNameless = 20

func (f *flags) targets(ctx context.Context, s *session.Session, args []string) (list []probe.Target, faults []error,
	err error) {
	if f.all || len(f.party) > 0 {
		more, err := f.ofParties(ctx, s)
		if err != nil {
			return nil, nil, err
		}
		args = append(args, more...)
	}
	for _, a := range args {
		t, err := probe.ParseTarget(a)
		if err != nil {
			return nil, nil, &session.Status{Code: session.Usage, Err: err}
		}
		list = append(list, t)
	}
	if f.list != "" {
		data, err := f.read(s, f.list)
		if err != nil {
			return nil, nil, err
		}
		var more []probe.Target
		if more, faults = probe.ReadList(data); len(more) == 0 {
			return nil, nil, fmt.Errorf("%s: there is no endpoint in it that can be looked at: %w", f.list,
				errors.Join(faults[:min(len(faults), 3)]...))
		}
		list = append(list, more...)
	}
	if len(list) == 0 {
		return nil, nil, session.Misused("probe needs an endpoint: HOST:PORT, or --list FILE")
	}
	return list, faults, nil
}

// ofParties are the endpoints of those named, or of all.
func (f *flags) ofParties(ctx context.Context, s *session.Session) ([]string, error) {
	e, err := s.Estate(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range f.party {
		if _, err := parties.Find(ctx, e, name); err != nil {
			return nil, err
		}
	}
	list, err := parties.List(ctx, e)
	if err != nil {
		return nil, err
	}
	out := parties.Endpoints(list, f.party...)
	if len(out) == 0 {
		err = fault.New(fault.NotFound, "no endpoint is on record").Then(advice.To("add one", advice.AddParty,
			"party", "NAME", "endpoint", "HOST:PORT"))
	}
	return out, err
}

func (f *flags) read(s *session.Session, file string) ([]byte, error) {
	if file == "-" {
		return s.Input()
	}
	return disk.Read(s.Path(file), bundle.MostBytes)
}

// ask gathers by what is judged. Without an estate, anchors are needed.
func (f *flags) ask(ctx context.Context, s *session.Session) (*estate.Estate, probes.Ask, error) {
	ask := probes.Ask{Options: probe.Options{Wait: f.wait}, Now: s.Moment(), Clock: time.Now, Set: f.set}
	e, err := s.EstateIfAny(ctx)
	switch {
	case err != nil:
		return nil, ask, err
	case e == nil && len(f.anchors) == 0:
		return nil, ask, session.Misused("probe: give the trusted root: --anchor FILE")
	}
	if len(f.anchors) > 0 {
		if f.set != "" {
			return nil, ask, session.Misused("probe: --set and --anchor both say by what is judged: leave one out")
		}
		ask.Set = "given"
		ask.Anchors, err = s.CertificatesInAll(f.anchors)
	} else {
		set, setErr := anchors.Set(ctx, e, f.set)
		ask.Anchors, ask.Set, err = probes.Anchors(set), set.Name, setErr
		if err == nil && len(ask.Anchors) == 0 {
			err = fmt.Errorf("trust set %s: there is no root in it to judge by", set.Name)
		}
	}
	if err == nil && f.client != "" {
		ask.Options.Client, err = f.pair(ctx, s, e)
	}
	return e, ask, err
}

// pair is the client's certificate with its issuers and its key: out of a file, or on record.
func (f *flags) pair(ctx context.Context, s *session.Session, e *estate.Estate) (*tls.Certificate, error) {
	out := &tls.Certificate{}
	keyFile := f.clientKey
	if _, err := os.Stat(s.Path(f.client)); err == nil {
		list, err := s.CertificatesIn(f.client)
		if err != nil {
			return nil, err
		}
		for _, c := range list {
			out.Certificate = append(out.Certificate, c.Raw)
		}
		if keyFile == "" {
			keyFile = f.client
		}
	} else {
		if e == nil {
			return nil, fmt.Errorf("client %s: there is no such file, and no estate here", f.client)
		}
		h, err := s.Found(ctx, e, f.client)
		if err != nil {
			return nil, err
		}
		parts, err := delivery.Bundle(ctx, e, h, nil)
		if err != nil {
			return nil, err
		}
		out.Certificate = append(out.Certificate, h.Raw)
		for _, c := range parts.Intermediates {
			out.Certificate = append(out.Certificate, c.Raw)
		}
		if keyFile == "" {
			signer, err := delivery.DraftSigner(ctx, e, h)
			if err == nil && signer == nil {
				err = fmt.Errorf("client %s: its private key is not here: give it with --client-key FILE", f.client)
			}
			out.PrivateKey = signer
			return out, err
		}
	}
	signer, err := delivery.OpenKeyFile(ctx, s.Path(keyFile), f.client, (*session.Passphrases)(s))
	out.PrivateKey = signer
	return out, err
}

// report shows what was found, and compares where that was asked.
func (f *flags) report(ctx context.Context, s *session.Session, l *probes.Looking, outcomes []probes.Outcome,
	faults int) error {
	var rows []endpoint.Row
	bad := faults > 0
	for _, o := range outcomes {
		rows = append(rows, o.Row)
		bad = bad || !o.Trusted
	}
	changes, kept, err := f.sinceBefore(s, rows)
	if err != nil {
		return err
	}
	like, err := f.likeness(ctx, l, rows)
	if err != nil {
		return err
	}
	if s.JSON {
		if f.before != "" && !kept || f.like != "" {
			err = s.PrintJSON(append(append([]endpoint.Change{}, changes...), like...))
		} else {
			err = s.PrintJSON(append([]endpoint.Row{}, rows...))
		}
	} else {
		draw(s, outcomes)
		drawChanges(s, "Since then", changes)
		drawChanges(s, "In what it differs from "+f.like, like)
		if kept {
			s.Out.Say("%s %s   compare with it later by the same command", s.Out.Paint(term.Good, "✓ kept in"),
				term.Safe(f.before))
		}
	}
	if err == nil && bad {
		return &session.Status{Code: session.No}
	}
	return err
}

// sinceBefore keeps the rows in a file, or compares them with those that were kept in it.
func (f *flags) sinceBefore(s *session.Session, rows []endpoint.Row) (changes []endpoint.Change, kept bool, err error) {
	if f.before == "" {
		return nil, false, nil
	}
	path := s.Path(f.before)
	if _, err := os.Lstat(path); errors.Is(err, os.ErrNotExist) {
		data, err := endpoint.Keep(rows)
		if err == nil {
			err = s.EstateEnv().Disk.New(path, data, 0o644)
		}
		return nil, true, err
	}
	data, err := disk.Read(path, 64<<20)
	if err != nil {
		return nil, false, err
	}
	before, err := endpoint.ReadKept(data)
	if err != nil {
		return nil, false, fmt.Errorf("%s: %w", f.before, err)
	}
	return endpoint.Compare(before, rows), false, nil
}

// likeness says in what endpoints differ from one that is right.
func (f *flags) likeness(ctx context.Context, l *probes.Looking, rows []endpoint.Row) (out []endpoint.Change,
	err error) {
	if f.like == "" {
		return nil, nil
	}
	t, err := probe.ParseTarget(f.like)
	if err != nil {
		return nil, &session.Status{Code: session.Usage, Err: err}
	}
	good := l.All(ctx, []probe.Target{t}, nil)[0].Row
	for _, r := range rows {
		words := endpoint.Peers.Differences(good, r)
		what := "differs"
		if len(words) == 0 {
			what, words = "alike", []string{"in nothing"}
		}
		out = append(out, endpoint.Change{Endpoint: r.Endpoint, What: what, Words: words})
	}
	return out, nil
}

// label is a name for the terminal.
func label(o probes.Outcome) string { return strings.TrimSuffix(o.Row.Endpoint, ":443") }
