package session

import (
	"bytes"
	"encoding/pem"
	"errors"
	"fmt"

	"ironseal/internal/disk"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/ocsp"
	"ironseal/pki/revocation"
)

// ListsIn reads the revocation lists of files, as bytes.
func (s *Session) ListsIn(files []string) (out [][]byte, err error) {
	for _, f := range files {
		lists, answers, err := s.revocationsIn(f)
		if err != nil {
			return nil, err
		}
		if len(answers) > 0 {
			return nil, fmt.Errorf("%s: it holds an OCSP answer, and a revocation list is needed", f)
		}
		out = append(out, lists...)
	}
	return out, nil
}

// Evidence reads what tells of revocations from files: lists, and OCSP answers. A list that cannot
// be judged, since something in it is not understood, counts as not there: it is named in unjudged,
// with why.
func (s *Session) Evidence(files []string) (lists []*revocation.List, answers []*ocsp.Response, unjudged []string,
	err error) {
	for _, f := range files {
		these, more, err := s.revocationsIn(f)
		if err != nil {
			return nil, nil, nil, err
		}
		for _, der := range these {
			l, err := revocation.ReadList(der)
			var cannot *revocation.Unjudged
			if err != nil && !errors.As(err, &cannot) {
				return nil, nil, nil, fmt.Errorf("%s: %w", f, err)
			}
			if err != nil {
				unjudged = append(unjudged, fmt.Sprintf("%s: %v", f, err))
				continue
			}
			lists = append(lists, l)
		}
		answers = append(answers, more...)
	}
	return lists, answers, unjudged, nil
}

// revocationsIn reads a file of lists, DER or text, or one OCSP answer. Lists are large, so
// they are not looked for where they could only be by mistake, unless there is nothing else.
func (s *Session) revocationsIn(file string) (lists [][]byte, answers []*ocsp.Response, err error) {
	data, err := disk.Read(s.Path(file), revocation.MostSize)
	if err != nil {
		return nil, nil, err
	}
	if len(data) > 0 && data[0] == 0x30 {
		if len(data) <= ocsp.MostSize {
			if a, err := ocsp.ReadResponse(data); err == nil {
				return nil, []*ocsp.Response{a}, nil
			}
		}
		return [][]byte{data}, nil, nil
	}
	for rest := data; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if block.Type == "X509 CRL" {
			lists = append(lists, block.Bytes)
		}
	}
	if len(lists) > 0 || len(data) > bundle.MostBytes {
		return lists, nil, nil
	}
	c, err := bundle.Read(bytes.TrimSpace(data))
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", file, err)
	}
	for _, o := range c.Of(bundle.List) {
		lists = append(lists, o.DER)
	}
	if len(lists) == 0 {
		return nil, nil, fmt.Errorf("%s: there is no revocation list in it", file)
	}
	return lists, nil, nil
}

// PassedOver tells of lists that are not served, and why.
func (s *Session) PassedOver(lines []string) {
	for _, l := range lines {
		if !s.JSON {
			s.Out.Say("%s", s.Out.Paint(term.Careful, "! passed over: "+term.Safe(l)))
		}
	}
}

// News prints what a list that was imported tells of certificates on record.
func (s *Session) News(lines []string) {
	for _, l := range lines {
		if !s.JSON {
			s.Out.Say("  %s", s.Out.Paint(term.Careful, "! "+term.Safe(l)))
		}
	}
}
