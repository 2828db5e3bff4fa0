// Package enrol has the acts of machines that ask for certificates by a protocol: by a code that an administrator gave
// them, or by the certificate that they have. A machine is never granted what a person could not sign without a waiver;
// what is unusual waits for a person.
//
// A code holds 128 random bits, and only its SHA-256 is on record. Every request is on record before anything is signed
// for it, and the permission to sign it without a person is on record before the signature.
package enrol

import (
	"context"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/runes"
	"ironseal/pki/san"
)

// Code lets machines enrol.
type Code struct {
	Name     string    `json:"name" doc:"what it is called"`
	Template string    `json:"template" doc:"by which machines enrol with it"`
	Names    []string  `json:"names" doc:"trees of names that may be asked for"`
	Count    int       `json:"count" doc:"for how many machines it is"`
	Used     int       `json:"used" doc:"how many used it"`
	Until    time.Time `json:"until" doc:"when it ends"`
	Ended    string    `json:"ended" doc:"why it holds no more; empty while it does"`
}

// CodeAsk says what a code is for.
type CodeAsk struct {
	Name     string
	Template string
	Names    []string // trees, such as quay.ternbay.example or 192.0.2.0/24
	Count    int
	Until    time.Time
}

const (
	mostName  = 100
	mostCount = 100_000
)

// typed is how codes are written: letters and digits that are hard to mistake, in groups.
var typed = base32.NewEncoding("0123456789ABCDEFGHJKMNPQRSTVWXYZ").WithPadding(base32.NoPadding)

// secretOf brings a code that was typed to one form.
func secretOf(code string) string {
	return strings.ToUpper(strings.NewReplacer("-", "", " ", "", "O", "0", "o", "0", "I", "1", "i", "1", "L", "1", "l",
		"1").Replace(strings.TrimSpace(code)))
}

// digestOf is what is on record of a code. It is looked up by this digest, so the time that it takes tells nothing of
// the code.
func digestOf(code string) string {
	sum := sha256.Sum256([]byte(secretOf(code)))
	return hex.EncodeToString(sum[:])
}

// MakeCode records a code, and returns it once.
func MakeCode(ctx context.Context, e *estate.Estate, ask CodeAsk) (Code, string, error) {
	if err := ask.check(e); err != nil {
		return Code{}, "", err
	}
	b := make([]byte, 16)
	if _, err := io.ReadFull(e.Env.Random, b); err != nil {
		return Code{}, "", err
	}
	text := typed.EncodeToString(b)
	var groups []string
	for part := range slices.Chunk([]byte(text), 4) {
		groups = append(groups, string(part))
	}
	code := strings.Join(groups, "-")
	_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := codeOf(ctx, tx, ask.Name, tx.Now())
		if err != nil {
			return nil, err
		}
		if now != nil && now.Ended == "" {
			return nil, fault.New(fault.Refused, "there is a code %q already, until %s", ask.Name,
				now.Until.Format("2006-01-02"))
		}
		return []event.Record{event.On(ask.Name, event.CodeMade{Digest: digestOf(code), Template: ask.Template,
			Names: ask.Names, Count: ask.Count, Until: ask.Until.UTC()})}, nil
	})
	return Code{Name: ask.Name, Template: ask.Template, Names: append([]string{}, ask.Names...), Count: ask.Count,
		Until: ask.Until}, code, err
}

func (ask CodeAsk) check(e *estate.Estate) error {
	if ask.Name == "" || len([]rune(ask.Name)) > mostName || runes.Escape(ask.Name) != ask.Name {
		return fault.New(fault.BadInput, "a code needs a name, of at most %d characters", mostName)
	}
	if _, err := e.Template(ask.Template); err != nil {
		return err
	}
	if len(ask.Names) == 0 {
		return fault.New(fault.BadInput, "say which names machines may ask for with the code")
	}
	for _, n := range ask.Names {
		if _, err := san.ParseConstraint(n); err != nil {
			return fmt.Errorf("names of the code: %w", err)
		}
	}
	if ask.Count < 1 || ask.Count > mostCount {
		return fault.New(fault.BadInput, "a code is for 1 to %d machines", mostCount)
	}
	if now := e.Now(); !ask.Until.After(now) || ask.Until.After(now.AddDate(2, 0, 0)) {
		return fault.New(fault.BadInput, "a code ends in the future, within two years")
	}
	return nil
}

// EndCode ends a code. Machines that enrolled with it keep their certificates.
func EndCode(ctx context.Context, e *estate.Estate, name, because string) (journal.Head, error) {
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		c, err := codeOf(ctx, tx, name, tx.Now())
		if err != nil {
			return nil, err
		}
		if c == nil {
			return nil, fault.New(fault.NotFound, "there is no code %q", name)
		}
		if c.Ended != "" {
			return nil, fault.New(fault.Changed, "the code %s holds no more: %s", c.Name, c.Ended)
		}
		return []event.Record{event.On(c.Name, event.CodeEnded{Because: because})}, nil
	})
}

// Codes lists them, those too that hold no more.
func Codes(ctx context.Context, e *estate.Estate) (out []Code, err error) {
	var names []string
	if err := e.Records.Derived(ctx, event.Codes, func(name string, _ journal.Entry) error {
		names = append(names, name)
		return nil
	}); err != nil {
		return nil, err
	}
	slices.Sort(names)
	for _, n := range names {
		c, err := codeOf(ctx, e.Records, n, e.Now())
		if err != nil {
			return nil, err
		}
		if c != nil {
			out = append(out, *c)
		}
	}
	return out, nil
}

// codeOf reads a code by its name; nil where there is none.
func codeOf(ctx context.Context, from store.DerivedReader, name string, now time.Time) (*Code, error) {
	en, found, err := from.DerivedOf(ctx, event.Codes, name)
	if err != nil || !found {
		return nil, err
	}
	made, err := event.As[event.CodeMade](en)
	if err != nil {
		return nil, err
	}
	c := &Code{Name: en.Object, Template: made.Template, Names: append([]string{}, made.Names...), Count: made.Count,
		Until: made.Until}
	use, used, err := from.DerivedOf(ctx, event.CodeUses, name)
	if err != nil {
		return nil, err
	}
	if used && use.Seq > en.Seq {
		told, err := event.As[event.Enrolled](use)
		if err != nil {
			return nil, err
		}
		c.Used = told.Nth
	}
	end, ended, err := from.DerivedOf(ctx, event.CodeEnds, name)
	if err != nil {
		return nil, err
	}
	switch {
	case ended && end.Seq > en.Seq:
		told, err := event.As[event.CodeEnded](end)
		if err != nil {
			return nil, err
		}
		c.Ended = told.Because
	case !now.Before(c.Until):
		c.Ended = "its day has passed"
	case c.Used >= c.Count:
		c.Ended = "as many machines as it is for used it"
	}
	return c, nil
}

// coded is the code that a machine sent; nil where there is none. One that an administrator replaced holds no more.
func coded(ctx context.Context, from store.DerivedReader, code string, now time.Time) (*Code, error) {
	en, found, err := from.DerivedOf(ctx, event.CodeDigests, digestOf(code))
	if err != nil || !found {
		return nil, err
	}
	newest, _, err := from.DerivedOf(ctx, event.Codes, en.Object)
	if err != nil || newest.Seq != en.Seq {
		return nil, err
	}
	return codeOf(ctx, from, en.Object, now)
}
