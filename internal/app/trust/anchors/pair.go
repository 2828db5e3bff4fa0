package anchors

import (
	"bytes"
	"context"
	"encoding/asn1"
	"errors"
	"fmt"
	"path/filepath"

	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/kit"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/pair"
	"ironseal/pki/path"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// SideAsk names one side of a pair: a file, or what is on record.
type SideAsk struct {
	Name     string
	Files    []intake.Input // what the file with this name holds; none when it is on record
	Host     string         // how the other side reaches it; "" for the first name that it has
	Template string         // by which a request is to be signed; "" to choose
}

// Side finds what a side presents, or would present once its request is signed.
func Side(ctx context.Context, e *estate.Estate, ask SideAsk, over pair.Protocol) (pair.Peer, error) {
	p := pair.Peer{Host: ask.Host}
	err := known(ctx, e, &p)
	if err != nil {
		return p, err
	}
	var r *request.Request
	if len(ask.Files) > 0 {
		p.Chain, r, err = presentedIn(ask.Files)
	} else {
		p.Chain, r, err = presentedBy(ctx, e, ask.Name)
	}
	if err != nil {
		return p, err
	}
	if r != nil {
		return foreseen(ctx, e, p, r, ask.Template, over)
	}
	leaf := p.Chain[0]
	if p.Roots.Find(leaf) != nil || leaf.IsAuthority() && !leaf.SelfSigned() {
		return p, fmt.Errorf("%s: %s is an authority, and no machine presents it: give the machine's own certificate",
			ask.Name, leaf.Title())
	}
	p.Title = leaf.Title()
	if p.Remarks, err = compromise.Against(ctx, e, leaf); err != nil {
		return p, err
	}
	if p.Host == "" {
		p.Host = san.FirstHost(leaf.Names)
	}
	return p, nil
}

// known fills in what may be above what a side presents: the authorities of the estate, and
// the roots of every set with their limits; where two sets have one, the first counts.
func known(ctx context.Context, e *estate.Estate, p *pair.Peer) error {
	sets, faults := Sets(ctx, e)
	if len(faults) > 0 {
		return errors.Join(faults...)
	}
	for _, s := range sets {
		for _, a := range s.Anchors {
			if p.Roots.Find(a.Certificate) == nil {
				p.Roots.Anchors = append(p.Roots.Anchors, a)
			}
		}
	}
	h, err := e.Hierarchy(ctx)
	for _, g := range estate.AllGenerations(h) {
		p.Known = append(p.Known, g.Certificate)
	}
	return err
}

// presentedIn reads what a file says that a side presents: certificates, or one request.
func presentedIn(files []intake.Input) (chain []*cert.Certificate, r *request.Request, err error) {
	for _, in := range files {
		c, err := bundle.Read(in.Data)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", in.Name, err)
		}
		for _, o := range c.Of(bundle.Certificate) {
			x, err := cert.Read(o.DER)
			if err != nil {
				return nil, nil, fmt.Errorf("%s: %w", in.Name, err)
			}
			chain = append(chain, x)
		}
		for _, o := range c.Of(bundle.Request) {
			if r != nil || len(chain) > 0 {
				return nil, nil, fmt.Errorf("%s: there is more than one request in it, or a certificate too: give "+
					"one file for one side", in.Name)
			}
			if r, err = request.Read(o.DER); err == nil {
				err = r.Proven()
			}
			if err != nil {
				return nil, nil, fmt.Errorf("%s: %w: ask for it again", in.Name, err)
			}
		}
	}
	if r != nil {
		return nil, r, nil
	}
	if len(chain) == 0 {
		return nil, nil, fmt.Errorf("%s: there is neither a certificate nor a request in it", files[0].Name)
	}
	leaf := path.LeafOf(chain)
	rest := []*cert.Certificate{leaf}
	for _, c := range chain {
		if c != leaf {
			rest = append(rest, c)
		}
	}
	return rest, nil, nil
}

// presentedBy finds a certificate on record with what it is handed out with, or a request that
// waits.
func presentedBy(ctx context.Context, e *estate.Estate, name string) ([]*cert.Certificate, *request.Request, error) {
	record, _, err := e.FindCertificate(ctx, name)
	if err != nil {
		if rec, r, rErr := e.Request(ctx, name); rErr == nil && rec.State != lifecycle.Declined {
			return nil, r, nil
		}
		if errors.Is(err, fault.NotFound) {
			err = fmt.Errorf("there is no file %s, and %w", name, err)
		}
		return nil, nil, err
	}
	line, err := e.Line(ctx, record)
	chain := []*cert.Certificate{record.Certificate}
	for _, c := range line {
		if !c.SelfSigned() {
			chain = append(chain, c)
		}
	}
	return chain, nil, err
}

// foreseen fills in what a request would become.
func foreseen(ctx context.Context, e *estate.Estate, p pair.Peer, r *request.Request, template string,
	over pair.Protocol) (pair.Peer, error) {
	p.Title = r.Title()
	wanted := []asn1.ObjectIdentifier{over.Usage(pair.Server), over.Usage(pair.Client)}
	s, err := signing.Foresee(ctx, e, r, template, wanted)
	if err != nil {
		return p, err
	}
	p.Planned = &pair.Planned{Template: s.Template.Name, Names: s.Plan.Names, Extended: s.Template.ExtendedUsage(),
		Findings: s.Plan.Findings}
	for _, g := range s.Issuer.Line() {
		if g.IsRoot() && len(p.Chain) > 0 {
			continue // the root is not presented
		}
		p.Chain = append(p.Chain, g.Certificate)
	}
	if p.Host == "" {
		p.Host = san.FirstHost(s.Plan.Names)
	}
	return p, nil
}

// PairPack says where the folders of a pair go, and in which form each side wants them.
type PairPack struct {
	Question  pair.Question
	Answer    pair.Answer
	Platforms [2]string
	Dir       string
	Replace   bool // earlier kits there
}

// Side is the folder of one side.
func (p PairPack) Side(i int) string {
	titles := [2]string{label.FileName(p.Question.Peers[0].Title), label.FileName(p.Question.Peers[1].Title)}
	if i == 1 && titles[0] == titles[1] {
		return filepath.Join(p.Dir, titles[1]+"-2")
	}
	return filepath.Join(p.Dir, titles[i])
}

// Kit is what packs the anchors of one side.
func (p PairPack) Kit(i int) PackAsk {
	return PackAsk{Set: p.Answer.Needs[i], Platforms: []string{p.Platforms[i]}, Dir: p.Side(i), Replace: p.Replace}
}

// PackPair writes a folder for each side: a kit of the anchors that it needs, what it
// presents, and a page. Both kits are made before either is written.
func PackPair(ctx context.Context, e *estate.Estate, p PairPack) ([2]Packed, error) {
	var out [2]Packed
	for i := range out {
		if len(p.Answer.Needs[i].Anchors) == 0 {
			return out, fault.New(fault.NotFound, "no root is known above %s", p.Question.Peers[1-i].Title).
				Then(advice.To("add it to a trust set", advice.AddToSet))
		}
		if _, _, err := p.Kit(i).InMemory(e); err != nil {
			return out, err
		}
	}
	for i := range out {
		if err := disk.Dir(p.Side(i)); err != nil {
			return out, err
		}
		kits, err := Pack(ctx, e, p.Kit(i))
		if err != nil {
			return out, err
		}
		out[i] = kits[0]
		if err := p.rest(e, i, filepath.Base(kits[0].Path)); err != nil {
			return out, err
		}
	}
	return out, nil
}

// rest writes what goes beside a side's kit.
func (p PairPack) rest(e *estate.Estate, i int, kitDir string) error {
	me, presents := p.Question.Peers[i], ""
	if me.Planned == nil {
		var chain bytes.Buffer
		for n, c := range me.Chain {
			if n == 0 || !c.SelfSigned() {
				chain.Write(bundle.PEM(bundle.Certificate, c.Raw))
			}
		}
		presents = label.FileName(me.Title) + ".with-issuers.pem"
		if err := e.Env.Disk.Replace(filepath.Join(p.Side(i), presents), chain.Bytes(), 0o644); err != nil {
			return err
		}
	}
	page := p.Answer.Page(p.Question, i, []string{kitDir}, presents)
	return e.Env.Disk.Replace(filepath.Join(p.Side(i), kit.PageFile), page, 0o644)
}
