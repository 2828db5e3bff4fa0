package files

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/cli/session"
	"ironseal/internal/keystore"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/handover"
	"ironseal/pki/label"
	"ironseal/pki/pkcs"
)

// convertFlags are the flags of convert, as typed.
type convertFlags struct {
	to, out, name, openWith string
	parts                   []string
	password                session.PasswordFlags
}

// Convert is ironseal convert.
func Convert(s *session.Session) *cobra.Command {
	var f convertFlags
	var all []string
	for _, x := range handover.Formats() {
		all = append(all, string(x))
	}
	c := session.Reading(&cobra.Command{
		Use:   "convert FILE... --to FORMAT",
		Short: "Convert certificates and keys, in the right order",
		Long: `Read certificates and keys in any format (PEM, DER, PKCS#7, PKCS#12, PKCS#8, PKCS#1, SEC 1),
put them in order, drop duplicates and certificates that do not belong, and write them in one
format. It says what it changed. No estate is needed.

` + strings.Join(all, ", ") + `.`,
		Example: `  ironseal convert ../handed-out/booking.ternbay.example.with-issuers.pem ../handed-out/root.pem --to p7b --out ../handed-out/booking.p7b
  ironseal convert ../handed-out/booking.ternbay.example.with-issuers.pem ../drafts/booking.ternbay.example.key.pem --to p12 --make-password --out ../handed-out/booking.p12`,
		Args: session.AtLeast(1, "a file"),
		RunE: func(cmd *cobra.Command, args []string) error { return convert(cmd.Context(), s, f, args) },
	})
	fl := c.Flags()
	fl.StringVar(&f.to, "to", "", "the `FORMAT`")
	fl.StringVar(&f.out, "out", "", "the `FILE` or directory to write, or - for standard output")
	fl.StringVar(&f.name, "name", "", "the friendly name in PKCS#12; the host when left out")
	fl.StringVar(&f.openWith, "open-with", "", "the password of encrypted input, from a `FILE`")
	fl.StringSliceVar(&f.parts, "parts", nil, "only these: key, leaf, intermediates, root")
	f.password.Add(c)
	session.CompleteWords(c, "to", all...)
	session.CompleteWords(c, "parts", handover.PartKey, handover.PartLeaf, handover.PartIntermediates,
		handover.PartRoot)
	return c
}

func convert(ctx context.Context, s *session.Session, f convertFlags, args []string) error {
	format := handover.FormatNamed(f.to)
	if !slices.Contains(handover.Formats(), format) {
		return session.Misused("convert: --to %q: use one of %v", f.to, handover.Formats())
	}
	certs, keys, err := collect(ctx, s, f, args)
	if err != nil {
		return err
	}
	given, notes, err := handover.Sort(certs, keys)
	if err != nil {
		return fmt.Errorf("convert: %w", err)
	}
	w := handover.Writing{Format: format, Parts: f.parts, Random: s.Entropy()}
	if len(w.Parts) == 0 {
		w.Parts = partsOf(given, format)
	}
	title := "key"
	if given.Leaf != nil {
		title = given.Leaf.Title()
	}
	if w.FriendlyName = f.name; w.FriendlyName == "" {
		w.FriendlyName = title
	}
	made := false
	if !format.NeedsPassword() && (f.password.Made || f.password.File != "") {
		return session.Misused("convert: the form %s is not encrypted: leave out --make-password and --encrypt-with",
			format)
	}
	if f.name != "" && !format.IsStore() {
		return session.Misused("convert: --name is the friendly name in PKCS#12; the form %s has none", format)
	}
	if f.out == "-" && s.JSON {
		return session.Misused("--out - writes the file itself to standard output: leave out --json")
	}
	if format.NeedsPassword() {
		if w.Password, made, err = s.Password(ctx, f.password, "the new file"); err != nil {
			return err
		}
		defer clear(w.Password)
	}
	data, err := handover.Encode(given, w)
	if err != nil {
		return fmt.Errorf("convert: %w", err)
	}
	if f.out == "-" {
		if made {
			s.Errs.Say("password %s (shown once)", w.Password)
		}
		return s.Out.Raw(data)
	}
	file := delivery.File{Name: label.FileName(title) + format.Ending(), Data: data}
	secret := slices.Contains(w.Parts, handover.PartKey)
	return writeConverted(ctx, s, f, file, secret, notes, w, made)
}

func writeConverted(ctx context.Context, s *session.Session, f convertFlags, file delivery.File, secret bool,
	notes []string,
	w handover.Writing, made bool) error {
	path, other, err := delivery.Target(file, s.Path(f.out))
	if err != nil {
		return err
	}
	if other {
		if err := s.Agree(ctx, fmt.Sprintf("%s is there with other content. Replace it?",
			term.Safe(path))); err != nil {
			return err
		}
	}
	if err := delivery.WriteOut(s.Disk, path, file.Data, secret); err != nil {
		return err
	}
	if s.JSON {
		v := map[string]any{"file": path, "notes": append([]string{}, notes...)}
		if made {
			v["password"] = string(w.Password)
		}
		return s.PrintJSON(v)
	}
	s.Out.Say("%s %s, holding %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(path), strings.Join(w.Parts, ", "))
	for _, n := range notes {
		s.Out.Say("  %s", term.Safe(n))
	}
	if made {
		s.Out.Say("  password  %s   %s", s.Out.Paint(term.Accent, string(w.Password)),
			s.Out.Paint(term.Quiet, "shown once: hand it over by another way than the file"))
	}
	if w.Format == handover.P12Older {
		s.Out.Findings(finding.List{finding.New(finding.OlderProfile, "%s is protected the older way.", path)})
	}
	return nil
}

// partsOf is what a form usually holds of this bundle.
func partsOf(g handover.Bundle, f handover.Format) []string {
	var out []string
	if g.Key != nil && f.HoldsKey() {
		out = append(out, handover.PartKey)
	}
	if f == handover.KeyPlain || f == handover.KeyEncrypted || f == handover.KeyPKCS1 || f == handover.KeySEC1 {
		return []string{handover.PartKey}
	}
	out = append(out, handover.PartLeaf)
	if f == handover.DER {
		return out
	}
	if len(g.Intermediates) > 0 {
		out = append(out, handover.PartIntermediates)
	}
	if g.Root != nil && g.Root != g.Leaf {
		out = append(out, handover.PartRoot)
	}
	return out
}

// collect reads the certificates and keys of files, opening what is encrypted.
func collect(ctx context.Context, s *session.Session, f convertFlags, args []string) (certs []*cert.Certificate,
	keys []crypto.Signer, err error) {
	pass := &openers{s: s, file: f.openWith}
	for _, a := range args {
		inputs, err := intake.ReadInput(s.Path(a), s.Input)
		if err != nil {
			return nil, nil, err
		}
		for _, in := range inputs {
			c, err := bundle.Read(in.Data)
			if err != nil {
				return nil, nil, fmt.Errorf("%s: %w", in.Name, err)
			}
			for _, p := range c.Problems {
				return nil, nil, fmt.Errorf("%s: %w", in.Name, p)
			}
			for _, o := range c.Objects {
				moreCerts, moreKeys, err := openObject(ctx, o, in.Name, pass)
				if err != nil {
					return nil, nil, fmt.Errorf("%s: %w", in.Name, err)
				}
				certs, keys = append(certs, moreCerts...), append(keys, moreKeys...)
			}
		}
	}
	return certs, keys, nil
}

func openObject(ctx context.Context, o bundle.Object, name string,
	pass keystore.Passphrases) (certs []*cert.Certificate,
	keys []crypto.Signer, err error) {
	switch o.Kind {
	case bundle.Certificate:
		c, err := cert.Read(o.DER)
		return []*cert.Certificate{c}, nil, err
	case bundle.PrivateKey, bundle.EncryptedKey:
		k, err := keystore.OpenFile(ctx, o.DER, o.Kind, name, pass)
		return nil, []crypto.Signer{k}, err
	case bundle.Store:
		entries, err := openStore(ctx, o.DER, name, pass)
		if err != nil {
			return nil, nil, err
		}
		for _, e := range entries {
			if e.Signer != nil {
				keys = append(keys, e.Signer)
				continue
			}
			c, err := cert.Read(e.Certificate)
			if err != nil {
				return nil, nil, err
			}
			certs = append(certs, c)
		}
		return certs, keys, nil
	}
	return nil, nil, fmt.Errorf("a %s cannot be brought into another form", o.Kind)
}

// openStore opens a PKCS#12 file, asking for its password.
func openStore(ctx context.Context, der []byte, name string, pass keystore.Passphrases) ([]pkcs.StoreEntry, error) {
	for attempt := 1; ; attempt++ {
		secret, final, err := pass.Passphrase(ctx,
			keystore.Question{Handle: name, Purpose: "to open it", Again: attempt > 1})
		if err != nil {
			return nil, err
		}
		entries, err := pkcs.ReadStore(der, secret)
		clear(secret)
		if err == nil || !errors.Is(err, pkcs.ErrPassword) || final || attempt == 3 {
			return entries, err
		}
	}
}

// openers answers for encrypted input: from --open-with, else as usual.
type openers struct {
	s    *session.Session
	file string
}

// Passphrase implements keystore.Passphrases.
func (o *openers) Passphrase(ctx context.Context, q keystore.Question) ([]byte, bool, error) {
	if o.file != "" {
		secret, err := keystore.ReadPassphraseFile(o.s.Path(o.file))
		return secret, true, err
	}
	return (*session.Passphrases)(o.s).Passphrase(ctx, q)
}
