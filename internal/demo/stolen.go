package demo

import (
	"context"
	"crypto"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/probe"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/pbes"
	"ironseal/pki/revocation"
	"ironseal/pki/status"
)

// PlayStolen plays an incident in a rehearsal, over the devices of the quay: the key of the
// authority that signed them is stolen, someone serves a certificate that it made, and a
// display that reads revocation lists looks at every stage.
func PlayStolen(ctx context.Context, s Stage) error {
	q, done, err := s.quay()
	if err != nil {
		return err
	}
	defer done()
	for _, d := range q.devices { // what was wrong with them is another story
		d.asked = ""
		d.set(time.Now)
	}
	if err := (disk.Disk{}).Replace("parties.csv", q.table(), 0o644); err != nil {
		return err
	}
	if err := s.play(q.peace()); err != nil {
		return err
	}
	if err := q.look(ctx, "before", true, true); err != nil {
		return err
	}
	return q.stolen(ctx)
}

// peace is how things stand before: all devices serve what services signed.
func (q *quay) peace() []scene {
	out := []scene{
		{say: "This is a rehearsal, with throwaway keys.\nEight devices " +
			"on the quay each have a certificate that services signed.",
			typed: []string{`estate rehearse harbour --blank --organisation "Tern Bay Ferries" --country NO --as-of ` +
				time.Now().UTC().Add(-time.Minute).Format(time.RFC3339)},
			then: func() error { return os.Chdir("harbour") }},
		{typed: []string{"authority create root --key ecdsa-p256 --yes",
			"authority create services --under root --key ecdsa-p256 --yes", "party import ../parties.csv",
			"request receive ../requests"}},
	}
	out = append(out, q.handedOver("sign R%d --party %s --yes")...)
	return append(out, scene{say: "A display on the bridge trusts the root and reads the revocation lists.",
		typed: []string{"trust kit --party bridge-display --out ../displays", "revocations publish --to ../public",
			"probe --all --record"}})
}

// handedOver hands every device the newest certificate of its request, after what is typed
// first for each.
func (q *quay) handedOver(first ...string) (out []scene) {
	for i, d := range q.ordered() {
		var s scene
		for _, f := range first {
			s.typed = append(s.typed, fmt.Sprintf(f, i+1, d.name))
		}
		s.typed = append(s.typed, fmt.Sprintf("certificate handover R%d --party %s --out ../devices/%s --yes", i+1,
			d.name,
			d.name))
		out = append(out, s)
	}
	return out
}

// stolen is the incident, from suspicion to zero.
func (q *quay) stolen(ctx context.Context) error {
	forged, err := q.forge()
	if err != nil {
		return err
	}
	q.listeners = append(q.listeners, forged)
	thief := forged.Addr().String()
	stages := []struct {
		scenes       []scene
		words        string
		takes, cheat bool // whether the display takes the devices, and the thief
	}{
		{[]scene{{say: "The safe is found open. Someone serves a certificate for the crane that is not on\nrecord. " +
			"The incident stops services at once.",
			typed: []string{`incident open services --because "the safe was found open"`}}},
			"the key is stolen, but not revoked", true, true},
		{[]scene{{say: "The key is certainly lost. Revoke it at once. Every certificate below it becomes\ninvalid.",
			typed: []string{`revoke services --reason ca-compromise --because "a thief signs with it" --yes`,
				"revocations publish --to ../public"}}},
			"revoked and published", false, false},
		{append([]scene{{say: "Renew services with a new key, and replace every certificate.",
			typed: []string{`authority renew services --suspect "stolen" --yes`, "incident replace I1 --yes"}}},
			q.handedOver()...), "", true, false},
		{[]scene{{say: "Publish, and check that no device serves an old certificate any more.",
			typed: []string{"revocations publish --to ../public", "probe --all --record", "incident show I1",
				`incident close I1 --because "all replaced, and seen"`, "incident show I1 --report ../incident-1.txt",
				"journal verify"}}}, "replaced", true, false},
	}
	for _, s := range stages {
		if err := q.play(s.scenes); err != nil {
			return err
		}
		if s.words == "" {
			continue
		}
		if err := q.look(ctx, s.words, s.takes, true); err != nil {
			return err
		}
		if err := q.cheat(ctx, thief, s.cheat); err != nil {
			return err
		}
	}
	return nil
}

// look lets the display look at every device, by its kit and the lists that are published.
func (q *quay) look(ctx context.Context, words string, takes, with bool) error {
	for _, d := range q.devices {
		taken, why, err := q.display(ctx, d.endpoint(), with)
		if err != nil {
			return err
		}
		if taken != takes {
			return fmt.Errorf("demo: %s: the display takes %s: %v (%s)", words, d.name, taken, why)
		}
	}
	if takes {
		q.Answer(true, words+": the display accepts every device")
	} else {
		q.Answer(false, words+": the display refuses every device")
	}
	return nil
}

// cheat lets the display look at the thief, with the lists and without.
func (q *quay) cheat(ctx context.Context, at string, takes bool) error {
	endpoint := "crane-control.ternbay.example@" + at
	blind, _, err := q.display(ctx, endpoint, false)
	if err != nil {
		return err
	}
	taken, why, err := q.display(ctx, endpoint, true)
	if err != nil {
		return err
	}
	if taken != takes || !blind {
		return fmt.Errorf("demo: the thief is taken: %v, and without lists: %v (%s)", taken, blind, why)
	}
	if taken {
		q.Answer(false, "and it accepts the thief as the crane")
	} else {
		q.Answer(true, "and it refuses the thief: "+why)
	}
	return nil
}

// display judges an endpoint as the display does; with says whether it reads the lists.
func (q *quay) display(ctx context.Context, endpoint string, with bool) (taken bool, why string, err error) {
	anchors, err := certificatesIn("../displays/own.bundle/roots.pem")
	if err != nil {
		return false, "", err
	}
	target, err := probe.ParseTarget(endpoint)
	if err != nil {
		return false, "", err
	}
	a := probe.Options{Wait: 10 * time.Second}.Look(ctx, target, time.Now)
	if len(a.Presented) == 0 {
		return false, "", fmt.Errorf("demo: %s presents nothing: %w", endpoint, a.Err)
	}
	question := path.Question{Anchors: anchors, Now: time.Now(), Name: target.Name}
	if with {
		e := status.Evidence{}
		files, err := filepath.Glob("../public/*.crl")
		if err != nil {
			return false, "", err
		}
		for _, f := range files {
			der, err := disk.Read(f, 1<<20)
			if err != nil {
				return false, "", err
			}
			l, err := revocation.ReadList(der)
			if err != nil {
				return false, "", err
			}
			e.Lists = append(e.Lists, l)
		}
		question.Status = status.New(e, question, true).Ask
	}
	v := path.Verify(a.Presented[0], a.Presented[1:], question)
	if r := v.Reasons(); len(r) > 0 {
		why = r[0].Message
	}
	return v.Valid, why, nil
}

func certificatesIn(file string) (out []*cert.Certificate, err error) {
	data, err := disk.Read(file, 1<<20)
	if err != nil {
		return nil, err
	}
	found, err := bundle.Read(data)
	if err != nil {
		return nil, err
	}
	for _, o := range found.Of(bundle.Certificate) {
		c, err := cert.Read(o.DER)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// forge does what a thief does: it takes the key out of the safe, and lets it sign a
// certificate for the crane. The passphrase of a rehearsal's keys is no secret.
func (q *quay) forge() (net.Listener, error) {
	crane := deviceNamed("crane-control", q.devices)
	chain := crane.presents()
	if len(chain) < 2 {
		return nil, errors.New("demo: the crane has no chain")
	}
	services, err := cert.Read(chain[1])
	if err != nil {
		return nil, err
	}
	files, err := filepath.Glob("keys/*.key")
	if err != nil {
		return nil, err
	}
	by := entity{Certificate: services}
	for _, f := range files {
		signer, err := openThrowaway(f)
		if err != nil {
			return nil, err
		}
		if pub, err := key.Of(signer); err == nil && key.Same(pub, services.Key) {
			by.signer = signer
		}
	}
	if by.signer == nil {
		return nil, errors.New("demo: the key of services is not in the safe")
	}
	leaf, err := entitled(&by, "Tern Bay Ferries", crane.host, 1, crane.host)
	if err != nil {
		return nil, err
	}
	return (&device{name: "thief", host: crane.host, clock: time.Now, key: leaf.signer,
		first: [][]byte{leaf.Raw, chain[1]}}).listen("../thief")
}

func openThrowaway(file string) (crypto.Signer, error) {
	data, err := disk.Read(file, 1<<20)
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(data)
	if block == nil {
		return nil, fmt.Errorf("demo: %s is no key", file)
	}
	return pbes.Decrypt(block.Bytes, []byte(estate.RehearsalPassphrase))
}
