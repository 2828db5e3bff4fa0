// Package files has the commands that work on files of any kind: reading, converting,
// verifying.
package files

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/requests/intake"
	"ironseal/internal/cli/session"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/describe"
	"ironseal/pki/key"
	"ironseal/pki/match"
	"ironseal/pki/pkcs"
	"ironseal/pki/request"
)

// Read is ironseal read.
func Read(s *session.Session) *cobra.Command {
	var all bool
	var openWith string
	c := session.Reading(&cobra.Command{
		Use:   "read FILE|-...",
		Short: "Show what a file holds: certificates, requests, keys",
		Long: `Show what files hold, what matters first. It describes every object in a file. A certificate that
strict readers refuse is described as far as possible, with its faults. Of several files it
says which key, request and certificate belong together, which certificate issued which, and
what is missing. No estate is needed.

A PKCS#12 file is opened too: its password comes from --open-with, or is asked for.`,
		Example: `  ironseal read ../inbox/mail.txt
  ironseal read - < ../inbox/mail.txt
  ironseal read --all ../inbox/mail.txt
  ironseal read ../handed-out ../drafts`,
		Args: session.AtLeast(1, "a file, or -"),
		RunE: func(cmd *cobra.Command, args []string) error {
			inputs, err := s.Inputs(args)
			if err != nil {
				return err
			}
			objects, heap := []describe.Object{}, []match.Thing{}
			var faults []error
			var parts []readPart
			for _, in := range inputs {
				p, things, errs := readOne(cmd.Context(), s, in, openWith)
				parts, heap, faults = append(parts, p), append(heap, things...), append(faults, errs...)
				objects = append(objects, p.objects...)
			}
			if s.JSON {
				if err := s.PrintJSON(objects); err != nil {
					return err
				}
				return errors.Join(faults...)
			}
			if len(heap) > 1 {
				drawRelations(s, match.Find(heap))
			}
			for _, p := range parts {
				p.draw(s, len(parts) > 1, all)
			}
			return errors.Join(faults...)
		},
	})
	c.Flags().BoolVar(&all, "all", false, "show the details too")
	c.Flags().StringVar(&openWith, "open-with", "", "the password of a PKCS#12 file, from a `FILE`")
	return c
}

// drawRelations says what the objects of a heap have to do with each other.
func drawRelations(s *session.Session, list []match.Match) {
	if len(list) == 0 {
		return
	}
	s.Out.Say("%s", s.Out.Paint(term.Strong, "What belongs together"))
	for _, r := range list {
		mark, tone := "✓", term.Good
		if !r.Good {
			mark, tone = "!", term.Careful
		}
		s.Out.Item(s.Out.Paint(tone, mark), term.Safe(r.Text))
	}
	s.Out.Gap()
}

// thingOf reads an object as far as it has to do with others.
func thingOf(o bundle.Object, source string) (t match.Thing, ok bool) {
	t.Source = source
	switch o.Kind {
	case bundle.Certificate:
		c, err := cert.Read(o.DER)
		t.Certificate = c
		return t, err == nil
	case bundle.Request:
		r, err := request.Read(o.DER)
		t.Request = r
		return t, err == nil
	case bundle.PrivateKey:
		k, err := describe.PublicOf(o.DER)
		t.Key = &k
		return t, err == nil
	}
	return t, false
}

// readPart is what one file holds.
type readPart struct {
	name    string
	remarks []string
	objects []describe.Object
}

func (p readPart) draw(s *session.Session, named, all bool) {
	if named {
		s.Out.Say("%s", s.Out.Paint(term.Quiet, "── "+term.Safe(p.name)))
	}
	if len(p.remarks) > 0 {
		s.Out.Say("%s", s.Out.Paint(term.Quiet, "cleaned up: "+strings.Join(p.remarks, ", ")))
	}
	for i, o := range p.objects {
		if i > 0 {
			s.Out.Gap()
		}
		s.Out.Describe(o, all)
	}
}

func readOne(ctx context.Context, s *session.Session, in intake.Input, openWith string) (out readPart,
	heap []match.Thing, faults []error) {
	c, err := bundle.Read(in.Data)
	if err != nil {
		return out, nil, []error{fmt.Errorf("%s: %w", in.Name, err)}
	}
	out.name, out.remarks = in.Name, c.Remarks
	for i, obj := range c.Objects {
		o, err := describe.Any(obj, s.Moment())
		if err != nil {
			faults = append(faults, fmt.Errorf("%s: number %d, a %s: %w", in.Name, i+1, obj.Kind, err))
			continue
		}
		if len(heap) < mostHeap {
			source := filepath.Base(in.Name)
			if len(c.Objects) > 1 {
				source = fmt.Sprintf("%s #%d", source, i+1)
			}
			if t, ok := thingOf(obj, source); ok {
				heap = append(heap, t)
			}
		}
		out.objects = append(out.objects, o)
		if obj.Kind == bundle.Store {
			more, things, err := inStore(ctx, s, obj.DER, in.Name, openWith)
			if err != nil {
				faults = append(faults, fmt.Errorf("%s: %w", in.Name, err))
			}
			out.objects, heap = append(out.objects, more...), append(heap, things...)
		}
	}
	for _, p := range c.Problems {
		faults = append(faults, fmt.Errorf("%s: %w", in.Name, p))
	}
	return out, heap, faults
}

// inStore says what is in a PKCS#12 file. Without a terminal to ask for its password, it says no more.
func inStore(ctx context.Context, s *session.Session, der []byte, name, openWith string) (out []describe.Object,
	heap []match.Thing, err error) {
	entries, err := pkcs.ReadStore(der, nil) // trust stores often have no password
	if errors.Is(err, pkcs.ErrPassword) {
		entries, err = openStore(ctx, der, filepath.Base(name), &openers{s, openWith})
	}
	if errors.Is(err, term.ErrNoTerminal) {
		return nil, nil, errors.New("its password is needed to see what is in it: give it in a file: --open-with FILE")
	}
	if err != nil {
		return nil, nil, err
	}
	for i, e := range entries {
		o, t, err := stored(s, e)
		if err != nil {
			return out, heap, fmt.Errorf("entry %d: %w", i+1, err)
		}
		if e.Name != "" {
			o.Lead("alias", "Alias", e.Name)
		}
		if t.Source = fmt.Sprintf("%s #%d", filepath.Base(name), i+1); len(heap) < mostHeap {
			heap = append(heap, t)
		}
		out = append(out, o)
	}
	return out, heap, nil
}

// stored describes an entry of a PKCS#12 file.
func stored(s *session.Session, e pkcs.StoreEntry) (describe.Object, match.Thing, error) {
	if e.Signer != nil {
		pub, err := key.Of(e.Signer)
		if err != nil {
			return describe.Object{}, match.Thing{}, err
		}
		o := describe.Object{Kind: "private key"}
		o.Add("key", "Key", string(pub.Kind)).Shown = []string{pub.Words() + ", encrypted in the file"}
		o.Add("key_sha256", "Key SHA-256", fmt.Sprintf("%x", pub.Fingerprint()))
		return o, match.Thing{Key: &pub}, nil
	}
	c, err := cert.Read(e.Certificate)
	if err != nil {
		return describe.Object{}, match.Thing{}, err
	}
	return describe.Certificate(c, s.Moment()), match.Thing{Certificate: c}, nil
}

// mostHeap bounds how many objects are related to each other.
const mostHeap = 300
