package trust

import (
	"context"
	"fmt"

	"ironseal/internal/api"
	"ironseal/internal/app/revoke/evidence"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/kit"
	"ironseal/pki/label"
	"ironseal/pki/path"
	"ironseal/pki/span"
)

// checkKit says whether a kit is what was packed.
func checkKit(ctx context.Context, s *session.Session, name string, anchorFiles []string) error {
	files, err := anchors.OpenKit(s.Path(name))
	if err != nil {
		return err
	}
	anchors, err := s.Anchors(ctx, anchorFiles)
	if err != nil {
		return err
	}
	q := path.Question{Anchors: anchors, Now: s.Moment()}
	e, err := s.EstateIfAny(ctx)
	if err == nil && e != nil {
		q, err = evidence.Acted(ctx, e, q)
	}
	if err != nil {
		return err
	}
	c, err := kit.Check(files, q)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if s.JSON {
		err = s.PrintJSON(api.KitCheckOf(c))
	} else {
		printKitCheck(s, name, c)
	}
	if err == nil && !c.Good() {
		return &session.Status{Code: session.No}
	}
	return err
}

func printKitCheck(s *session.Session, name string, c kit.Checked) {
	if c.Good() {
		s.Out.Say("%s %s is what was packed: %s, signed %s", s.Out.Paint(term.Good, "✓"), term.Safe(name),
			span.Count(c.Files, "file"), c.When.Format("2006-01-02 15:04 UTC"))
	} else {
		s.Out.Say("%s %s: do not install it", s.Out.Paint(term.Bad, "✗"), term.Safe(name))
	}
	for _, f := range c.Faults {
		s.Out.Item(s.Out.Paint(term.Bad, "✗"), term.Safe(f))
	}
	for _, f := range c.Against {
		s.Out.Item(s.Out.Paint(term.Bad, "✗"), term.Safe(f))
	}
	if !c.Signed {
		s.Out.Item(s.Out.Paint(term.Bad, "✗"), "it is not signed: pack it again with --sign-by AUTHORITY, or compare "+
			"the fingerprints on its page by hand")
	}
	if c.Signer != nil {
		sum := c.Signer.SHA256()
		s.Out.Item(s.Out.Paint(term.Quiet, "·"), fmt.Sprintf("signed by %s, certified by %s, SHA-256 %s",
			term.Safe(c.Signer.Title()), term.Safe(c.Signer.Issuer.CommonName()), label.Colons(sum[:])))
	}
}
