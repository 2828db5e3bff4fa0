package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"math/big"
	"net"
	"slices"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/estate"
	"ironseal/pki/key"
	"ironseal/pki/san"
)

// Identity is the certificate that the desk presents.
type Identity struct {
	TLS       *tls.Certificate
	Until     time.Time
	Temporary bool   // no one signed it yet: it is self-signed
	Request   string // that waits to be signed, such as R7; "" for none
}

// Identity is what the desk presents now; nil before the first one was made.
func (s *Service) Identity() *Identity { return s.identity.Load() }

// desk is the desk's own certificate.
func (s *Service) desk(e *estate.Estate) (own, error) {
	set := e.Settings.Serve
	names, err := deskNames(set)
	if err != nil || len(names) == 0 {
		return own{}, err
	}
	subject, err := e.Settings.Organisation.Subject(names[0].Value())
	ask, any := asks(set.Publish) // whoever signs its lists unattended signs this too
	may := func(handle string) bool { return len(ask.Only) == 0 || slices.Contains(ask.Only, handle) }
	return own{s, e, "desk", "the desk of this server", key.P256, subject, names, set.Template, set.Authority, any,
		may}, err
}

// certify keeps the desk's certificate: it asks for one if none exists, and for another before it ends.
func (s *Service) certify(ctx context.Context) error {
	e := s.Estate()
	if e.Settings.Serve.Desk == "" && e.Settings.Serve.Machines == "" {
		return nil
	}
	o, err := s.desk(e)
	if err != nil {
		return err
	}
	k, err := o.keyed(o.stem)
	if err != nil {
		return err
	}
	found, err := issued(ctx, e, k)
	if err != nil {
		return err
	}
	if found == nil { // until its request is signed, the desk presents a certificate that it signed itself
		if now := s.identity.Load(); now == nil || now.Temporary && e.Now().After(now.Until.Add(-time.Hour)) {
			temporary, err := selfSigned(e, k, o.names)
			if err != nil {
				return err
			}
			s.identity.Store(temporary)
		}
	}
	got, err := o.kept(ctx)
	if got.record != nil {
		if before := s.identity.Load(); before != nil && !before.Temporary && !before.Until.Equal(got.record.NotAfter) {
			s.o.Log.Info("the desk has a new certificate", "serial", got.record.SerialHex(), "until",
				got.record.NotAfter)
		}
		chain, e := enrol.Chain(ctx, e, *got.record)
		if e != nil {
			return errors.Join(err, e)
		}
		s.identity.Store(&Identity{TLS: &tls.Certificate{Certificate: chain, PrivateKey: got.signer},
			Until: got.record.NotAfter, Request: got.request})
		return err
	}
	if now := s.identity.Load(); now != nil {
		next := *now
		next.Request = got.request
		s.identity.Store(&next)
	}
	return err
}

func deskNames(set estate.Serve) (out []san.Name, err error) {
	for _, typed := range set.Names {
		n, err := san.ParseTyped(typed)
		if err != nil {
			return nil, fmt.Errorf("serve.desk-names: %w", err)
		}
		out = append(out, n)
	}
	return out, nil
}

// selfSigned is what the desk presents until its request is signed. Clients warn of it.
func selfSigned(e *estate.Estate, k keyed, names []san.Name) (*Identity, error) {
	now := e.Now()
	t := &x509.Certificate{SerialNumber: big.NewInt(now.Unix()), NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(7 * 24 * time.Hour), Subject: pkix.Name{CommonName: "temporary: not signed yet"},
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, n := range names {
		if ip := net.ParseIP(n.Value()); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, n.Value())
		}
	}
	der, err := x509.CreateCertificate(e.Env.Random, t, t, k.signer.Public(), k.signer)
	if err != nil {
		return nil, err
	}
	return &Identity{TLS: &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: k.signer}, Until: t.NotAfter,
		Temporary: true}, nil
}
