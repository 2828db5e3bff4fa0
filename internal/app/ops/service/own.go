package service

import (
	"context"
	"crypto"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/ordering"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// own is a certificate of the server itself: it asks for it as everybody does, and for another before it ends. A server
// has to start without a person, so its keys are plain files in the folder of servers that only their owner can read.
type own struct {
	s        *Service
	e        *estate.Estate
	stem     string // of its files
	what     string // as the source of its requests
	kind     key.Kind
	subject  dn.Name
	names    []san.Name
	template string
	by       string                   // the authority; "" for the only one that may
	any      bool                     // the server may sign by some authority
	may      func(handle string) bool // and by this one
}

// keyed is a key of the server with the request for it.
type keyed struct {
	signer crypto.Signer
	public key.Public
	der    []byte // the request
}

// held is what the server has.
type held struct {
	keyed
	record  *estate.CertificateRecord // nil before it is signed
	request string                    // that waits to be signed, such as R7; "" for none
}

// kept is the certificate as it is by now, after what is due was done. It may come with an error.
func (o own) kept(ctx context.Context) (held, error) {
	k, err := o.keyed(o.stem)
	if err != nil {
		return held{}, err
	}
	out := held{keyed: k}
	if out.record, err = issued(ctx, o.e, k); err != nil {
		return out, err
	}
	if out.record == nil {
		if k, err = o.renamed(k); err != nil {
			return out, err
		}
		if out.request, err = o.asked(ctx, k); err == nil {
			out.record, err = o.sign(ctx, out.request, k, nil)
		}
		if out.record != nil {
			out.request = ""
		}
		return out, err
	}
	due, err := o.renewable(ctx, out.record)
	if err != nil || !due {
		return out, err
	}
	return o.renew(ctx, out)
}

// renewable reports whether another certificate should take the place of this one: two thirds of its life are over, it
// names other hosts than the settings, its authority signs by another generation, or an incident is about its key or
// its
// issuer.
func (o own) renewable(ctx context.Context, c *estate.CertificateRecord) (bool, error) {
	life := c.NotAfter.Sub(c.NotBefore)
	missing := slices.ContainsFunc(o.names, func(n san.Name) bool {
		return !slices.ContainsFunc(c.Names, func(x san.Name) bool { return x.Value() == n.Value() })
	})
	if missing || o.e.Now().After(c.NotAfter.Add(-life/3)) {
		return true, nil
	}
	h, err := o.e.Hierarchy(ctx)
	if err != nil {
		return false, err
	}
	g := h.Generation(c.Record.Issuer)
	if g == nil || g.Authority.Current() == nil || g.Authority.Current().Idle() != "" {
		return false, nil // no one signs it at the moment
	}
	why, err := ordering.AtOnce(ctx, o.e, *c)
	return why != "" || g.Authority.Current() != g, err
}

// renew makes the next key, and lets it take its place once its certificate is there.
func (o own) renew(ctx context.Context, now held) (held, error) {
	stem := o.stem + "-next"
	next, err := o.keyed(stem)
	if err != nil {
		return now, err
	}
	found, err := issued(ctx, o.e, next)
	if err == nil && found == nil {
		if now.request, err = o.asked(ctx, next); err == nil {
			found, err = o.sign(ctx, now.request, next, now.record)
		}
	}
	if err != nil || found == nil {
		return now, err
	}
	// A crash between the two leaves a key without a request file; the request is then made again.
	from, to := o.files(stem), o.files(o.stem)
	if err := errors.Join(disk.Rename(from[1], to[1]), disk.Rename(from[0], to[0])); err != nil {
		return now, err
	}
	return held{keyed: next, record: found}, nil
}

// renamed drafts the request again where the settings name other hosts by now.
func (o own) renamed(k keyed) (keyed, error) {
	r, err := request.Read(k.der)
	if err != nil {
		return k, err
	}
	if slices.EqualFunc(r.Names, o.names, san.Name.Same) {
		return k, nil
	}
	if k.der, err = o.draft(k.signer); err != nil {
		return k, err
	}
	return k, o.e.Env.Disk.Replace(o.files(o.stem)[1], bundle.PEM(bundle.Request, k.der), 0o644)
}

// asked puts the request for a key on record, once, and names it.
func (o own) asked(ctx context.Context, k keyed) (string, error) {
	if err := o.e.ReadOnly(); err != nil {
		return "", err
	}
	in := []intake.Input{{Name: o.what, Data: bundle.PEM(bundle.Request, k.der)}}
	got, _, faults := intake.Receive(ctx, o.e, in, Actor)
	if err := errors.Join(faults...); err != nil {
		return "", err
	}
	r := got[0].Record
	number := fmt.Sprintf("R%d", r.Number)
	if r.State == lifecycle.Declined || r.State == lifecycle.Withdrawn {
		return "", fault.New(fault.Refused, "the request %s of %s was %s: it continues with the certificate that it "+
			"has. Remove the files %s.* to let it ask again", number, o.what, r.State,
			filepath.Join(o.s.folder(enrol.ServeFolder), o.stem)).On(fault.Request.Named("%s", number))
	}
	return number, nil
}

// sign signs the request where the server may, and nothing about it needs a person: in place of a certificate, where
// there is one.
func (o own) sign(ctx context.Context, number string, k keyed, old *estate.CertificateRecord) (
	*estate.CertificateRecord, error) {
	if !o.any {
		return nil, nil
	}
	var sheet *signing.Sheet
	var err error
	if old != nil && enrol.SameNames(old.Names, o.names) {
		sheet, err = renewals.PlanReissue(ctx, o.e, renewals.ReissueAsk{Certificate: old.SerialHex(), Request: number,
			Template: o.template, By: o.by})
	} else {
		sheet, err = signing.Plan(ctx, o.e, signing.SignAsk{Request: number, Template: o.template, By: o.by})
	}
	if err != nil {
		return nil, err
	}
	if !o.may(sheet.Issuer.Authority.Handle) {
		return nil, nil
	}
	if bad := sheet.Plan.Findings.Refusing(); len(bad) > 0 {
		return nil, fault.New(fault.Refused, "the request %s of %s waits for a person: %s", number, o.what,
			bad[0].Message).Then(advice.To("look at it", advice.ShowRequest, "request", number))
	}
	var failed error
	if err := signing.Sign(ctx, o.e, []*signing.Sheet{sheet},
		func(r signing.SignResult) { failed = r.Err }); err != nil || failed != nil {
		return nil, errors.Join(err, failed)
	}
	made, err := issued(ctx, o.e, k)
	if made != nil {
		o.s.Delivered(*made, Actor)
	}
	return made, err
}

// issued is the newest certificate for a key that is good today; nil if none exists.
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

// files are the files of a key and of its request.
func (o own) files(stem string) [2]string {
	dir := o.s.folder(enrol.ServeFolder)
	return [2]string{filepath.Join(dir, stem+".key.pem"), filepath.Join(dir, stem+".request.pem")}
}

// keyed reads a key with its request, and makes what is missing.
func (o own) keyed(stem string) (keyed, error) {
	files := o.files(stem)
	if err := disk.OwnDir(o.s.folder(enrol.ServeFolder)); err != nil {
		return keyed{}, err
	}
	k, err := readKeyed(files)
	if !errors.Is(err, fs.ErrNotExist) {
		return k, err
	}
	if k.signer == nil {
		if k.signer, err = key.Generate(o.kind, o.e.Env.Random); err != nil {
			return k, err
		}
		plain, err := key.Plain(k.signer)
		if err != nil {
			return k, err
		}
		err = o.e.Env.Disk.New(files[0], bundle.PEM(bundle.PrivateKey, plain), 0o600)
		clear(plain)
		if errors.Is(err, disk.ErrExists) { // another server was quicker
			return readKeyed(files)
		}
		if err != nil {
			return k, err
		}
	}
	der, err := o.draft(k.signer)
	if err != nil {
		return k, err
	}
	if err := o.e.Env.Disk.New(files[1], bundle.PEM(bundle.Request, der), 0o644); err != nil &&
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

func (o own) draft(signer crypto.Signer) ([]byte, error) {
	var set ext.Set
	if len(o.names) > 0 {
		alt, err := ext.NamesExtension(o.names, false)
		if err != nil {
			return nil, err
		}
		set = ext.Set{alt}
	}
	return request.Draft(o.subject, set, signer, o.e.Env.Random)
}
