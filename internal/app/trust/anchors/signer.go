package anchors

import (
	"context"
	"crypto"
	"fmt"

	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/estate"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/issue"
	"ironseal/pki/key"
	"ironseal/pki/kit"
	"ironseal/pki/lifecycle"
	"ironseal/pki/pkcs"
	"ironseal/pki/request"
)

// kitSigner signs kits with a key that is never written anywhere.
type kitSigner struct {
	signer crypto.Signer
	chain  [][]byte // its certificate first; the root left out
	leaf   *cert.Certificate
}

// newKitSigner makes a key, and has an authority certify it for kits. When that fails, the
// request is withdrawn.
func newKitSigner(ctx context.Context, e *estate.Estate, by string) (k *kitSigner, err error) {
	signer, err := key.Generate(key.P256, e.Env.Random)
	if err != nil {
		return nil, fmt.Errorf("kit key: %w", err)
	}
	pairs := []dn.Pair{{Type: "O", Value: e.Settings.Organisation.Name}}
	if c := e.Settings.Organisation.Country; c != "" {
		pairs = append([]dn.Pair{{Type: "C", Value: c}}, pairs...)
	}
	subject, err := dn.New(append(pairs, dn.Pair{Type: "CN", Value: kit.SignerName})...)
	if err != nil {
		return nil, fmt.Errorf("kit key: %w", err)
	}
	der, err := request.Draft(subject, ext.Set{}, signer, e.Env.Random)
	if err != nil {
		return nil, fmt.Errorf("kit key: %w", err)
	}
	r, err := request.Read(der)
	if err != nil {
		return nil, fmt.Errorf("kit key: %w", err)
	}
	if _, err := planKitSigner(ctx, e, intake.Received{Request: r}, by); err != nil {
		return nil, err // before anything is on record
	}
	received, _, faults := intake.Receive(ctx, e, []intake.Input{{Name: "the kit key's request", Data: der}}, "")
	if len(faults) > 0 {
		return nil, faults[0]
	}
	rec := received[0].Record
	defer func() {
		if err != nil {
			name := fmt.Sprintf("R%d", rec.Number)
			_, _ = intake.Decide(context.WithoutCancel(ctx), e, name, lifecycle.Withdrawn, "no kit was signed", false)
		}
	}()
	sheet, err := planKitSigner(ctx, e, received[0], by)
	if err != nil {
		return nil, err
	}
	k = &kitSigner{signer: signer}
	signErr := signing.Sign(ctx, e, []*signing.Sheet{sheet}, func(r signing.SignResult) {
		k.leaf, err = r.Certificate, r.Err
	})
	if signErr != nil || err != nil {
		if err == nil {
			err = signErr
		}
		return nil, err
	}
	k.chain = append(k.chain, k.leaf.Raw)
	for _, g := range sheet.Issuer.Line() {
		if !g.IsRoot() {
			k.chain = append(k.chain, g.Certificate.Raw)
		}
	}
	return k, nil
}

// planKitSigner plans the certificate of the kit key.
func planKitSigner(ctx context.Context, e *estate.Estate, r intake.Received, by string) (*signing.Sheet, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (*signing.Sheet, error) {
		p, err := signing.NewPlanning(ctx, e)
		if err != nil {
			return nil, err
		}
		ask := signing.SignAsk{Template: kit.SigningTemplate, By: by}
		if err := p.Learn(ctx, e, ask); err != nil {
			return nil, err
		}
		s, err := signing.PlanRead(ctx, e, p, ask, r.Record, r.Request, nil, 0)
		if err != nil {
			return nil, err
		}
		if bad := s.Plan.Findings.Refusing(); len(bad) > 0 {
			return nil, &issue.Refused{About: "the kit key's certificate", Findings: bad}
		}
		return s, nil
	})
}

// sign signs the list of hashes of a kit.
func (k *kitSigner) sign(e *estate.Estate, sums []byte) (kit.File, error) {
	data, err := pkcs.SignDetached(sums, k.signer, k.chain, e.Now(), e.Env.Random)
	return kit.File{Name: kit.SignatureFile, Data: data}, err
}
