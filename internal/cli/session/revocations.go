package session

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/app/revoke/evidence"
	"ironseal/internal/estate"
	"ironseal/internal/fetch"
	"ironseal/internal/term"
	"ironseal/pki/cert"
	"ironseal/pki/ocsp"
	"ironseal/pki/path"
	"ironseal/pki/status"
)

// Revocations are the options that say what tells whether certificates were revoked.
type Revocations struct {
	files          []string
	require, fetch bool
	local          bool

	given evidence.Gathered // what is known before anything is fetched
	seen  evidence.Cache    // what was fetched before
}

// Flags adds them to a command.
func (r *Revocations) Flags(c *cobra.Command) {
	fl := c.Flags()
	fl.StringArrayVar(&r.files, "revocations", nil, "a `FILE` of revocation lists, or an OCSP answer; may be repeated")
	fl.BoolVar(&r.require, "require-revocation", false, "fail if the revocation status is unknown")
	fl.BoolVar(&r.fetch, "fetch", false, "fetch lists and answers from the addresses in the certificates")
	fl.BoolVar(&r.local, "fetch-local", false, "fetch from loopback and private addresses too")
}

// Asked reports whether anybody is to be asked.
func (r *Revocations) Asked() bool { return len(r.files) > 0 || r.require || r.fetch }

func (r *Revocations) ask(s *Session) evidence.Ask {
	rules := fetch.Usual
	rules.Local = r.local
	return evidence.Ask{Fetch: r.fetch, Rules: rules, Random: s.Entropy(), Cache: &r.seen}
}

// Prepare reads the files, and what the estate published, once; e is nil if none exists.
func (r *Revocations) Prepare(ctx context.Context, s *Session, e *estate.Estate) (err error) {
	if r.local && !r.fetch {
		return Misused("--fetch-local says from where else to fetch: it goes with --fetch")
	}
	var unjudged []string
	if r.given.Lists, r.given.Answers, unjudged, err = s.Evidence(r.files); err != nil {
		return err
	}
	for _, u := range unjudged {
		s.Errs.Say("%s", s.Errs.Paint(term.Careful, "(it counts as not there: "+term.Safe(u)+")"))
	}
	if e == nil {
		return nil
	}
	return r.given.OfEstate(ctx, e)
}

// Into lets a question about chains ask for revocations as well: by what was given, and what
// can be fetched from the addresses in certificates. It may be called by several at once.
func (r *Revocations) Into(ctx context.Context, s *Session, q *path.Question, list []*cert.Certificate,
	stapled []byte) (failed []error) {
	g := evidence.Gather(ctx, list, r.ask(s))
	g.Add(r.given)
	g.Signers, g.Late = append(g.Signers, list...), status.ClocksDiffer
	if len(stapled) > 0 {
		if a, err := ocsp.ReadResponse(stapled); err == nil {
			g.Answers = append(g.Answers, a)
		} else {
			g.Failed = append(g.Failed, fmt.Errorf("what came stapled: %w", err))
		}
	}
	if r.Asked() || len(g.Lists)+len(g.Answers) > 0 {
		q.Status = status.New(g.Evidence, *q, r.require).Ask
	}
	return g.Failed
}

// TellFailed says from where nothing could be fetched.
func (s *Session) TellFailed(failed []error) {
	for _, f := range failed {
		s.Errs.Say("%s", s.Errs.Paint(term.Careful, "(nothing was fetched from "+term.Safe(s.Speller().Error(f))+")"))
	}
}
