package rollover

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"strings"
	"time"

	"ironseal/internal/app/parties"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/pki/journal"
	"ironseal/pki/trust"
)

// heard is what is known of every party's anchors, by the party's name and the anchor's SHA-256.
type heard struct {
	known map[string]map[[32]byte][]trust.Evidence
	here  map[string]parties.Entry
	hosts map[string][]string // names of parties, by how machines are compared
}

// evidence gathers what is known of every party's anchors. Only what came since a party was recorded
// counts: a machine that was put in place of another has the name of the other.
func evidence(ctx context.Context, e *estate.Estate) (map[string]map[[32]byte][]trust.Evidence, error) {
	h := heard{known: map[string]map[[32]byte][]trust.Evidence{}, hosts: map[string][]string{}}
	var err error
	if h.here, err = parties.All(ctx, e); err != nil {
		return nil, err
	}
	for name := range h.here {
		h.hosts[strings.ToLower(name)] = append(h.hosts[strings.ToLower(name)], name)
	}
	places, err := anchors.Places(ctx, e)
	if err != nil {
		return nil, err
	}
	for _, p := range places {
		for sum, told := range p.Told {
			h.add(h.host(p.Host), sum, told.Seq, trust.Evidence{Has: told.Has, By: "the report of its " + p.Platform +
				" kit", When: told.When, Where: p.Platform + " " + p.Store, Platform: p.Platform})
		}
	}
	return h.known, e.Records.EntriesOf(ctx, event.RootsConfirmed{}.Act(), h.confirmed)
}

// host is the party that a machine's report is about: machines write their names in either case.
func (h heard) host(name string) string {
	if same := h.hosts[strings.ToLower(name)]; len(same) == 1 {
		return same[0]
	}
	return name
}

func (h heard) add(party, hexed string, seq int64, ev trust.Evidence) {
	b, err := hex.DecodeString(hexed)
	from, there := h.here[party]
	if err != nil || len(b) != sha256.Size || !there || seq < from.Seq || ev.When.Before(from.After) {
		return // it names no certificate, or is about another machine
	}
	if h.known[party] == nil {
		h.known[party] = map[[32]byte][]trust.Evidence{}
	}
	ev.Seq = seq
	h.known[party][[32]byte(b)] = append(h.known[party][[32]byte(b)], ev)
}

// confirmed records what someone, or a look at an endpoint, told.
func (h heard) confirmed(en journal.Entry) error {
	said, err := event.As[event.RootsConfirmed](en)
	if err != nil {
		return err
	}
	ev := trust.Evidence{By: en.Actor + ": " + said.Why, When: en.At.Truncate(time.Second)}
	switch {
	case said.Endpoint != "" && !h.here[en.Object].Has(said.Endpoint):
		return nil // it is examined no more
	case said.Endpoint != "":
		ev.Where, ev.By = said.Endpoint, said.Why
	case said.Missing != nil:
		ev.Where = "an endpoint" // a look, in the words of an earlier version
	}
	for _, sum := range said.Missing {
		h.add(en.Object, sum, en.Seq, ev)
	}
	ev.Has = true
	for _, sum := range said.SHA256 {
		h.add(en.Object, sum, en.Seq, ev)
	}
	return nil
}
