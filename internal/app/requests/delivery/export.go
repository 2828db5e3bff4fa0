package delivery

import (
	"context"
	"crypto"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/pki/cert"
	"ironseal/pki/handover"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
)

// File is a file to hand out.
type File struct {
	Name string
	Data []byte
}

// What goes with a certificate when it is handed out.
const (
	Alone       = ""
	WithIssuers = "issuers" // leaf and intermediates
	WithRoot    = "root"    // leaf, intermediates and the root
	WithLinks   = "links"   // leaf and link certificates
	WithAll     = "all"     // leaf, intermediates, root and link certificates: for another estate
)

// Bundle are a certificate with its whole line, and its key where it is given.
func Bundle(ctx context.Context, e *estate.Estate, c estate.CertificateRecord,
	signer crypto.Signer) (handover.Bundle, error) {
	g := handover.Bundle{Leaf: c.Certificate, Key: signer}
	line, err := e.Line(ctx, c)
	if err != nil {
		return g, err
	}
	for _, i := range line {
		if i.SelfSigned() {
			g.Root = i
		} else {
			g.Intermediates = append(g.Intermediates, i)
		}
	}
	g.Links, err = linksTo(ctx, e, g, false)
	return g, err
}

// linksTo finds the link certificates that let a client which holds only
// another root of the same authority import this bundle; with all, those between
// any of its roots, for an estate that hands out certificates below each of them.
func linksTo(ctx context.Context, e *estate.Estate, g handover.Bundle, all bool) ([]*cert.Certificate, error) {
	root := g.Root
	if root == nil && g.Leaf.SelfSigned() {
		root = g.Leaf
	}
	h, err := e.Hierarchy(ctx)
	if err != nil || root == nil {
		return nil, err
	}
	var out []*cert.Certificate
	for _, a := range h {
		for _, l := range a.Links {
			fits := (all || key.Same(l.Certificate.Key, root.Key)) && l.By.SwitchDay.IsZero() &&
				l.To.SwitchDay.IsZero() &&
				l.Certificate.Subject.Equal(root.Subject) &&
				!e.Now().After(l.Certificate.NotAfter)
			if !fits || l.To.Idle() != "" { // a suspected key gets no link certificate
				continue
			}
			record, known, err := e.OnRecord(ctx, l.Certificate)
			if err != nil {
				return nil, err
			}
			if known && !record.State.Rejected() {
				out = append(out, l.Certificate)
			}
		}
	}
	return out, nil
}

// Export makes the file for one certificate, in one of the forms that hold no key.
func Export(ctx context.Context, e *estate.Estate, c estate.CertificateRecord, as handover.Format,
	with string) (File, error) {
	if c.State == lifecycle.Prepared {
		return File{}, fmt.Errorf("%s, serial %s, waits unused for its switch day", c.Title(), c.Serial.Short())
	}
	g, err := Bundle(ctx, e, c, nil)
	if err != nil {
		return File{}, err
	}
	if with == WithAll {
		if g.Links, err = linksTo(ctx, e, g, true); err != nil {
			return File{}, err
		}
	}
	parts := map[string][]string{Alone: {handover.PartLeaf},
		WithIssuers: {handover.PartLeaf, handover.PartIntermediates},
		WithRoot:    {handover.PartLeaf, handover.PartIntermediates, handover.PartRoot},
		WithLinks:   {handover.PartLeaf, handover.PartLinks},
		WithAll:     {handover.PartLeaf, handover.PartIntermediates, handover.PartRoot, handover.PartLinks}}[with]
	suffix := "certificate"
	if with != Alone {
		suffix = "with-" + with
	}
	data, err := handover.Encode(g, handover.Writing{Parts: parts, Format: as})
	if err != nil {
		return File{}, fmt.Errorf("%s: %w", c.Title(), err)
	}
	return File{label.FileName(c.Title()) + "." + suffix + as.Ending(), data}, nil
}

// Target says where a file will go and whether another is there.
func Target(f File, out string) (path string, exists bool, err error) {
	path = filepath.Join(".", f.Name)
	if out != "" {
		info, statErr := os.Stat(out)
		path = out
		if statErr == nil && info.IsDir() || strings.HasSuffix(out, string(filepath.Separator)) ||
			strings.HasSuffix(out, "/") {
			path = filepath.Join(out, f.Name)
		}
	}
	same, there, err := disk.Holds(path, f.Data)
	return path, there && !same, err
}

// WriteFile writes a file to hand out.
func WriteFile(e *estate.Estate, path string, data []byte) error {
	if err := WriteOut(e.Env.Disk, path, data, false); err != nil {
		return err
	}
	return e.Env.Step(estate.StepHandingOut)
}
