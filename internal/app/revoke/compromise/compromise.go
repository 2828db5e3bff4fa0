// Package compromise tells which keys others have, or may have: those of certificates that were
// revoked for it, and those of incidents. Nothing is signed for them, and an authority with such
// a key grants nothing.
//
// A key is cleared in one way only: every incident about it was closed as a false alarm.
// That everything was replaced, revoked and published does not bring a key back.
package compromise

import (
	"context"
	"encoding/hex"
	"fmt"
	"time"

	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/journal"
)

// Incident is one incident, as it was opened and closed.
type Incident struct {
	Name        string    `json:"incident" doc:"its number, such as I1"`
	About       string    `json:"about" doc:"the generation or the certificate whose key is suspected"`
	Serial      string    `json:"serial" doc:"of that certificate"`
	Authority   bool      `json:"ca" doc:"whether it is an authority's"`
	Because     string    `json:"because" doc:"what is suspected"`
	Opened      time.Time `json:"opened" doc:"when"`
	Who         string    `json:"who" doc:"who opened it"`
	Closed      time.Time `json:"closed,omitzero" doc:"when it was closed"`
	Outcome     string    `json:"outcome,omitempty" doc:"what was said at its end"`
	Left        []string  `json:"left,omitempty" doc:"steps that were not done when it was closed"`
	FalseAlarm  bool      `json:"false_alarm" doc:"whether it was a false alarm: the key may be used again"`
	Certificate string    `json:"certificate" doc:"SHA-256 of the certificate, in hex"`
	Key         string    `json:"key" doc:"SHA-256 of its key, in hex"`
	Seq         int64     `json:"-"` // the entry of the journal that opened it
}

// Open reports whether an incident is still open.
func (i Incident) Open() bool { return i.Closed.IsZero() }

// SuspectsKey reports whether an incident suspects its key.
func (i Incident) SuspectsKey() bool { return !i.FalseAlarm }

// Since says why the key of an incident may be compromised, as a sentence.
func (i Incident) Since() string {
	if i.Open() {
		return fmt.Sprintf("The incident %s about the key of %s is open since %s.", i.Name, i.About,
			i.Opened.Format("2006-01-02"))
	}
	return fmt.Sprintf("The incident %s about the key of %s was closed on %s, and not as a false alarm.", i.Name,
		i.About, i.Closed.Format("2006-01-02"))
}

// About lists the incidents that suspect a key, oldest first.
func About(list []Incident, key [32]byte) (out []Incident) {
	sum := hex.EncodeToString(key[:])
	for _, i := range list {
		if i.Key == sum && i.SuspectsKey() {
			out = append(out, i)
		}
	}
	return out
}

// Incidents reads all incidents, oldest first.
func Incidents(ctx context.Context, from store.DerivedReader) (out []Incident, err error) {
	at := map[string]int{}
	err = from.Derived(ctx, event.Incidents, func(name string, en journal.Entry) error {
		o, err := event.As[event.IncidentOpened](en)
		at[name] = len(out)
		out = append(out, Incident{Name: name, About: o.About, Serial: o.Serial, Authority: o.Authority,
			Because: o.Because, Opened: en.At, Who: en.Actor, Certificate: o.Certificate, Key: o.Key, Seq: en.Seq})
		return err
	})
	if err != nil || len(out) == 0 {
		return nil, err
	}
	return out, from.Derived(ctx, event.IncidentEnds, func(name string, en journal.Entry) error {
		n, there := at[name]
		if !there {
			return nil
		}
		c, err := event.As[event.IncidentClosed](en)
		i := &out[n]
		i.Closed, i.Outcome, i.Left, i.FalseAlarm = en.At, c.Because, c.Left, c.WasFalseAlarm()
		return err
	})
}

// Keys are all suspected keys, by their fingerprint, each with why nothing is signed for it.
func Keys(ctx context.Context, s store.Store) (map[[32]byte]finding.Finding, error) {
	lost, err := s.CompromisedKeys(ctx)
	if err != nil {
		return nil, err
	}
	return why(ctx, s, lost)
}

// Among tells, inside an act, which of some keys are suspected.
func Among(ctx context.Context, tx store.Tx, keys [][32]byte) (map[[32]byte]finding.Finding, error) {
	lost, err := tx.CompromisedAmong(keys)
	if err != nil {
		return nil, err
	}
	return why(ctx, tx, lost)
}

func why(ctx context.Context, from store.DerivedReader, lost map[[32]byte]string) (map[[32]byte]finding.Finding,
	error) {
	out := map[[32]byte]finding.Finding{}
	list, err := Incidents(ctx, from)
	for _, i := range list {
		sum, err := hex.DecodeString(i.Key)
		if err != nil || len(sum) != 32 || !i.SuspectsKey() {
			continue
		}
		f := finding.New(finding.SuspectedKey, "%s", i.Since())
		if !i.Open() {
			f = f.WithRemedy("use another key: this one comes back only if every incident about it was a false alarm")
		}
		out[[32]byte(sum)] = f
	}
	for k, serial := range lost {
		out[k] = finding.New(finding.KeyLost, "This key is in the certificate with the serial %s, which was revoked "+
			"because someone else has the key, or may have it.", cert.ShortSerial(serial))
	}
	return out, err
}
