package files

import (
	"context"
	"encoding/asn1"
	"errors"
	"slices"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ironseal/internal/api"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/client"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/path"
)

const aboutVerify = `Judge a certificate as a client does that trusts only the given roots, and say for every step of
the chain why it holds or fails. FILE may hold the whole chain. Without --anchor, the estate's roots
count. Its intermediates count only if --chain or FILE has them, as for a client.

The search tries all generations, link and cross-certificates, the best way first. If no chain holds,
the nearest one is explained. With --path nothing is searched: the certificates in the files are the
chain, in the given order, the leaf first; --chain then gives only the signers of revocation lists
and OCSP answers.

Revocation is checked by lists and OCSP answers: those given with --revocations, those that --fetch
gets from the addresses in the certificates, and those that the estate published. With
--require-revocation it fails if the status is unknown. What is revoked on record always fails.

Real clients differ from the standard. With --by it says for each kind whether it accepts, and on
which measured fact that rests.`

// Verify is ironseal verify.
func Verify(s *session.Session) *cobra.Command {
	var name, usageName string
	var anchors, chain, policies, by []string
	var exact bool
	var q path.Question
	var revocations session.Revocations
	c := session.Reading(&cobra.Command{
		Use:   "verify FILE...",
		Short: "Check whether a client would accept a certificate, and why",
		Long:  aboutVerify,
		Example: `  ironseal verify ../handed-out/booking.ternbay.example.with-issuers.pem --name booking.ternbay.example
  ironseal verify ../handed-out/booking.ternbay.example.with-issuers.pem --name booking --anchor ../handed-out/root.pem
  ironseal verify --path ../handed-out/booking.ternbay.example.with-issuers.pem
  ironseal verify ../handed-out/booking.ternbay.example.with-issuers.pem --policy 1.3.6.1.4.1.32473.1
  ironseal verify ../handed-out/booking.ternbay.example.with-issuers.pem --name booking.ternbay.example --by all
  ironseal verify ../handed-out/booking.ternbay.example.with-issuers.pem --revocations ../public/services.lists.pem`,
		Args: session.AtLeast(1, "a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := s.CertificatesInAll(args)
			kinds, clientsErr := session.Clients(by)
			if err := errors.Join(err, clientsErr); err != nil {
				return err
			}
			q.Now, q.Name = s.Moment(), name
			if q.Policies, err = policiesAsked(policies); err != nil {
				return err
			}
			if q.Usage, err = usageAsked(usageName, name); err != nil {
				return err
			}
			if q.Anchors, err = s.Anchors(cmd.Context(), anchors); err != nil {
				return err
			}
			if err := askRevocations(cmd.Context(), s, &revocations, &q, list, chain); err != nil {
				return err
			}
			leaf, v, err := judged(s, list, chain, exact, q)
			if err == nil {
				err = unasked(cmd.Context(), s, leaf, &v)
			}
			if err != nil {
				return err
			}
			return printVerdict(s, leaf, name, v, kinds)
		},
	})
	fl := c.Flags()
	policyFlags(fl, &policies, &q)
	revocations.Flags(c)
	session.ClientsFlag(c, "by", &by,
		"judge as this kind of `CLIENT` does, or all; decides the exit status; may be repeated")
	fl.StringVar(&name, "name", "", "the `HOST` that the client connects to: a name or an address")
	fl.StringVar(&usageName, "usage", "", "the usage that the client needs; serverAuth when --name is given")
	fl.StringArrayVar(&anchors, "anchor", nil, "a `FILE` of trusted roots; may be repeated")
	fl.StringArrayVar(&chain, "chain", nil, "a `FILE` of further certificates; may be repeated")
	fl.BoolVar(&exact, "path", false, "take the certificates as they stand, in the order given, and search for nothing")
	return c
}

// askRevocations lets the question ask for revocations too; what the estate published counts
// where there is one.
func askRevocations(ctx context.Context, s *session.Session, r *session.Revocations, q *path.Question,
	list []*cert.Certificate, chain []string) error {
	e, err := s.EstateIfAny(ctx)
	if err != nil {
		return err
	}
	if err := r.Prepare(ctx, s, e); err != nil {
		return err
	}
	more, err := s.CertificatesInAll(chain)
	if err != nil {
		return err
	}
	s.TellFailed(r.Into(ctx, s, q, slices.Concat(list, more, q.Anchors), nil))
	if e != nil {
		compromise.Known(ctx, e).Into(q)
	}
	return nil
}

// judged judges a chain as it stands, or looks for one.
func judged(s *session.Session, list []*cert.Certificate, chain []string, exact bool, q path.Question) (
	*cert.Certificate, path.Verdict, error) {
	if !exact {
		return searched(s, list, chain, q)
	}
	return list[0], path.Exactly(list, q), nil
}

// searched looks for a chain, among the certificates of the files and further ones.
func searched(s *session.Session, list []*cert.Certificate, chain []string, q path.Question) (*cert.Certificate,
	path.Verdict, error) {
	more, err := s.CertificatesInAll(chain)
	if err != nil {
		return nil, path.Verdict{}, err
	}
	leaf := path.LeafOf(list)
	v := path.Verify(leaf, append(append([]*cert.Certificate(nil), list...), more...), q)
	v.Findings = append(v.Findings, path.OrderFindings(list)...)
	return leaf, v, nil
}

// policyFlags are the questions about policies (RFC 5280 section 6.1.1).
func policyFlags(fl *pflag.FlagSet, policies *[]string, q *path.Question) {
	fl.StringArrayVar(policies, "policy", nil,
		"a certificate policy `OID` that is acceptable, where one is required; may be repeated")
	fl.BoolVar(&q.RequirePolicy, "require-policy", false, "a policy must hold for the whole chain")
	fl.BoolVar(&q.NoMapping, "no-policy-mapping", false, "authorities may not map policies")
	fl.BoolVar(&q.NoAnyPolicy, "no-any-policy", false, "the policy that stands for all does not count")
}

// unasked says what the records, where there are any, know against a certificate of which no chain
// was found, since no one has asked them then, and of an authority's that it was replaced. It says as well that an
// incident is open about its key or
// that of an authority above, which a client cannot know.
func unasked(ctx context.Context, s *session.Session, c *cert.Certificate, v *path.Verdict) error {
	e, err := s.EstateIfAny(ctx)
	if err != nil || e == nil {
		return err
	}
	if c.IsAuthority() || v.Steps[len(v.Steps)-1].Role != path.Anchor {
		found, err := compromise.Against(ctx, e, c)
		if err != nil {
			return err
		}
		for _, f := range found {
			if !v.Reasons().Has(f.Code) {
				v.Findings = append(v.Findings, f)
			}
		}
		v.Valid = len(v.Reasons()) == 0
	}
	list, err := compromise.Incidents(ctx, e.Records)
	for _, st := range v.Steps {
		for _, i := range compromise.About(list, st.Certificate.Key.Fingerprint()) {
			f := finding.New(finding.SuspectedKey, "%s", i.Since())
			f.Severity = finding.Warn // clients continue until it is revoked
			v.Findings = append(v.Findings, f.WithNext(advice.To("see the incident", advice.ShowIncident,
				"incident", i.Name)))
		}
	}
	return err
}

func policiesAsked(typed []string) ([]asn1.ObjectIdentifier, error) {
	var out []asn1.ObjectIdentifier
	for _, t := range typed {
		id, ok := dn.ParseOID(t)
		if !ok {
			return nil, session.Misused("--policy %q: a policy is a dotted identifier, such as 1.3.6.1.4.1.32473.1", t)
		}
		out = append(out, id)
	}
	return out, nil
}

func usageAsked(typed, name string) (asn1.ObjectIdentifier, error) {
	if typed == "" && name != "" {
		typed = "serverAuth"
	}
	if typed == "" {
		return nil, nil
	}
	id, err := ext.ParseExtendedUsage(typed)
	if err != nil {
		return nil, &session.Status{Code: session.Usage, Err: err}
	}
	return id, nil
}

func printVerdict(s *session.Session, leaf *cert.Certificate, name string, v path.Verdict,
	kinds []client.Kind) error {
	answers, refused := judgeBy(kinds, v)
	if s.JSON {
		shown := api.Verdict{Valid: v.Valid, Subject: leaf.Subject.String(), Name: name,
			Findings: api.FindingsOf(v.Findings, s.Speller()), Checks: v.Checks,
			Clients: append([]client.Answer{}, answers...)}
		for _, st := range v.Steps {
			shown.Steps = append(shown.Steps, api.Step{Role: st.Role, Subject: st.Certificate.Subject.String(),
				Serial: st.Certificate.SerialHex(), Good: st.Good(), Words: st.Words, RevocationStatus: st.Status,
				Findings: api.FindingsOf(st.Findings, s.Speller())})
		}
		if err := s.PrintJSON(shown); err != nil {
			return err
		}
	} else {
		title := leaf.Title()
		if name != "" {
			title += " for a client that connects to " + name
		}
		s.Out.Verdict(title, v)
		for _, u := range v.Unused {
			s.Out.Say("%s", s.Out.Paint(term.Quiet, "  not part of this chain: "+term.Safe(u.Title())))
		}
		if len(kinds) > 0 {
			printAnswers(s, kinds, answers)
		}
	}
	if len(kinds) == 0 && !v.Valid || refused {
		return &session.Status{Code: session.No, Err: nil}
	}
	return nil
}
