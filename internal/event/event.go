// Package event says what each act tells the journal: one type an act, with its fields.
//
// An event is written once and read for decades, so this package reads what every earlier
// version of the program wrote. A field that is added is empty in earlier entries; a pointer
// tells "not said" from "empty" where the difference matters. A field never changes its
// meaning: an event whose shape has to change gets the next version.
package event

import (
	"encoding/json"
	"fmt"
	"sync"

	"ironseal/pki/finding"
	"ironseal/pki/journal"
)

// Event is what an act tells.
type Event interface {
	Act() string  // the act, as the journal names it
	Version() int // of the event's shape
}

// v1 is embedded in events whose shape has not changed.
type v1 struct{}

// Version implements Event.
func (v1) Version() int { return 1 }

// Record is an event and what it is about. It becomes an entry of the journal.
type Record struct {
	Object string
	Event  Event
}

// On is an event about an object: a handle, a request, a party.
func On(object string, e Event) Record { return Record{object, e} }

// Waivers are the codes of findings that were waived, each with the reason.
type Waivers map[finding.Code]string

// Sums are the fingerprints of certificates, SHA-256 in hex. Earlier versions told their number alone: then they are
// not known.
type Sums []string

// UnmarshalJSON reads fingerprints, or the number of them.
func (s *Sums) UnmarshalJSON(data []byte) error {
	var number float64
	if json.Unmarshal(data, &number) == nil {
		*s = nil
		return nil
	}
	return json.Unmarshal(data, (*[]string)(s))
}

// Entry is the journal's entry for a record. knownBy says how it is known who acts, where that is not the login.
func (r Record) Entry(knownBy string) (journal.Entry, error) {
	fail := func(err error) (journal.Entry, error) {
		return journal.Entry{}, fmt.Errorf("the event %q about %q cannot be written: %w", r.Event.Act(), r.Object, err)
	}
	body, err := json.Marshal(r.Event)
	if err != nil {
		return fail(err)
	}
	head := map[string]any{"v": r.Event.Version()}
	if knownBy != "" {
		head["known by"] = knownBy
	}
	detail, err := json.Marshal(head)
	if err != nil {
		return fail(err)
	}
	if len(body) > len("{}") { // an event may have nothing to tell but that it happened
		detail = append(append(detail[:len(detail)-1], ','), body[1:]...)
	}
	return journal.Entry{Act: r.Event.Act(), Object: r.Object, Detail: string(detail)}, nil
}

// As reads an entry as one kind of event. It does not look at the act: ask for entries by act first.
func As[T Event](en journal.Entry) (T, error) {
	var out T
	if err := json.Unmarshal([]byte(en.Detail), &out); err != nil {
		return out, fmt.Errorf("journal J%d: %w", en.Seq, err)
	}
	return out, nil
}

// Read reads an entry; nil for an act that this program does not know.
func Read(en journal.Entry) (Event, error) {
	make, known := kinds()[en.Act]
	if !known {
		return nil, nil
	}
	e := make()
	if t, ok := e.(interface{ fromText(string) bool }); ok && t.fromText(en.Detail) {
		return e, nil
	}
	if err := json.Unmarshal([]byte(en.Detail), e); err != nil {
		return nil, fmt.Errorf("journal J%d: %w", en.Seq, err)
	}
	return e, nil
}

// maker makes an event of one kind, to be read into.
type maker func() Event

// kinds are the makers by their acts. An act that was renamed is there under both names.
var kinds = sync.OnceValue(func() map[string]maker {
	out := map[string]maker{
		// acts that had another name
		"take in":           func() Event { return &CertificateImported{} },
		"take in authority": func() Event { return &AnswerImported{} },
		"take in list":      func() Event { return &ListsImported{} },
		"accept":            func() Event { return &CertificateImported{} },
		"accept authority":  func() Event { return &AnswerImported{} },
		"release":           func() Event { return &Released{} },
	}
	for _, list := range [][]maker{authorityKinds, deskKinds, enrolKinds, estateKinds, fileKinds, operatorKinds,
		proposalKinds, requestKinds, revocationKinds, trustKinds} {
		for _, make := range list {
			out[make().Act()] = make
		}
	}
	return out
})
