package estate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/receiver"
	"ironseal/pki/template"
)

// CopyTemplate writes a template that is based on another one.
func (e *Estate) CopyTemplate(ctx context.Context, from, name, title string) (path string, err error) {
	t, err := e.Template(from)
	if err != nil {
		return "", err
	}
	if t.BasedOn != "" {
		return "", fmt.Errorf("template %s is itself based on %s; inheritance is one step: copy %s", from, t.BasedOn,
			t.BasedOn)
	}
	if err := hierarchy.ValidHandle(name); err != nil {
		return "", fmt.Errorf("template: %w", err)
	}
	if title == "" {
		title = t.Title + " (" + name + ")"
	}
	quoted, err := json.Marshal(title) // a JSON string is a TOML basic string
	if err != nil {
		return "", err
	}
	text := fmt.Sprintf("# Based on %s: only what differs stands here. See docs/templates.md for every "+
		"key.\nbased-on = %q\ntitle    = %s\n", from, from, quoted)
	return e.copied(ctx, "template", from, name, text)
}

// copied writes a new data file in the act that records it. A file whose act failed is taken away again, so that
// the act can be repeated.
func (e *Estate) copied(ctx context.Context, kind, from, name, text string) (path string, err error) {
	path = filepath.Join(e.Dir, kind+"s", name+".toml")
	made := false
	_, err = e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		if err := e.Env.Disk.New(path, []byte(text), 0o644); err != nil {
			return nil, fmt.Errorf("%s %s: %w", kind, name, err)
		}
		made = true
		return []event.Record{event.On(name, event.DataFileCopied{Kind: kind, From: from})}, nil
	})
	if err != nil && made && !errors.Is(err, store.ErrUncertain) {
		err = errors.Join(err, e.Env.Disk.Remove(path))
	}
	return path, err
}

// AllowIssuer lets an authority sign by a template: its handle is added to the issuers in the template's file.
// Everything else in the file stays as it is.
func (e *Estate) AllowIssuer(ctx context.Context, name, handle string) (path string, err error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return "", err
	}
	g, err := FindGeneration(h, handle)
	if err != nil {
		return "", err
	}
	t, err := e.Template(name)
	if err != nil {
		return "", err
	}
	if t.SignedBy(g.Authority.Handle, g.IsRoot()) {
		return "", fmt.Errorf("template %s: %s signs by it already", name, g.Authority.Handle)
	}
	path = filepath.Join(e.Dir, "templates", name+".toml")
	_, err = e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		data, err := e.dataFile("template", name)
		if err != nil {
			return nil, err
		}
		text, err := template.AddIssuer(data, t.Issuers, g.Authority.Handle)
		if err != nil {
			return nil, fmt.Errorf("template %s: %w", name, err)
		}
		if err := e.Env.Disk.Replace(path, text, 0o644); err != nil {
			return nil, fmt.Errorf("template %s: %w", name, err)
		}
		return []event.Record{event.On(name, event.IssuerAllowed{Issuer: g.Authority.Handle})}, nil
	})
	return path, err
}

// CopyReceiver writes a receiver that begins as another one.
func (e *Estate) CopyReceiver(ctx context.Context, from, name string) (path string, err error) {
	if _, err := e.Receiver(from); err != nil {
		return "", err
	}
	if err := hierarchy.ValidHandle(name); err != nil {
		return "", fmt.Errorf("receiver: %w", err)
	}
	data, err := e.dataFile("receiver", from)
	if err != nil {
		return "", err
	}
	text := fmt.Sprintf("# Copied from %s. See docs/receivers.md for every key.\n%s", from, data)
	return e.copied(ctx, "receiver", from, name, text)
}

// Receivers reads all receivers. Those that cannot be read are reported in the errors.
func (e *Estate) Receivers() (list []receiver.Receiver, faults []error) {
	for _, name := range e.ReceiverNames() {
		r, err := e.Receiver(name)
		if err != nil {
			faults = append(faults, err)
			continue
		}
		list = append(list, r)
	}
	return list, faults
}

// TemplateThen gives a certificate's template as it was when it was signed, and
// as it is today.
func (e *Estate) TemplateThen(c CertificateRecord) (then, today template.Template, err error) {
	if c.Record.Template == "" {
		return then, today, errors.New("this certificate was signed by no template")
	}
	if then, err = Recorded(c.Record.Template, c.Record.Source); err != nil {
		return then, today, fmt.Errorf("the template on record: %w", err)
	}
	today, err = e.Template(c.Record.Template)
	return then, today, err
}

// Recorded reads a template as it is on record, where it is complete in itself.
func Recorded(name string, source []byte) (template.Template, error) {
	return template.Parse(name, []byte(strings.Replace(string(source), "based-on", "# based-on", 1)), nil)
}

// CheckTemplate says where a template contradicts itself, or what no authority
// that signs by it can grant today.
func (e *Estate) CheckTemplate(ctx context.Context, t template.Template) (finding.List, error) {
	out := t.Contradictions()
	h, err := e.Hierarchy(ctx)
	if err != nil || t.Makes == template.Root {
		return out, err
	}
	var best *hierarchy.Grant
	for _, a := range h {
		g := a.Current()
		if !t.SignedBy(a.Handle, g.IsRoot()) {
			continue
		}
		life := hierarchy.Life(g.Line(), e.Now(), 0, t.Lifetime)
		if best == nil || life.NotAfter.After(best.NotAfter) {
			best = &life
		}
	}
	if best != nil && best.CutBy != nil {
		out = append(out, finding.New(finding.TemplateAtOdds,
			"%s gives %s, and no authority that signs by it can grant that today: the most ends on %s, with %s.",
			t.Name, t.Lifetime.Words(), best.NotAfter.Format("2006-01-02"), best.CutBy.Label()))
	}
	return out, nil
}
