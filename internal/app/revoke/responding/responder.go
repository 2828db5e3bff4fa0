// Package responding makes OCSP answers: for all certificates at once, to be handed out as
// they are, or one at a time as they are asked for.
//
// Answers are signed by a key of their own, to which the very generation that they are about
// gives a certificate; the authority's own key is opened for that certificate only. Keys for
// a batch are made for one run and thrown away, so none needs a renewal, and none can be stolen.
package responding

import (
	"context"
	"crypto"
	"fmt"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/request"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// Template is the template of responders' certificates.
const Template = "ocsp-signing"

// Responder answers about the certificates of one generation.
type Responder struct {
	Issuer      *hierarchy.Generation
	Certificate *cert.Certificate
	Signer      crypto.Signer
	plan        issue.Plan
	template    template.Template
}

// newResponder makes a key, or finds the one that an agent holds in a place, and has a generation certify it until a
// moment. Nothing is on record yet.
func newResponder(ctx context.Context, e *estate.Estate, g *hierarchy.Generation, until time.Time,
	place string) (*Responder, error) {
	r := &Responder{Issuer: g}
	var err error
	if r.template, err = e.Template(Template); err != nil {
		return nil, err
	}
	if r.Signer, err = signerIn(ctx, e, place); err != nil {
		return nil, err
	}
	if r.plan, err = planResponder(ctx, e, r, until); err != nil {
		return nil, err
	}
	if bad := r.plan.Findings.Refusing(); len(bad) > 0 {
		return nil, &issue.Refused{About: "the certificate for OCSP answers about " + g.Name(), Findings: bad}
	}
	opened, err := e.Keys.Open(ctx, g.Certificate.Key, g.Authority.Handle, keystore.ForCertificate)
	if err != nil {
		return nil, err
	}
	defer opened.Close()
	serial, err := issue.Serial(e.Env.Random)
	if err != nil {
		return nil, err
	}
	r.Certificate, err = issue.Sign(r.plan, serial, opened, e.Env.Random)
	return r, err
}

// agentWait is how long an agent may take to sign an answer: a client waits for it.
const agentWait = 3 * time.Second

// signerIn is the key that an agent holds in a place, or a new one where no place is given.
func signerIn(ctx context.Context, e *estate.Estate, place string) (crypto.Signer, error) {
	if place == "" {
		return key.Generate(key.P256, e.Env.Random)
	}
	fresh, err := e.Keys.At(ctx, place)
	if err != nil {
		return nil, fmt.Errorf("the key that signs OCSP answers: %w", err)
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	if a := h.KeyTaken(fresh.Public); a != nil {
		return nil, fault.New(fault.Refused, "the key that signs OCSP answers is that of the authority %s: answers "+
			"need "+
			"a key of their own", a.Handle)
	}
	return keystore.Within(fresh.Signer(), agentWait), nil
}

func planResponder(ctx context.Context, e *estate.Estate, r *Responder, until time.Time) (issue.Plan, error) {
	subject, err := e.Settings.Organisation.Subject("OCSP answers of " + r.Issuer.Name())
	if err != nil {
		return issue.Plan{}, err
	}
	if subject, err = subject.Keep(func(a dn.Attribute) bool {
		return a.Short() == "CN" ||
			a.Short() == "O"
	}); err != nil {
		return issue.Plan{}, err
	}
	der, err := request.Draft(subject, ext.Set{}, r.Signer, e.Env.Random)
	if err != nil {
		return issue.Plan{}, err
	}
	q, err := request.Read(der)
	if err != nil {
		return issue.Plan{}, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return issue.Plan{}, err
	}
	_, newest, err := e.Records.Newest(ctx)
	if err != nil {
		return issue.Plan{}, err
	}
	days := int(until.Sub(e.Now()).Hours()/24) + 1
	life, err := span.Parse(fmt.Sprintf("%dd", days))
	if err != nil {
		return issue.Plan{}, err
	}
	if life.Longer(r.template.Longest, e.Now()) {
		life = r.template.Longest
	}
	return issue.New(issue.Input{Request: q, Template: r.template, Issuer: r.Issuer, Others: h, Now: e.Now(),
		Newest:       newest,
		BeginsBefore: e.Settings.BeginsBefore(), Rehearse: e.Rehearsal, Amend: issue.Amendments{Lifetime: life},
		Published: e.Published(r.Issuer, 0), Upkeep: true})
}

// record puts responders' certificates on record, in one act. Older generations and retired
// authorities sign these too, as they continue with their lists.
func record(ctx context.Context, e *estate.Estate, list []*Responder) (journal.Head, error) {
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		h, err := tx.Hierarchy()
		if err != nil {
			return nil, err
		}
		var told []event.SignedCertificate
		for _, r := range list {
			if why := h.Generation(r.Issuer.Name()).Idle(); why != "" {
				return nil, fault.New(fault.Changed, "%s certifies no responder any more: %s", r.Issuer.Label(),
					why)
			}
			id, err := tx.AnyGenerationID(r.Issuer)
			if err != nil {
				return nil, err
			}
			if _, err := tx.AddCertificate(store.NewCertificate{Certificate: r.Certificate, Issuer: id,
				TemplateName: r.template.Name, TemplateSHA: r.template.SHA256(), TemplateSource: r.template.Source(),
				Sheet: r.plan.Digest(), Waived: estate.Waived(r.plan.Findings)}); err != nil {
				return nil, err
			}
			told = append(told, event.SignedCertificate{Certificate: fmt.Sprintf("%x", r.Certificate.SHA256()),
				Serial: r.Certificate.SerialHex(), Title: r.Certificate.Title(), By: r.Issuer.Name(),
				Template: r.template.Name, Until: r.Certificate.NotAfter.Format(time.RFC3339),
				Sheet: fmt.Sprintf("%x", r.plan.Digest()), Waived: estate.WaivedCodes(r.plan.Findings)})
		}
		return []event.Record{event.On("OCSP answers", event.Signed{Signed: told})}, nil
	})
}
