package intake

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/pbes"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// DraftAsk is what a person asks for when drafting a request for a host.
type DraftAsk struct {
	Names    []san.Name
	Subject  *dn.Name // built from the estate's organisation and the first name when nil
	Key      key.Kind
	Template string // whose usages are asked for; "" for none
	Dir      string
	Secret   []byte // encrypts the key when it is not empty
}

// Drafted is a request that was drafted, with its files.
type Drafted struct {
	Request     *request.Request
	RequestFile string
	KeyFile     string
	Encrypted   bool
	Loose       bool // the file system there cannot restrict who reads the key file
}

// Draft makes a key and a request and writes both. e may be nil: no estate is
// needed. Files that are there already are not replaced.
func Draft(ctx context.Context, w estate.Env, e *estate.Estate, ask DraftAsk) (Drafted, error) {
	d, faults := DraftAll(ctx, w, e, []DraftAsk{ask}, nil)
	return d[0], faults[0]
}

// batch is how many drafts are written and recorded together.
const batch = 128

// DraftAll drafts many, and returns the outcome of each. It calls done with how many were
// written; it may be nil.
func DraftAll(ctx context.Context, w estate.Env, e *estate.Estate, asks []DraftAsk,
	done func(int)) (out []Drafted, faults []error) {
	w = w.Filled()
	out, faults = make([]Drafted, len(asks)), make([]error, len(asks))
	for from := 0; from < len(asks); from += batch {
		to := min(from+batch, len(asks))
		made := make([]made, to-from)
		for i := range made {
			made[i].Drafted, faults[from+i] = made[i].make(w, e, asks[from+i])
			made[i].fault = faults[from+i]
		}
		writeDrafts(ctx, w, e, made)
		for i := range made {
			clear(made[i].keyPEM)
			out[from+i], faults[from+i] = made[i].Drafted, made[i].fault
		}
		if done != nil {
			done(to)
		}
		if ctx.Err() != nil {
			for i := to; i < len(asks); i++ {
				faults[i] = context.Cause(ctx)
			}
			break
		}
	}
	return out, faults
}

// made is a draft that is not written yet.
type made struct {
	Drafted
	keyPEM []byte
	fault  error
}

func (m *made) make(w estate.Env, e *estate.Estate, ask DraftAsk) (Drafted, error) {
	var out Drafted
	if len(ask.Names) == 0 && (ask.Subject == nil || ask.Subject.CommonName() == "") {
		return out, fault.New(fault.BadInput, "give at least one name, such as booking.ternbay.example").
			Then(advice.To("or a subject with a common name", advice.SetSubject))
	}
	subject, err := draftSubject(e, ask)
	if err != nil {
		return out, err
	}
	called := subject.CommonName()
	if len(ask.Names) > 0 {
		called = ask.Names[0].Value()
	}
	stem := filepath.Join(ask.Dir, label.FileName(called))
	out.RequestFile, out.KeyFile = stem+".request.pem", stem+".key.pem"
	for _, f := range []string{out.RequestFile, out.KeyFile} {
		if _, err := os.Lstat(f); err == nil {
			return out, fault.New(fault.Refused, "%s: %w: it may be the key of a running server; move it away", f,
				disk.ErrExists).
				On(fault.File.Named("%s", f)).Then(advice.To("or choose another", advice.SetOut))
		}
	}
	kind := ask.Key
	if kind == "" && e != nil {
		kind = key.Kind(e.Settings.Defaults.HostKey)
	} else if kind == "" {
		kind = key.P256
	}
	done := func() {}
	if kind.Family() == "rsa" { // the others take no time
		done = w.Progress(fmt.Sprintf("making a key of kind %s", kind))
	}
	signer, err := key.Generate(kind, w.Random)
	done()
	if err != nil {
		return out, err
	}
	set, err := draftExtensions(e, ask, kind)
	if err != nil {
		return out, err
	}
	der, err := request.Draft(subject, set, signer, w.Random)
	if err != nil {
		return out, err
	}
	if out.Request, err = request.Read(der); err != nil {
		return out, err
	}
	out.Encrypted = len(ask.Secret) > 0
	m.keyPEM, err = draftKey(w, signer, ask.Secret)
	return out, err
}

// underWay notes, in the estate where there is one, that private keys are being written into directories.
func underWay(e *estate.Estate, files []disk.File) (over func(), err error) {
	var all []func()
	over = func() {
		for _, done := range all {
			done()
		}
	}
	noted := map[string]bool{}
	for _, f := range files {
		dir := filepath.Dir(f.Path)
		if e == nil || noted[dir] {
			continue
		}
		noted[dir] = true
		done, err := e.UnderWay(dir)
		if err != nil {
			return over, err
		}
		all = append(all, done)
	}
	return over, nil
}

// writeDrafts writes keys and requests, then records where the keys are. What was not
// recorded is removed again, unless it may be on record.
func writeDrafts(ctx context.Context, w estate.Env, e *estate.Estate, list []made) {
	var files []disk.File
	var whole []*made
	for i := range list {
		m := &list[i]
		if m.fault == nil {
			m.fault = disk.Dir(filepath.Dir(m.KeyFile))
		}
		if m.fault == nil {
			whole = append(whole, m)
			files = append(files, disk.File{Path: m.KeyFile, Data: m.keyPEM, Mode: 0o600},
				disk.File{Path: m.RequestFile, Data: bundle.PEM(bundle.Request, m.Request.Raw), Mode: 0o644})
		}
	}
	over, err := underWay(e, files)
	defer over()
	if err != nil {
		for _, m := range whole {
			m.fault = err
		}
		return
	}
	faults := w.Disk.NewAll(files)
	var written []*made
	for i, m := range whole {
		key, req := faults[2*i], faults[2*i+1]
		if m.fault = errors.Join(key, req); m.fault == nil {
			written = append(written, m)
			continue
		}
		if key == nil {
			m.fault = errors.Join(m.fault, w.Disk.Remove(m.KeyFile))
		}
		if req == nil {
			m.fault = errors.Join(m.fault, w.Disk.Remove(m.RequestFile))
		}
	}
	if err := recordDrafts(ctx, e, written); err != nil {
		for _, m := range written {
			m.fault = err
			if !errors.Is(err, store.ErrUncertain) { // then both files may be on record
				m.fault = errors.Join(err, w.Disk.Remove(m.RequestFile), w.Disk.Remove(m.KeyFile))
			}
		}
	}
	for i := range list {
		if m := &list[i]; m.fault != nil {
			m.fault = fmt.Errorf("draft: %w", m.fault)
		} else {
			m.Loose = disk.Exposed(m.KeyFile) != ""
		}
	}
}

func recordDrafts(ctx context.Context, e *estate.Estate, list []*made) error {
	if e == nil || len(list) == 0 {
		return nil
	}
	_, err := e.Act(ctx, func(tx store.Tx) (entries []event.Record, err error) {
		for _, m := range list {
			file, err := filepath.Abs(m.KeyFile)
			if err != nil {
				return nil, err
			}
			if err := tx.AddDraft(m.Request.Key.Fingerprint(), file, m.Encrypted); err != nil {
				return nil, err
			}
			entries = append(entries, event.On(m.Request.Title(), event.Drafted{SHA256: fmt.Sprintf("%x", m.Request.
				SHA256()),
				Key: fmt.Sprintf("%x", m.Request.Key.Fingerprint()), File: &file, Encrypted: m.Encrypted}))
		}
		return entries, nil
	})
	return err
}

func draftExtensions(e *estate.Estate, ask DraftAsk, kind key.Kind) (ext.Set, error) {
	var set ext.Set
	if len(ask.Names) > 0 {
		altNames, err := ext.NamesExtension(ask.Names, false)
		if err != nil {
			return nil, err
		}
		set = append(set, altNames)
	}
	if ask.Template == "" {
		return set, nil
	}
	usages, err := draftUsages(e, ask.Template, kind)
	return append(set, usages...), err
}

// draftKey writes a draft's key: encrypted where a secret is given.
func draftKey(w estate.Env, signer crypto.Signer, secret []byte) ([]byte, error) {
	if len(secret) > 0 {
		encrypted, err := pbes.Encrypt(signer, secret, pbes.WorkGiven, w.Random)
		return bundle.PEM(bundle.EncryptedKey, encrypted), err
	}
	plain, err := key.Plain(signer)
	defer clear(plain)
	return bundle.PEM(bundle.PrivateKey, plain), err
}

// draftUsages are the usages that a template gives, for a request that asks for
// them: outside authorities sign what is asked.
func draftUsages(e *estate.Estate, name string, kind key.Kind) (ext.Set, error) {
	if e == nil {
		return nil, fault.New(fault.BadInput, "a template needs an estate").Then(advice.To("name it", advice.NameEstate,
			"folder", "DIR"))
	}
	t, err := e.Template(name)
	if err != nil {
		return nil, err
	}
	var out ext.Set
	if u := t.KeyUsage(kind); u != 0 {
		out = append(out, u.Extension())
	}
	if ids := t.ExtendedUsage(); len(ids) > 0 {
		out = append(out, ext.ExtendedExtension(ids, t.Critical))
	}
	return out, nil
}

func draftSubject(e *estate.Estate, ask DraftAsk) (dn.Name, error) {
	if ask.Subject != nil {
		return *ask.Subject, nil
	}
	cn := ask.Names[0].Value()
	if len(cn) > 64 {
		cn = "" // RFC 5280 appendix A allows 64 characters; the alternative name carries the rest
	}
	if e == nil {
		if cn == "" {
			return dn.Name{}, nil
		}
		return dn.New(dn.Pair{Type: "CN", Value: cn})
	}
	return e.Settings.Organisation.Subject(cn)
}
