package service

import (
	"context"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/ordering"
	"ironseal/internal/estate"
	"ironseal/internal/fetch/control"
)

// Nonces are those of ACME.
func (s *Service) Nonces() (*ordering.Nonces, error) {
	st := s.now.Load()
	st.opening.Lock()
	defer st.opening.Unlock()
	if st.nonces == nil {
		n, err := ordering.NewNonces(st.estate)
		if err != nil {
			return nil, err
		}
		st.nonces = n
	}
	return st.nonces, nil
}

// Looker looks at names that machines say they control.
func (s *Service) Looker() control.Looker {
	set := s.Settings()
	return control.Looker{Resolver: set.Resolver, HTTPPort: set.HTTPPort, TLSPort: set.TLSPort, Local: set.Local,
		Own: set.Own()}
}

// How often it is recorded that machines fetched their certificates, and how many wait for that at most.
const (
	deliverEach = time.Second
	mostToTell  = 10_000
)

// Delivered remembers that a machine fetched its certificate: it is recorded soon. Where a server is stopped before,
// the records do not know it, and the machine fetches it again or not.
func (s *Service) Delivered(c estate.CertificateRecord, to string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.delivered) < mostToTell {
		s.delivered = append(s.delivered, enrol.Delivery{Certificate: c, To: to})
	}
}

// deliver records what machines fetched.
func (s *Service) deliver(ctx context.Context) {
	s.mu.Lock()
	list := s.delivered
	s.delivered = nil
	s.mu.Unlock()
	if len(list) == 0 {
		return
	}
	err := enrol.Deliver(context.WithoutCancel(ctx), s.Estate(), list)
	s.outcome("recording what machines fetched", err)
}
