// Package compromise tells which keys others have, or may have: those of certificates that were
// revoked for it, and those of incidents. Nothing is signed for them, and an authority with such
// a key grants nothing.
//
// A key comes out of doubt in one way only: every incident about it was closed as a false alarm.
// That everything was replaced, revoked and published does not bring a key back.
package compromise

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/journal"
)

// The acts of an incident, as the journal calls them.
const (
	OpenAct  = "open incident"
	CloseAct = "close incident"
)

// Incident is one incident, as it was opened and closed.
type Incident struct {
	Name        string    `json:"incident" doc:"its number, such as I1"`
	About       string    `json:"about" doc:"the generation or the certificate whose key is in doubt"`
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

// Doubts reports whether an incident keeps its key in doubt.
func (i Incident) Doubts() bool { return !i.FalseAlarm }

// Since says why the key of an incident is in doubt, as a sentence.
func (i Incident) Since() string {
	if i.Open() {
		return fmt.Sprintf("The incident %s about the key of %s is open since %s.", i.Name, i.About,
			i.Opened.Format("2006-01-02"))
	}
	return fmt.Sprintf("The incident %s about the key of %s was closed on %s, and not as a false alarm.", i.Name,
		i.About, i.Closed.Format("2006-01-02"))
}

// About lists the incidents that keep a key in doubt, oldest first.
func About(list []Incident, key [32]byte) (out []Incident) {
	sum := hex.EncodeToString(key[:])
	for _, i := range list {
		if i.Key == sum && i.Doubts() {
			out = append(out, i)
		}
	}
	return out
}

// Journaled is what entries are read from: the records, in or outside an act.
type Journaled interface {
	EntriesOf(ctx context.Context, act string, fn func(journal.Entry) error) error
}

// Incidents reads all incidents, oldest first.
func Incidents(ctx context.Context, from Journaled) (out []Incident, err error) {
	err = from.EntriesOf(ctx, OpenAct, func(en journal.Entry) error {
		i := Incident{Name: en.Object, Opened: en.At, Who: en.Actor, Seq: en.Seq}
		if err := json.Unmarshal([]byte(en.Detail), &i); err != nil {
			return fmt.Errorf("journal J%d: %w", en.Seq, err)
		}
		out = append(out, i)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, from.EntriesOf(ctx, CloseAct, func(en journal.Entry) error {
		for n := range out {
			if out[n].Name == en.Object {
				told := struct {
					Because    string
					Left       []string
					FalseAlarm *bool    `json:"false alarm"`
					Again      []string `json:"grant again"`
				}{}
				if err := json.Unmarshal([]byte(en.Detail), &told); err != nil {
					return fmt.Errorf("journal J%d: %w", en.Seq, err)
				}
				out[n].Closed, out[n].Outcome, out[n].Left = en.At, told.Because, told.Left
				// earlier entries do not say it, and tell what was let go
				out[n].FalseAlarm = told.FalseAlarm != nil && *told.FalseAlarm ||
					told.FalseAlarm == nil && len(told.Again) > 0
			}
		}
		return nil
	})
}

// Keys are all keys in doubt, by their fingerprint, each with why nothing is signed for it.
func Keys(ctx context.Context, s store.Store) (map[[32]byte]finding.Finding, error) {
	lost, err := s.LostKeys(ctx)
	if err != nil {
		return nil, err
	}
	return why(ctx, s, lost)
}

// Among are those in doubt of some keys, as it stands inside an act.
func Among(ctx context.Context, tx store.Tx, keys [][32]byte) (map[[32]byte]finding.Finding, error) {
	lost, err := tx.LostAmong(keys)
	if err != nil {
		return nil, err
	}
	return why(ctx, tx, lost)
}

func why(ctx context.Context, from Journaled, lost map[[32]byte]string) (map[[32]byte]finding.Finding, error) {
	out := map[[32]byte]finding.Finding{}
	list, err := Incidents(ctx, from)
	for _, i := range list {
		sum, err := hex.DecodeString(i.Key)
		if err != nil || len(sum) != 32 || !i.Doubts() {
			continue
		}
		f := finding.New(finding.KeyInDoubt, "%s", i.Since())
		if !i.Open() {
			f = f.WithRemedy("use another key: this one comes back only if every incident about it was a false alarm")
		}
		out[[32]byte(sum)] = f
	}
	for k, serial := range lost {
		out[k] = finding.New(finding.KeyLost, "This key is in the certificate with the serial %s, which was revoked "+
			"because somebody else has the key, or may have it.", cert.ShortSerial(serial))
	}
	return out, err
}
