package service

import (
	"context"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// The desk's keys and the requests for them stand in the folder of servers. A server has to start with nobody there, so
// its TLS key is a plain file that only its owner can read.

// Stems of the files of the key that is used, and of the one that takes its place.
const (
	presentStem = "desk"
	nextStem    = "desk-next"
)

// Identity is the certificate that the desk presents.
type Identity struct {
	TLS       *tls.Certificate
	Until     time.Time
	Temporary bool   // nobody signed it yet: it is self-signed
	Request   string // that waits to be signed, such as R7; "" for none
}

// Identity is what the desk presents now; nil before the first one was made.
func (s *Service) Identity() *Identity { return s.identity.Load() }

// keyed is a key of the desk with the request for it.
type keyed struct {
	signer crypto.Signer
	public key.Public
	der    []byte // the request
}

// certify keeps the desk's certificate: it asks for one where there is none, and for another before it ends.
func (s *Service) certify(ctx context.Context) error {
	e := s.Estate()
	set := e.Settings.Serve
	if set.Desk == "" && set.Machines == "" {
		return nil
	}
	names, err := deskNames(set)
	if err != nil {
		return err
	}
	present, err := s.keyed(e, presentStem, names)
	if err != nil {
		return err
	}
	found, err := issued(ctx, e, present)
	if err != nil {
		return err
	}
	if found == nil {
		return s.asking(ctx, e, present, names)
	}
	chain, err := enrol.Chain(ctx, e, *found)
	if err != nil {
		return err
	}
	s.identity.Store(&Identity{TLS: &tls.Certificate{Certificate: chain, PrivateKey: present.signer},
		Until: found.NotAfter})
	if !renewable(e.Now(), found, names) {
		return nil
	}
	return s.renew(ctx, e, names)
}

// renewable reports whether another certificate should take the place of this one: two thirds of its life are over,
// or it names other hosts than the settings.
func renewable(now time.Time, c *estate.CertificateRecord, names []san.Name) bool {
	life := c.NotAfter.Sub(c.NotBefore)
	missing := slices.ContainsFunc(names, func(n san.Name) bool {
		return !slices.ContainsFunc(c.Names, func(o san.Name) bool { return o.Value() == n.Value() })
	})
	return missing || now.After(c.NotAfter.Add(-life/3))
}

// renew makes the next key, and lets it take its place once its certificate is there.
func (s *Service) renew(ctx context.Context, e *estate.Estate, names []san.Name) error {
	next, err := s.keyed(e, nextStem, names)
	if err != nil {
		return err
	}
	found, err := issued(ctx, e, next)
	if err == nil && found == nil {
		var number string
		if number, err = s.request(ctx, e, next); err == nil {
			now := *s.identity.Load()
			now.Request = number
			s.identity.Store(&now)
			found, err = s.signOwn(ctx, e, number, next)
		}
	}
	if err != nil || found == nil {
		return err
	}
	// A crash between the two leaves a key without a request file; the request is then made again.
	from, to := s.identityFiles(nextStem), s.identityFiles(presentStem)
	if err := errors.Join(disk.Rename(from[1], to[1]), disk.Rename(from[0], to[0])); err != nil {
		return err
	}
	chain, err := enrol.Chain(ctx, e, *found)
	if err != nil {
		return err
	}
	s.identity.Store(&Identity{TLS: &tls.Certificate{Certificate: chain, PrivateKey: next.signer},
		Until: found.NotAfter})
	s.o.Log.Info("the desk has a new certificate", "serial", found.SerialHex(), "until", found.NotAfter)
	return nil
}

// asking hands in the request for a key that has no certificate. Until it is signed, the desk presents a
// certificate that it signed itself.
func (s *Service) asking(ctx context.Context, e *estate.Estate, k keyed, names []san.Name) error {
	if now := s.identity.Load(); now == nil || now.Temporary && e.Now().After(now.Until.Add(-time.Hour)) {
		temporary, err := selfSigned(e, k, names)
		if err != nil {
			return err
		}
		s.identity.Store(temporary)
	}
	k, err := s.renamed(e, k, names)
	if err != nil {
		return err
	}
	number, err := s.request(ctx, e, k)
	if err != nil {
		return err
	}
	now := *s.identity.Load()
	now.Request = number
	s.identity.Store(&now)
	found, err := s.signOwn(ctx, e, number, k)
	if err != nil || found == nil {
		return err
	}
	chain, err := enrol.Chain(ctx, e, *found)
	if err != nil {
		return err
	}
	s.identity.Store(&Identity{TLS: &tls.Certificate{Certificate: chain, PrivateKey: k.signer}, Until: found.NotAfter})
	return nil
}

// renamed drafts the request again where the settings name other hosts by now.
func (s *Service) renamed(e *estate.Estate, k keyed, names []san.Name) (keyed, error) {
	r, err := request.Read(k.der)
	if err != nil {
		return k, err
	}
	if slices.EqualFunc(r.Names, names, san.Name.Same) {
		return k, nil
	}
	if k.der, err = draft(e, k.signer, names); err != nil {
		return k, err
	}
	return k, e.Env.Disk.Replace(s.identityFiles(presentStem)[1], bundle.PEM(bundle.Request, k.der), 0o644)
}

// request puts the request for a key on record, once, and names it.
func (s *Service) request(ctx context.Context, e *estate.Estate, k keyed) (string, error) {
	if err := e.ReadOnly(); err != nil {
		return "", err
	}
	in := []intake.Input{{Name: "the desk of this server", Data: bundle.PEM(bundle.Request, k.der)}}
	got, _, faults := intake.Receive(ctx, e, in, Actor)
	if err := errors.Join(faults...); err != nil {
		return "", err
	}
	r := got[0].Record
	number := fmt.Sprintf("R%d", r.Number)
	if r.State == lifecycle.Declined || r.State == lifecycle.Withdrawn {
		return "", fault.New(fault.Refused, "the desk's request %s was %s: it goes on with the certificate that it "+
			"has. "+
			"Remove the folder %s to let it ask again", number, r.State, s.folder(enrol.ServeFolder)).
			On(fault.Request.Named("%s", number))
	}
	return number, nil
}

// signOwn signs the desk's request where the server may: it signs the lists of that authority too, and nothing about
// the request needs a person.
func (s *Service) signOwn(ctx context.Context, e *estate.Estate, number string, k keyed) (*estate.CertificateRecord,
	error) {
	set := e.Settings.Serve
	ask, any := asks(set.Publish)
	if !any {
		return nil, nil
	}
	sheet, err := signing.Plan(ctx, e, signing.SignAsk{Request: number, Template: set.Template, By: set.Authority})
	if err != nil {
		return nil, err
	}
	if len(ask.Only) > 0 && !slices.Contains(ask.Only, sheet.Issuer.Authority.Handle) {
		return nil, nil
	}
	if bad := sheet.Plan.Findings.Refusing(); len(bad) > 0 {
		return nil, fault.New(fault.Refused, "the desk's request %s waits for a person: %s", number, bad[0].Message).
			Then(advice.To("look at it", advice.ShowRequest, "request", number))
	}
	var failed error
	if err := signing.Sign(ctx, e, []*signing.Sheet{sheet},
		func(r signing.SignResult) { failed = r.Err }); err != nil ||
		failed != nil {
		return nil, errors.Join(err, failed)
	}
	return issued(ctx, e, k)
}

// issued is the newest certificate for a key that is good today; nil where there is none.
func issued(ctx context.Context, e *estate.Estate, k keyed) (*estate.CertificateRecord, error) {
	list, err := e.ReadCertificates(e.Records.CertificatesByKey(ctx, k.public.Fingerprint(), 10))
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		if (c.State == lifecycle.Valid || c.State == lifecycle.Expiring) && !e.Now().Before(c.NotBefore) {
			return &c, nil
		}
	}
	return nil, nil
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

// identityFiles are the files of a key and of its request.
func (s *Service) identityFiles(stem string) [2]string {
	dir := s.folder(enrol.ServeFolder)
	return [2]string{filepath.Join(dir, stem+".key.pem"), filepath.Join(dir, stem+".request.pem")}
}

// keyed reads a key of the desk with its request, and makes what is missing.
func (s *Service) keyed(e *estate.Estate, stem string, names []san.Name) (keyed, error) {
	files := s.identityFiles(stem)
	if err := disk.OwnDir(s.folder(enrol.ServeFolder)); err != nil {
		return keyed{}, err
	}
	k, err := readKeyed(files)
	if !errors.Is(err, fs.ErrNotExist) {
		return k, err
	}
	if k.signer == nil {
		if k.signer, err = key.Generate(key.P256, e.Env.Random); err != nil {
			return k, err
		}
		plain, err := key.Plain(k.signer)
		if err != nil {
			return k, err
		}
		err = e.Env.Disk.New(files[0], bundle.PEM(bundle.PrivateKey, plain), 0o600)
		clear(plain)
		if err != nil && !errors.Is(err, disk.ErrExists) {
			return k, err
		}
	}
	if err != nil { // another server was quicker
		return readKeyed(files)
	}
	der, err := draft(e, k.signer, names)
	if err != nil {
		return k, err
	}
	if err := e.Env.Disk.New(files[1], bundle.PEM(bundle.Request, der), 0o644); err != nil &&
		!errors.Is(err, disk.ErrExists) {
		return k, err
	}
	return readKeyed(files)
}

// readKeyed reads both files. Where the request is missing, the key comes along with fs.ErrNotExist.
func readKeyed(files [2]string) (k keyed, err error) {
	if why := disk.Untrusted(files[0]); why != "" {
		return k, fmt.Errorf("%s: %s", files[0], why)
	}
	data, err := disk.ReadRegular(files[0], 1<<16)
	if err != nil {
		return k, err
	}
	defer clear(data)
	block, _ := pem.Decode(data)
	if block == nil {
		return k, fmt.Errorf("%s: there is no key in it", files[0])
	}
	defer clear(block.Bytes)
	if k.signer, err = key.ReadPrivate(block.Bytes); err != nil {
		return k, fmt.Errorf("%s: %w", files[0], err)
	}
	if k.public, err = key.Of(k.signer); err != nil {
		return k, err
	}
	text, err := os.ReadFile(files[1])
	if err != nil {
		return k, err
	}
	asked, _ := pem.Decode(text)
	if asked == nil {
		return k, fmt.Errorf("%s: there is no request in it", files[1])
	}
	k.der = asked.Bytes
	return k, nil
}

func draft(e *estate.Estate, signer crypto.Signer, names []san.Name) ([]byte, error) {
	subject, err := e.Settings.Organisation.Subject(names[0].Value())
	if err != nil {
		return nil, err
	}
	alt, err := ext.NamesExtension(names, false)
	if err != nil {
		return nil, err
	}
	return request.Draft(subject, ext.Set{alt}, signer, e.Env.Random)
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
