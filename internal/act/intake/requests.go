// Package intake takes in signing requests, in whatever shape they come, drafts
// them for those who cannot, and puts aside what is not to be signed.
package intake

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/records"
	"ironseal/pki/bundle"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/pbes"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// Input is bytes that came from somewhere: a file or a paste.
type Input struct {
	Name string // of the file; "standard input" for a paste
	Data []byte
}

// ReadInput reads a file, every file of a directory, or standard input ("-").
func ReadInput(arg string, stdin func() ([]byte, error)) ([]Input, error) {
	if arg == "-" {
		data, err := stdin()
		return []Input{{"standard input", data}}, err
	}
	info, err := os.Stat(arg)
	if err != nil || !info.IsDir() {
		data, err := disk.Read(arg, bundle.MostBytes)
		return []Input{{arg, data}}, err
	}
	entries, err := os.ReadDir(arg)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", arg, disk.Plain(err))
	}
	var out []Input
	for _, en := range entries {
		if !en.Type().IsRegular() || strings.HasPrefix(en.Name(), ".") {
			continue
		}
		data, err := disk.Read(filepath.Join(arg, en.Name()), bundle.MostBytes)
		if err != nil {
			return nil, err
		}
		out = append(out, Input{filepath.Join(arg, en.Name()), data})
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: there are no files in this directory", arg)
	}
	return out, nil
}

// Received is one request taken in.
type Received struct {
	Record  records.Request
	Request *request.Request
	Known   bool     // the same bytes were on record already
	Source  string   // where it came from
	Remarks []string // what was untidy and understood
}

// Receive takes in every request found in the inputs. A request that does not
// read, or whose signature is wrong, is told in the faults and not recorded;
// one bad request does not keep the others out.
func Receive(ctx context.Context, e *estate.Estate, inputs []Input, sender string) (out []Received, head journal.Head,
	faults []error) {
	for _, in := range inputs {
		found, errs := readRequests(in)
		faults = append(faults, errs...)
		out = append(out, found...)
	}
	if len(out) == 0 {
		return nil, head, faults
	}
	flaws := scrutinise(out)
	for part := range slices.Chunk(out, receiveAtOnce) {
		var err error
		if head, err = receive(ctx, e, part, flaws, sender); err != nil {
			return nil, head, append(faults, err)
		}
	}
	var err error
	for i := range out {
		if out[i].Record, err = e.Records.Request(ctx, out[i].Record.Number); err != nil {
			return nil, head, append(faults, err)
		}
	}
	return out, head, faults
}

// receiveAtOnce is how many requests one transaction takes in: others wait for it.
const receiveAtOnce = 500

// scrutinise looks at the keys of many requests in the way that takes long, before
// anything is locked.
func scrutinise(list []Received) map[[32]byte]finding.List {
	var mu sync.Mutex
	out := map[[32]byte]finding.List{}
	estate.Parallel(len(list), func(i int) {
		k := list[i].Request.Key
		if bad := k.Scrutiny().Refusing(); len(bad) > 0 && len(k.Weakness().Refusing()) == 0 {
			mu.Lock()
			out[k.Fingerprint()] = bad
			mu.Unlock()
		}
	})
	return out
}

func receive(ctx context.Context, e *estate.Estate, list []Received, flaws map[[32]byte]finding.List,
	sender string) (journal.Head, error) {
	return e.Act(ctx, func(tx *records.Tx) ([]journal.Entry, error) {
		var entries []journal.Entry
		for i := range list {
			r := &list[i]
			n, known, err := tx.AddRequest(r.Request, sender)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", r.Source, err)
			}
			r.Record.Number, r.Known = n, known
			if known {
				continue
			}
			for _, f := range flaws[r.Request.Key.Fingerprint()] {
				if err := tx.AddFlaw(r.Request.Key.Fingerprint(), f); err != nil {
					return nil, err
				}
			}
			sum := r.Request.SHA256()
			entries = append(entries, estate.Entry("receive", fmt.Sprintf("R%d", n), "sha256", fmt.Sprintf("%x", sum),
				"title",
				r.Request.Title(), "from", sender, "source", r.Source))
		}
		return entries, nil
	})
}

func readRequests(in Input) (out []Received, faults []error) {
	c, err := bundle.Read(in.Data)
	if err != nil {
		return nil, []error{fmt.Errorf("%s: %w", in.Name, err)}
	}
	for _, p := range c.Problems {
		faults = append(faults, fmt.Errorf("%s: %w", in.Name, p))
	}
	for _, o := range c.Objects {
		if o.Kind != bundle.Request {
			faults = append(faults, notARequest(in.Name, o))
			continue
		}
		r, err := request.Read(o.DER)
		if err == nil {
			err = r.Proven()
		}
		if err != nil {
			faults = append(faults, fmt.Errorf("%s: %w: ask for it again", place(in.Name, o), err))
			continue
		}
		out = append(out, Received{Request: r, Source: place(in.Name, o), Remarks: c.Remarks})
	}
	return out, faults
}

func place(name string, o bundle.Object) string {
	if o.Line == 0 {
		return name
	}
	return fmt.Sprintf("%s:%d", name, o.Line)
}

func notARequest(name string, o bundle.Object) error {
	hint := "look at it with: ironseal read " + name
	switch o.Kind {
	case bundle.PrivateKey, bundle.SealedKey:
		hint = "a private key stays on its machine and is sent to nobody; ask for the request that belongs to it"
	case bundle.Certificate:
		hint = "ask for the request that it came from"
	}
	return fmt.Errorf("%s: this is a %s and not a signing request: %s", place(name, o), o.Kind, hint)
}

// DraftAsk is what a person asks for when drafting a request for a host.
type DraftAsk struct {
	Names    []san.Name
	Subject  *dn.Name // built from the estate's organisation and the first name when nil
	Key      key.Kind
	Template string // whose usages are asked for; "" for none
	Dir      string
	Secret   []byte // seals the key when it is not empty
}

// Drafted is a request that was drafted, with its files.
type Drafted struct {
	Request     *request.Request
	RequestFile string
	KeyFile     string
	Sealed      bool
	Loose       bool // the file system there keeps the key file from nobody
}

// Draft makes a key and a request and writes both. e may be nil: no estate is
// needed. Files that are there already are not replaced.
func Draft(ctx context.Context, w estate.World, e *estate.Estate, ask DraftAsk) (Drafted, error) {
	w = w.Filled()
	var out Drafted
	if len(ask.Names) == 0 {
		return out, errors.New("draft: give at least one name, such as booking.ternbay.example")
	}
	subject, err := draftSubject(e, ask)
	if err != nil {
		return out, err
	}
	stem := filepath.Join(ask.Dir, label.FileName(ask.Names[0].Value()))
	out.RequestFile, out.KeyFile = stem+".request.pem", stem+".key.pem"
	for _, f := range []string{out.RequestFile, out.KeyFile} {
		if _, err := os.Lstat(f); err == nil {
			return out, fmt.Errorf("draft: %s: %w: it may be the key of a running server; move it away or choose "+
				"another --out", f, disk.ErrExists)
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
		return out, fmt.Errorf("draft: %w", err)
	}
	der, err := request.Draft(subject, set, signer, w.Random)
	if err != nil {
		return out, err
	}
	if out.Request, err = request.Read(der); err != nil {
		return out, err
	}
	out.Sealed = len(ask.Secret) > 0
	keyPEM, err := draftKey(w, signer, ask.Secret)
	if err != nil {
		return out, err
	}
	defer clear(keyPEM)
	err = writeDraft(ctx, w, e, out, keyPEM, bundle.PEM(bundle.Request, der))
	out.Loose = err == nil && !disk.Private(out.KeyFile)
	return out, err
}

func draftExtensions(e *estate.Estate, ask DraftAsk, kind key.Kind) (ext.Set, error) {
	altNames, err := ext.NamesExtension(ask.Names, false)
	if err != nil || ask.Template == "" {
		return ext.Set{altNames}, err
	}
	usages, err := draftUsages(e, ask.Template, kind)
	return append(ext.Set{altNames}, usages...), err
}

// draftKey writes a draft's key: sealed where a secret is given.
func draftKey(w estate.World, signer crypto.Signer, secret []byte) ([]byte, error) {
	if len(secret) > 0 {
		sealed, err := pbes.Seal(signer, secret, pbes.WorkGiven, w.Random)
		return bundle.PEM(bundle.SealedKey, sealed), err
	}
	plain, err := key.Plain(signer)
	defer clear(plain)
	return bundle.PEM(bundle.PrivateKey, plain), err
}

func writeDraft(ctx context.Context, w estate.World, e *estate.Estate, d Drafted, keyPEM, requestPEM []byte) error {
	if err := disk.Dir(filepath.Dir(d.KeyFile)); err != nil {
		return fmt.Errorf("draft: %w", err)
	}
	if err := w.Disk.New(d.KeyFile, keyPEM, 0o600); err != nil {
		return fmt.Errorf("draft: %w", err)
	}
	err := w.Disk.New(d.RequestFile, requestPEM, 0o644)
	if err == nil && e != nil {
		sum := d.Request.SHA256()
		_, err = e.Act(ctx, func(tx *records.Tx) ([]journal.Entry, error) {
			file, err := filepath.Abs(d.KeyFile)
			if err != nil {
				return nil, err
			}
			if err := tx.AddDraft(d.Request.Key.Fingerprint(), file, d.Sealed); err != nil {
				return nil, err
			}
			return []journal.Entry{estate.Entry("draft", d.Request.Title(), "sha256", fmt.Sprintf("%x", sum), "key",
				fmt.Sprintf("%x", d.Request.Key.Fingerprint()), "file", file, "sealed", d.Sealed)}, nil
		})
		if errors.Is(err, records.ErrUncertain) { // both files may be on record
			return fmt.Errorf("draft: %w", err)
		}
		if err != nil {
			err = errors.Join(err, w.Disk.Remove(d.RequestFile))
		}
	}
	if err != nil {
		return errors.Join(fmt.Errorf("draft: %w", err), w.Disk.Remove(d.KeyFile))
	}
	return nil
}

// draftUsages are the usages that a template gives, for a request that asks for
// them: outside authorities sign what is asked.
func draftUsages(e *estate.Estate, name string, kind key.Kind) (ext.Set, error) {
	if e == nil {
		return nil, errors.New("a template needs an estate: name it with --estate DIR")
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
