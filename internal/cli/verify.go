package cli

import (
	"context"
	"encoding/asn1"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/path"
)

func (s *Session) verifyCommand() *cobra.Command {
	var name, usageName string
	var anchors, chain, policies []string
	var exact bool
	var q path.Question
	c := reading(&cobra.Command{
		Use:   "verify FILE...",
		Short: "Say whether a client would accept a certificate, and why",
		Long: `Judge a certificate as a client does that trusts only the anchors given, and say
for every step of the chain why it holds or fails. FILE may hold the whole chain.

Without --anchor, the roots of the estate are the anchors, and its authorities
are known as issuers only if --chain or FILE gives them: as a client sees it.

The search goes through several generations, link and cross certificates, best
way first; where no chain holds, the one that came nearest is explained. With
--path nothing is searched: the certificates in the files are the chain, in the
order given, the leaf and then each issuer upward.`,
		Example: `  ironseal verify ../handed-out/booking.ternbay.example.with-issuers.pem --name booking.ternbay.example
  ironseal verify ../handed-out/booking.ternbay.example.with-issuers.pem --name booking --anchor ../handed-out/root.pem
  ironseal verify --path ../handed-out/booking.ternbay.example.with-issuers.pem
  ironseal verify ../handed-out/booking.ternbay.example.with-issuers.pem --policy 1.3.6.1.4.1.32473.1`,
		Args: atLeast(1, "a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := s.certificatesInAll(args)
			if err != nil {
				return err
			}
			q.Now, q.Name = s.now(), name
			if q.Policies, err = policiesAsked(policies); err != nil {
				return err
			}
			if q.Usage, err = usageAsked(usageName, name); err != nil {
				return err
			}
			if q.Anchors, err = s.anchors(cmd.Context(), anchors); err != nil {
				return err
			}
			if exact {
				if len(chain) > 0 {
					return usage("verify: --path takes the certificates of the files as the chain; --chain is for a " +
						"search")
				}
				v := path.Exactly(list, q)
				v.Findings = append(v.Findings, s.onRecord(cmd.Context(), list[0])...)
				return s.printVerdict(list[0], name, v)
			}
			more, err := s.certificatesInAll(chain)
			if err != nil {
				return err
			}
			others := append(append([]*cert.Certificate(nil), list...), more...)
			leaf := path.LeafOf(list)
			v := path.Verify(leaf, others, q)
			v.Findings = append(v.Findings, path.OrderFindings(list)...)
			v.Findings = append(v.Findings, s.onRecord(cmd.Context(), leaf)...)
			return s.printVerdict(leaf, name, v)
		},
	})
	fl := c.Flags()
	fl.StringVar(&name, "name", "", "the `HOST` that the client connects to: a name or an address")
	fl.StringVar(&usageName, "usage", "", "the usage that the client needs; serverAuth when --name is given")
	fl.StringArrayVar(&anchors, "anchor", nil, "a `FILE` of trusted roots; may be repeated")
	fl.StringArrayVar(&chain, "chain", nil, "a `FILE` of further certificates; may be repeated")
	fl.StringArrayVar(&policies, "policy", nil,
		"a certificate policy `OID` that is acceptable, where one is required; may be repeated")
	fl.BoolVar(&q.RequirePolicy, "require-policy", false, "a policy must hold for the whole chain")
	fl.BoolVar(&q.NoMapping, "no-policy-mapping", false, "authorities may not map policies")
	fl.BoolVar(&q.NoAnyPolicy, "no-any-policy", false, "the policy that stands for all does not count")
	fl.BoolVar(&exact, "path", false, "take the certificates as they stand, in the order given, and search for nothing")
	return c
}

// onRecord says what the records, where there are any, know against a certificate
// that clients may accept all the same.
func (s *Session) onRecord(ctx context.Context, c *cert.Certificate) finding.List {
	e, err := s.estate(ctx)
	if err != nil {
		return nil // verify needs no estate
	}
	return e.KnownAgainst(ctx, c)
}

func policiesAsked(typed []string) ([]asn1.ObjectIdentifier, error) {
	var out []asn1.ObjectIdentifier
	for _, t := range typed {
		id, ok := dn.ParseOID(t)
		if !ok {
			return nil, usage("--policy %q: a policy is a dotted identifier, such as 1.3.6.1.4.1.32473.1", t)
		}
		out = append(out, id)
	}
	return out, nil
}

// certificatesInAll reads the certificates of several files.
func (s *Session) certificatesInAll(files []string) ([]*cert.Certificate, error) {
	var out []*cert.Certificate
	for _, f := range files {
		list, err := s.certificatesIn(f)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
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
		return nil, &status{Usage, err}
	}
	return id, nil
}

// certificatesIn reads the certificates of a file.
func (s *Session) certificatesIn(file string) ([]*cert.Certificate, error) {
	file = s.path(file)
	var data []byte
	var err error
	if file == "-" {
		data, err = s.stdin()
	} else {
		data, err = disk.Read(file, bundle.MostBytes)
	}
	if err != nil {
		return nil, err
	}
	c, err := bundle.Read(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	for _, p := range c.Problems {
		return nil, fmt.Errorf("%s: %w", file, p)
	}
	var out []*cert.Certificate
	for _, o := range c.Of(bundle.Certificate) {
		x, err := cert.Read(o.DER)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		out = append(out, x)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: there is no certificate in it; it holds a %s", file, c.Objects[0].Kind)
	}
	return out, nil
}

func (s *Session) anchors(ctx context.Context, files []string) ([]*cert.Certificate, error) {
	if len(files) > 0 {
		return s.certificatesInAll(files)
	}
	e, err := s.estate(ctx)
	if errors.Is(err, estate.ErrNone) {
		return nil, usage("verify: give the trusted root: --anchor FILE")
	}
	if err != nil {
		return nil, err
	}
	roots, _, err := e.Roots(ctx)
	if err == nil && len(roots) == 0 {
		err = usage("verify: this estate has no root yet: give one with --anchor FILE")
	}
	if !s.json {
		s.errs.Say("(trusting the roots of this estate; others with --anchor FILE)")
	}
	return roots, err
}

// verdictView is a verdict in JSON.
type verdictView struct {
	Valid    bool         `json:"valid"`
	Subject  string       `json:"subject"`
	Name     string       `json:"name,omitempty"`
	Steps    []stepView   `json:"steps"`
	Findings finding.List `json:"findings"`
	Checks   int          `json:"signatures_checked"`
}

type stepView struct {
	Role     path.Role    `json:"role"`
	Subject  string       `json:"subject"`
	Serial   string       `json:"serial"`
	Good     bool         `json:"good"`
	Words    string       `json:"words"`
	Findings finding.List `json:"findings"`
}

func (s *Session) printVerdict(leaf *cert.Certificate, name string, v path.Verdict) error {
	if s.json {
		view := verdictView{Valid: v.Valid, Subject: leaf.Subject.String(), Name: name,
			Findings: append(finding.List{}, v.Findings...), Checks: v.Checks}
		for _, st := range v.Steps {
			view.Steps = append(view.Steps, stepView{st.Role, st.Certificate.Subject.String(),
				st.Certificate.SerialHex(), st.Good(), st.Words, append(finding.List{}, st.Findings...)})
		}
		if err := s.printJSON(view); err != nil {
			return err
		}
	} else {
		title := leaf.Title()
		if name != "" {
			title += " for a client that connects to " + name
		}
		s.out.Verdict(title, v)
		for _, u := range v.Unused {
			s.out.Say("%s", s.out.Paint(term.Quiet, "  not part of this chain: "+term.Safe(u.Title())))
		}
	}
	if !v.Valid {
		return &status{No, nil}
	}
	return nil
}
