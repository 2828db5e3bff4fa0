// Package delivery hands certificates out: a file of one shape, or a directory
// with all that a receiver wants and a page in words that goes with it.
package delivery

import (
	"context"
	"crypto"
	"fmt"
	"os"
	"path/filepath"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/client"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/handover"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/path"
	"ironseal/pki/receiver"
)

// ReadMeFile is the page in a handover.
const ReadMeFile = "READ-ME.txt"

// HandoverAsk is what a person asks for when handing a certificate over.
type HandoverAsk struct {
	Certificate estate.CertificateRecord
	Receiver    receiver.Receiver
	Signer      crypto.Signer // the private key; nil where it stayed on the device
	Password    []byte        // for files that are encrypted
	Dir         string        // in which the folder is made
	Folder      string        // its name; "" for the title and the receiver
	Replace     bool          // in place of what was handed over before
	To          string        // who gets it; "" where no one was named
	Clients     []client.Kind // kinds of client that have to accept it
	Waivers     []finding.Waiver
}

// HandedOver is a handover that was written.
type HandedOver struct {
	Dir      string
	Files    []receiver.Packed
	Notes    []string
	Findings finding.List
	Page     []byte
}

// HandoverDir is where a handover is written.
func HandoverDir(ask HandoverAsk) string {
	if ask.Folder != "" {
		return filepath.Join(ask.Dir, ask.Folder)
	}
	return filepath.Join(ask.Dir, label.FileName(ask.Certificate.Title())+"."+ask.Receiver.Name)
}

// HandedBefore reports whether a folder holds an earlier handover, which may be replaced.
func HandedBefore(dir string) bool {
	info, err := os.Lstat(filepath.Join(dir, ReadMeFile))
	return err == nil && info.Mode().IsRegular()
}

// DraftSigner finds the private key of a certificate whose request we drafted;
// nil if none exists.
func DraftSigner(ctx context.Context, e *estate.Estate, c estate.CertificateRecord) (crypto.Signer, error) {
	file, _, err := e.Records.DraftKey(ctx, c.Key.Fingerprint())
	if err != nil || file == "" {
		return nil, err
	}
	return OpenKeyFile(ctx, file, c.Title(), e.Env.Pass)
}

// OpenKeyFile opens the one private key in a file.
func OpenKeyFile(ctx context.Context, file, label string, pass keystore.Passphrases) (crypto.Signer, error) {
	data, err := disk.Read(file, bundle.MostBytes)
	if err != nil {
		return nil, fault.New(fault.KindOf(err), "key of %s: %w", label, err).Then(advice.To("if it was moved, give it",
			advice.GiveKey))
	}
	c, err := bundle.Read(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	for _, o := range c.Objects {
		if o.Kind == bundle.PrivateKey || o.Kind == bundle.EncryptedKey {
			signer, err := keystore.OpenFile(ctx, o.DER, o.Kind, label, pass)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", file, err)
			}
			return signer, nil
		}
	}
	return nil, fmt.Errorf("%s: there is no private key in it", file)
}

// Handover writes a folder named for the host with everything one receiver
// needs, and records it. A folder that is there already is not touched.
func Handover(ctx context.Context, e *estate.Estate, ask HandoverAsk) (HandedOver, error) {
	out, err := packed(ctx, e, ask)
	if err != nil {
		return out, err
	}
	out.Dir = HandoverDir(ask)
	return out, writeHandover(ctx, e, out, ask)
}

// InMemory makes a handover without a key and writes no file. It is put on record, unless the last one of that
// certificate was the same.
func InMemory(ctx context.Context, e *estate.Estate, ask HandoverAsk) (HandedOver, error) {
	out, err := packed(ctx, e, ask)
	if err != nil {
		return out, err
	}
	en, found, err := e.Records.DerivedOf(ctx, event.HandOvers, fmt.Sprintf("%x", ask.Certificate.SHA256()))
	if err != nil {
		return out, err
	}
	if found {
		last, err := event.As[event.HandedOver](en)
		if err != nil || last.Receiver == ask.Receiver.Name && last.Holder == ask.To {
			return out, err
		}
	}
	_, err = recordHandover(ctx, e, out, ask)
	return out, err
}

// packed makes all that a handover consists of.
func packed(ctx context.Context, e *estate.Estate, ask HandoverAsk) (HandedOver, error) {
	var out HandedOver
	c, r := ask.Certificate, ask.Receiver
	if err := Fit(ctx, e.Records, c); err != nil {
		return out, err
	}
	if ask.Signer != nil {
		pub, err := key.Of(ask.Signer)
		if err != nil {
			return out, err
		}
		if !key.Same(pub, c.Key) {
			return out, fault.New(fault.BadInput, "%s: the private key belongs to another certificate", c.Title()).
				On(fault.Certificate.Named("%s", c.SerialHex())).Then(advice.To("give its own", advice.GiveKey))
		}
	}
	parts, err := Bundle(ctx, e, c, ask.Signer)
	if err != nil {
		return out, err
	}
	host := label.FileName(c.Title())
	offer := receiver.Offer{Extended: c.Extended, Names: c.Names, Key: c.Key.Kind, Bits: c.Key.Bits,
		Issuers: parts.Chain()[1:], KeyHere: ask.Signer != nil}
	out.Findings = r.Unmet(offer)
	if !c.IsAuthority() && parts.Root != nil {
		v := client.Presented(append([]*cert.Certificate{c.Certificate}, parts.Intermediates...),
			[]*cert.Certificate{parts.Root}, path.Question{Now: e.Now()})
		out.Findings = append(out.Findings, client.Findings(v, ask.Clients)...)
	}
	if out.Findings, err = out.Findings.Waive(0, ask.Waivers); err != nil {
		return out, err
	}
	if bad := out.Findings.Refusing(); len(bad) > 0 {
		return out, &issue.Refused{About: c.Title(), Findings: bad}
	}
	if out.Files, out.Notes, err = r.Pack(parts, host,
		handover.Writing{Password: ask.Password, Random: e.Env.Random}); err != nil {
		return out, err
	}
	for _, f := range out.Files {
		if f.Rule.Format == handover.P12Older {
			out.Findings = append(out.Findings,
				finding.New(finding.OlderProfile, "%s is protected the older way.", f.Name))
		}
	}
	out.Page = r.ReadMe(parts, host, out.Files, out.Notes)
	if e.Rehearsal {
		out.Page = append([]byte("THIS IS A REHEARSAL. Nothing in this folder is real.\n\n"), out.Page...)
	}
	return out, nil
}

// Fit refuses to hand out what must not be used: what waits for its day, was revoked, or has a
// suspected key.
func Fit(ctx context.Context, from store.DerivedReader, c estate.CertificateRecord) error {
	switch {
	case c.State == lifecycle.Prepared:
		return fmt.Errorf("%s, serial %s, waits unused for its switch day", c.Title(), c.Serial.Short())
	case c.State.Rejected():
		return fault.New(fault.Refused, "%s, serial %s, is %s. It is not handed over", c.Title(), c.Serial.Short(),
			invalid(c.State)).
			On(fault.Certificate.Named("%s", c.SerialHex())).
			Then(advice.To("hand over a replacement", advice.RenewCertificate, "certificate", c.Serial.Short()))
	}
	list, err := compromise.Incidents(ctx, from)
	for _, i := range compromise.About(list, c.Key.Fingerprint()) {
		return fmt.Errorf("%s, serial %s, is not handed over: %s", c.Title(), c.Serial.Short(), i.Since())
	}
	return err
}

// invalid says why a certificate is not valid.
func invalid(state lifecycle.State) string {
	if state == lifecycle.IssuerRevoked {
		return "invalid: its authority was revoked"
	}
	return string(state)
}

// stillFit is Fit inside the act, for the certificate as it is by now.
func stillFit(ctx context.Context, e *estate.Estate, tx store.Tx, c estate.CertificateRecord) error {
	if c.Record.ID == 0 {
		return nil
	}
	now, known, err := e.InTx(tx).OnRecord(ctx, c.Certificate)
	if err == nil && known {
		if err = Fit(ctx, tx, now); err != nil {
			err = fault.New(fault.Changed, "the record changed meanwhile: %w", err)
		}
	}
	return err
}

func writeHandover(ctx context.Context, e *estate.Estate, out HandedOver, ask HandoverAsk) error {
	write := func(into string) error {
		for _, f := range out.Files {
			mode := os.FileMode(0o644)
			if f.Secret {
				mode = 0o600
			}
			if err := e.Env.Disk.New(filepath.Join(into, f.Name), f.Data, mode); err != nil {
				return fmt.Errorf("handover: %w", err)
			}
		}
		if err := e.Env.Disk.New(filepath.Join(into, ReadMeFile), out.Page, 0o644); err != nil {
			return fmt.Errorf("handover: %w", err)
		}
		// Recorded first: nothing is released before it is on record.
		_, err := recordHandover(ctx, e, out, ask)
		return err
	}
	done, err := e.UnderWay(filepath.Dir(filepath.Clean(out.Dir)))
	if err != nil {
		return err
	}
	defer done()
	if !ask.Replace {
		return disk.NewFolder(out.Dir, write)
	}
	known := []string{ReadMeFile}
	for _, f := range out.Files {
		known = append(known, f.Name)
	}
	return disk.ReplaceFolder(out.Dir, known, write)
}

// recordHandover records a handover, if the certificate may still be handed over.
func recordHandover(ctx context.Context, e *estate.Estate, out HandedOver, ask HandoverAsk) (journal.Head, error) {
	c, holder := ask.Certificate, ask.To
	var names []string
	for _, f := range out.Files {
		names = append(names, f.Name)
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		if err := stillFit(ctx, e, tx, c); err != nil {
			return nil, err
		}
		entries := []event.Record{event.On(c.Title(), event.HandedOver{Certificate: fmt.Sprintf("%x", c.SHA256()),
			Serial: c.SerialHex(), Receiver: ask.Receiver.Name, Holder: holder, Files: names,
			Waived: estate.WaivedCodes(out.Findings)})}
		if c.Record.ID == 0 {
			return entries, nil
		}
		return entries, tx.AddHolder(c.Record.ID, holder)
	})
}

// WriteOut writes a file outside the estate; one with a private key is made
// readable by its owner only.
func WriteOut(d disk.Disk, path string, data []byte, secret bool) error {
	mode := os.FileMode(0o644)
	if secret {
		mode = 0o600
	}
	if err := disk.Dir(filepath.Dir(path)); err != nil {
		return err
	}
	return d.Replace(path, data, mode)
}
