package parties

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/ops/probes"
	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/probe"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/trust"
)

// Known is a party with all that the records know of it, and by what evidence.
type Known struct {
	trust.Party
	Certificates []Holding      `json:"certificates" doc:"what it holds"`
	Enrols       []enrol.Code   `json:"enrols" doc:"credentials by which its machines enrol"`
	Stores       []Confirmation `json:"stores" doc:"what the scripts of kits reported of it"`
	Seen         []Observation  `json:"seen" doc:"what was last seen at its endpoints"`
}

// Holding is a certificate that a party holds.
type Holding struct {
	Title  string          `json:"title" doc:"for whom it is"`
	Serial string          `json:"serial" doc:"of it"`
	State  lifecycle.State `json:"state" doc:"its state today"`
	Until  string          `json:"not_after" doc:"its last day"`
	Renews string          `json:"renews" doc:"itself: its machine renews it; late: its machine should have and did not; empty: a person does"`
	By     string          `json:"by" doc:"how its machine enrolled: the protocol, and the credential; empty where a person sent the request"`
}

// Confirmation is a store of a party, by its last report.
type Confirmation struct {
	Set      string   `json:"set" doc:"the trust set"`
	Platform string   `json:"platform" doc:"of the kit"`
	Store    string   `json:"store" doc:"where it is"`
	Missing  []string `json:"missing" doc:"titles of the anchors that it lacks"`
	When     string   `json:"reported" doc:"when"`
}

// Observation is what was seen at an endpoint.
type Observation struct {
	Endpoint string `json:"endpoint" doc:"where"`
	Trusted  bool   `json:"trusted" doc:"whether a client that certificates the set got in"`
	Set      string `json:"set" doc:"the trust set by which it was judged"`
	Serial   string `json:"serial" doc:"of the certificate that was served"`
	SHA256   string `json:"sha256" doc:"of the certificate that was served; empty where nothing was"`
	Proven   bool   `json:"proven" doc:"whether the endpoint proved that it has the private key"`
	Why      string `json:"why" doc:"the first thing that was wrong"`
	When     string `json:"when" doc:"when"`
}

// RecordObservations records what was seen at endpoints.
func RecordObservations(ctx context.Context, e *estate.Estate, set string, list []probes.Outcome) (journal.Head,
	error) {
	return e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		var out []event.Record
		for _, o := range list {
			out = append(out, event.On(o.Row.Endpoint, event.EndpointObserved{Trusted: o.Trusted, Set: set,
				Serial: o.Row.Serial, SHA256: o.Row.SHA256, Proven: o.Proven, Why: o.Row.Why()}))
		}
		return out, nil
	})
}

// What tells what is known of a party. Reports and observations are joined to it by its name and
// its endpoints.
func What(ctx context.Context, e *estate.Estate, name string) (Known, error) {
	out := Known{Certificates: []Holding{}, Enrols: []enrol.Code{}, Stores: []Confirmation{}, Seen: []Observation{}}
	var err error
	if out.Party, err = Find(ctx, e, name); err != nil {
		return out, err
	}
	certificates, err := e.ReadCertificates(e.Records.CertificatesHeldBy(ctx, name))
	if err != nil {
		return out, err
	}
	machines, err := fleet.Enrolments(ctx, e.Records)
	if err != nil {
		return out, err
	}
	for _, h := range certificates {
		line := h.Line()
		own := Holding{Title: h.Title(), Serial: h.SerialHex(), State: h.State, Until: h.NotAfter.Format("2006-01-02"),
			Renews: machines.Renews(&line, e.Now())}
		if m, ok := machines[fmt.Sprintf("R%d", h.Record.Request)]; ok {
			own.By = m.Words()
		}
		out.Certificates = append(out.Certificates, own)
	}
	codes, err := enrol.Codes(ctx, e)
	if err != nil {
		return out, err
	}
	for _, c := range codes {
		if c.Party == name {
			out.Enrols = append(out.Enrols, c)
		}
	}
	if err := out.stores(ctx, e); err != nil {
		return out, err
	}
	return out, out.observations(ctx, e)
}

func (k *Known) stores(ctx context.Context, e *estate.Estate) error {
	places, err := anchors.Places(ctx, e)
	if err != nil {
		return err
	}
	for _, name := range k.Sets {
		set, err := anchors.Set(ctx, e, name)
		if err != nil {
			return fmt.Errorf("party %s: %w", k.Name, err)
		}
		for _, p := range places {
			if strings.EqualFold(p.Host, k.Name) {
				k.Stores = append(k.Stores, Confirmation{Set: name, Platform: p.Platform, Store: p.Store,
					Missing: append([]string{}, p.Lacks(set)...), When: p.When.Format(time.RFC3339)})
			}
		}
	}
	return nil
}

func (k *Known) observations(ctx context.Context, e *estate.Estate) error {
	last, err := Observations(ctx, e)
	for _, at := range k.Endpoints {
		if s, ok := last[at]; ok {
			k.Seen = append(k.Seen, s)
		}
	}
	return err
}

// Observations are what was last seen at each endpoint.
func Observations(ctx context.Context, e *estate.Estate) (map[string]Observation, error) {
	return observations(ctx, e, event.Observations)
}

func observations(ctx context.Context, e *estate.Estate, kind event.Kind) (map[string]Observation, error) {
	out := map[string]Observation{}
	return out, e.Records.Derived(ctx, kind, func(endpoint string, en journal.Entry) error {
		o, err := event.As[event.EndpointObserved](en)
		out[endpoint] = Observation{Endpoint: endpoint, Trusted: o.Trusted, Set: o.Set, Serial: o.Serial,
			SHA256: o.SHA256,
			Proven: o.Proven, Why: o.Why, When: en.At.Format(time.RFC3339)}
		return err
	})
}

// Served is what each endpoint served when it last presented a certificate. One that is down has
// not moved.
type Served map[string]Observation

// LastServed reads it.
func LastServed(ctx context.Context, e *estate.Estate) (Served, error) {
	out, err := observations(ctx, e, event.Servings)
	return out, err
}

// By reports whether any endpoint serves just this certificate: a serial is anybody's to copy.
func (s Served) By(c *cert.Certificate) bool { return s.any(c, func(Observation) bool { return true }) }

// InUse reports whether any endpoint serves just this certificate, and has its private key.
func (s Served) InUse(c *cert.Certificate) bool {
	return s.any(c, func(x Observation) bool { return x.Proven || x.Trusted }) // what was trusted had proved it
}

func (s Served) any(c *cert.Certificate, counts func(Observation) bool) bool {
	sum := fmt.Sprintf("%x", c.SHA256())
	for _, x := range s {
		if x.SHA256 == sum && counts(x) {
			return true
		}
	}
	return false
}

// Names are the names and addresses by which a party is used, each once.
func Names(p trust.Party) (out []string) {
	for _, at := range p.Endpoints {
		if t, err := probe.ParseTarget(at); err == nil && !slices.Contains(out, t.Name) {
			out = append(out, t.Name)
		}
	}
	return out
}

// Serving is the one certificate that a party holds and serves.
func Serving(ctx context.Context, e *estate.Estate, name string) (estate.CertificateRecord, error) {
	if _, err := Find(ctx, e, name); err != nil {
		return estate.CertificateRecord{}, err
	}
	list, err := e.ReadCertificates(e.Records.CertificatesHeldBy(ctx, name))
	if err != nil {
		return estate.CertificateRecord{}, err
	}
	list = slices.DeleteFunc(list, func(h estate.CertificateRecord) bool { return !h.State.Serves() })
	switch len(list) {
	case 1:
		return list[0], nil
	case 0:
		return estate.CertificateRecord{}, fault.New(fault.NotFound, "party %s is not known to hold a certificate "+
			"that serves",
			name).
			On(fault.Party.Named("%s", name)).Then(advice.To("hand one over", advice.HandOver, "party", name))
	}
	var which []string
	for _, h := range list {
		which = append(which, h.Serial.Short()+" for "+h.Title())
	}
	return estate.CertificateRecord{}, fmt.Errorf("party %s holds %d certificates: say which: %s", name, len(list),
		strings.Join(which, ", "))
}

// Endpoints are those of all parties, or of some, each once.
func Endpoints(list []trust.Party, names ...string) (out []string) {
	for _, p := range list {
		if len(names) > 0 && !slices.Contains(names, p.Name) {
			continue
		}
		for _, at := range p.Endpoints {
			if !slices.Contains(out, at) {
				out = append(out, at)
			}
		}
	}
	return out
}
