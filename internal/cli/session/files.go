package session

import (
	"context"
	"fmt"

	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/disk"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
)

// Manifest reads a CSV file of hosts; "-" is standard input.
func (s *Session) Manifest(file string) ([]signing.ManifestRow, error) {
	data, err := disk.Read(s.Path(file), bundle.MostBytes)
	if err != nil {
		return nil, err
	}
	rows, err := signing.ReadManifest(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if len(rows) == 0 {
		return nil, fmt.Errorf("%s: manifest: there are no rows in it", file)
	}
	return rows, nil
}

// CertificatesInAll reads the certificates of several files.
func (s *Session) CertificatesInAll(files []string) ([]*cert.Certificate, error) {
	var out []*cert.Certificate
	for _, f := range files {
		list, err := s.CertificatesIn(f)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}

// CertificatesIn reads the certificates of a file.
func (s *Session) CertificatesIn(file string) ([]*cert.Certificate, error) {
	file = s.Path(file)
	var data []byte
	var err error
	if file == "-" {
		data, err = s.Input()
	} else {
		data, err = disk.Read(file, bundle.MostBytes)
	}
	if err != nil {
		return nil, err
	}
	c, err := bundle.Read(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	for _, p := range c.Problems {
		return nil, fmt.Errorf("%s: %w", file, p)
	}
	var out []*cert.Certificate
	for _, o := range c.Of(bundle.Certificate) {
		x, err := cert.Read(o.DER)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		out = append(out, x)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: there is no certificate in it; it holds a %s", file, c.Objects[0].Kind)
	}
	return out, nil
}

// Anchors are the roots in files, or those of the estate.
func (s *Session) Anchors(ctx context.Context, files []string) ([]*cert.Certificate, error) {
	if len(files) > 0 {
		return s.CertificatesInAll(files)
	}
	e, err := s.EstateIfAny(ctx)
	if err != nil {
		return nil, err
	}
	if e == nil {
		return nil, Misused("verify: give the trusted root: --anchor FILE")
	}
	roots, _, err := e.Roots(ctx)
	if err == nil && len(roots) == 0 {
		err = Misused("verify: this estate has no root yet: give one with --anchor FILE")
	}
	if !s.JSON {
		s.Errs.Say("(trusting the roots of this estate; others with --anchor FILE)")
	}
	return roots, err
}

// Inputs reads files, every file of directories, and "-" for standard input.
func (s *Session) Inputs(args []string) (out []intake.Input, err error) {
	for _, a := range args {
		list, err := intake.ReadInput(s.Path(a), s.Input)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}
