package service

import (
	"context"
	"crypto/rsa"
	"errors"
	"fmt"
	"maps"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/estate"
	"ironseal/pki/key"
	"ironseal/pki/scep"
	"ironseal/pki/template"
)

// Registration opens and answers messages of SCEP in front of an authority: with a key of its own, never with the
// authority's.
type Registration struct {
	scep.Authority
	Line [][]byte // the certificates above its own, the issuer first
}

// Registration is what answers in front of an authority; nil if none exists yet.
func (s *Service) Registration(handle string) *Registration {
	if all := s.registrations.Load(); all != nil {
		return (*all)[handle]
	}
	return nil
}

// register keeps the registration certificates: one in front of each authority by which a template lets machines enrol
// by SCEP.
func (s *Service) register(ctx context.Context) error {
	e := s.Estate()
	if e.Settings.Serve.Machines == "" && e.Settings.Serve.Public == "" {
		return nil
	}
	list, faults := e.Templates()
	all := map[string]*Registration{}
	if before := s.registrations.Load(); before != nil {
		all = maps.Clone(*before)
	}
	failed := errors.Join(faults...)
	for _, t := range list {
		handle := t.Unattended.Authority
		if !t.Unattended.Allows(template.SCEP) {
			continue
		}
		r, err := s.registration(ctx, e, handle)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("the registration certificate in front of %s: %w", handle, err))
		}
		if r != nil {
			all[handle] = r
		}
	}
	s.registrations.Store(&all)
	return failed
}

func (s *Service) registration(ctx context.Context, e *estate.Estate, handle string) (*Registration, error) {
	subject, err := e.Settings.Organisation.Subject("Registration of " + handle)
	if err != nil {
		return nil, err
	}
	got, err := own{s, e, "registration-" + handle, "the registration in front of " + handle, key.RSA3072, subject, nil,
		template.Registering, handle, s.Unlocked(handle), s.Unlocked}.kept(ctx)
	if got.record == nil {
		return nil, err
	}
	k, ok := got.signer.(*rsa.PrivateKey)
	if !ok {
		return nil, errors.Join(err, errors.New("its key is not of RSA: remove its files to let it ask again"))
	}
	chain, e2 := enrol.Chain(ctx, e, *got.record)
	if e2 != nil {
		return nil, errors.Join(err, e2)
	}
	line, e2 := e.Line(ctx, *got.record)
	r := &Registration{Authority: scep.Authority{Certificate: got.record.Certificate, Key: k}, Line: chain[1:]}
	if len(line) > 0 && line[len(line)-1].SelfIssued() {
		r.Line = append(r.Line, line[len(line)-1].Raw)
	}
	return r, errors.Join(err, e2)
}
