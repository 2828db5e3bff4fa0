// Package enrol has the acts of machines that ask for certificates by a protocol: by a code that an administrator gave
// them, or by the certificate that they have. A machine is never granted what a person could not sign without a waiver;
// what is unusual waits for a person.
//
// A code holds 128 random bits, and only its SHA-256 is on record. Every request is on record before anything is signed
// for it, and the permission to sign it without a person is on record before the signature.
package enrol

import (
	"context"
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
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
	Party    string    `json:"party" doc:"whose machines they are; empty for none"`
	KeyID    string    `json:"key_id" doc:"for ACME accounts: the key identifier; empty for a code"`

	digest  string
	stopped bool // someone ended it
}

// Sender is who sends the requests of machines with the code, by a protocol.
func (c Code) Sender(by string) string {
	if c.Party != "" {
		return c.Party
	}
	return by + ": code " + c.Name
}

// Covers reports whether a name may be asked for with it.
func (c Code) Covers(n san.Name) bool { return Within(c.Names, n) }

// Within reports whether a name is within one of some trees.
func Within(trees []string, n san.Name) bool {
	return slices.ContainsFunc(trees, func(tree string) bool {
		t, err := san.ParseConstraint(tree)
		return err == nil && t.Covers(n, false)
	})
}

// CodeAsk says what a code is for.
type CodeAsk struct {
	Name     string
	Template string
	Names    []string // trees, such as quay.ternbay.example or 192.0.2.0/24
	Count    int
	Until    time.Time
	Party    string // whose machines they are; "" for none
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
	made, err := ask.make(ctx, e, "", digestOf(code))
	return made, code, err
}

// MakeAccountKey records a credential by which machines register ACME accounts (RFC 8555 section 7.3.4), and returns
// its secret once.
func MakeAccountKey(ctx context.Context, e *estate.Estate, ask CodeAsk) (Code, []byte, error) {
	b := make([]byte, 10)
	if _, err := io.ReadFull(e.Env.Random, b); err != nil {
		return Code{}, nil, err
	}
	id := strings.ToLower(typed.EncodeToString(b))
	secret, err := bindingKey(e, id)
	if err != nil {
		return Code{}, nil, err
	}
	made, err := ask.make(ctx, e, id, digestOfSecret(secret))
	return made, secret, err
}

// bindingKey is the secret of a credential for accounts. It is made from the one secret of the server, so that none is
// in the records.
func bindingKey(e *estate.Estate, id string) ([]byte, error) {
	secret, err := Secret(e)
	if err != nil {
		return nil, err
	}
	return hkdf.Key(sha256.New, secret, nil, "account binding "+id, 32)
}

func digestOfSecret(secret []byte) string {
	sum := sha256.Sum256(secret)
	return hex.EncodeToString(sum[:])
}

// Bound finds the credential with a key identifier, with its secret. ErrCredentials is returned if none exists,
// and where the server's secret was replaced since.
func Bound(ctx context.Context, e *estate.Estate, id string) (Code, []byte, error) {
	en, found, err := e.Records.DerivedOf(ctx, event.KeyIDs, id)
	if err != nil || !found {
		return Code{}, nil, errors.Join(err, ErrCredentials)
	}
	c, err := current(ctx, e.Records, en, e.Now())
	if err != nil || c == nil {
		return Code{}, nil, errors.Join(err, ErrCredentials)
	}
	secret, err := bindingKey(e, id)
	if err != nil || digestOfSecret(secret) != c.digest {
		return Code{}, nil, errors.Join(err, ErrCredentials)
	}
	return *c, secret, nil
}

// UseAccountKey finds a credential inside an act, and tells the number of the account that it lets register.
func UseAccountKey(ctx context.Context, tx store.Tx, id string) (Code, error) {
	en, found, err := tx.DerivedOf(ctx, event.KeyIDs, id)
	if err != nil || !found {
		return Code{}, errors.Join(err, ErrCredentials)
	}
	c, err := current(ctx, tx, en, tx.Now())
	if err == nil && (c == nil || c.Ended != "") {
		err = ErrCredentials
	}
	if err != nil {
		return Code{}, err
	}
	return *c, nil
}

func (ask CodeAsk) make(ctx context.Context, e *estate.Estate, id, digest string) (Code, error) {
	if err := ask.check(ctx, e); err != nil {
		return Code{}, err
	}
	_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := codeOf(ctx, tx, ask.Name, tx.Now())
		if err != nil {
			return nil, err
		}
		if now != nil && now.Ended == "" {
			return nil, fault.New(fault.Refused, "there is a credential %q already, until %s", ask.Name,
				now.Until.Format("2006-01-02"))
		}
		return []event.Record{event.On(ask.Name, event.CodeMade{Digest: digest, KeyID: id, Template: ask.Template,
			Names: ask.Names, Count: ask.Count, Until: ask.Until.UTC(), Party: ask.Party})}, nil
	})
	return Code{Name: ask.Name, Template: ask.Template, Names: append([]string{}, ask.Names...), Count: ask.Count,
		Until: ask.Until, Party: ask.Party, KeyID: id}, err
}

func (ask CodeAsk) check(ctx context.Context, e *estate.Estate) error {
	if ask.Name == "" || len([]rune(ask.Name)) > mostName || runes.Escape(ask.Name) != ask.Name {
		return fault.New(fault.BadInput, "a credential needs a name, of at most %d characters", mostName)
	}
	if _, err := e.Template(ask.Template); err != nil {
		return err
	}
	if ask.Party != "" {
		_, known, err := e.Records.DerivedOf(ctx, event.Parties, ask.Party)
		if err != nil {
			return err
		}
		if !known {
			return fault.New(fault.NotFound, "no party is called %q", ask.Party).On(fault.Party.Named("%s", ask.Party)).
				Then(advice.To("see them", advice.ListParties))
		}
	}
	if len(ask.Names) == 0 {
		return fault.New(fault.BadInput, "say which names machines may ask for with it")
	}
	for _, n := range ask.Names {
		if _, err := san.ParseConstraint(n); err != nil {
			return fmt.Errorf("names of the credential: %w", err)
		}
	}
	if ask.Count < 1 || ask.Count > mostCount {
		return fault.New(fault.BadInput, "a credential is for 1 to %d machines", mostCount)
	}
	if now := e.Now(); !ask.Until.After(now) || ask.Until.After(now.AddDate(2, 0, 0)) {
		return fault.New(fault.BadInput, "a credential ends in the future, within two years")
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
			return nil, fault.New(fault.NotFound, "there is no credential %q", name)
		}
		if c.stopped { // one that was used up still ends: its accounts end with it
			return nil, fault.New(fault.Changed, "the credential %s holds no more: %s", c.Name, c.Ended)
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

// Find finds a credential by its name.
func Find(ctx context.Context, e *estate.Estate, name string) (Code, error) {
	c, err := codeOf(ctx, e.Records, name, e.Now())
	if err == nil && c == nil {
		err = fault.New(fault.NotFound, "there is no credential %q", name)
	}
	if err != nil {
		return Code{}, err
	}
	return *c, nil
}

// codeOf reads a code by its name; nil if none exists.
func codeOf(ctx context.Context, from store.DerivedReader, name string, now time.Time) (*Code, error) {
	en, found, err := from.DerivedOf(ctx, event.Codes, name)
	if err != nil || !found {
		return nil, err
	}
	return readCode(ctx, from, en, now)
}

// readCode reads a credential by the entry that made it.
func readCode(ctx context.Context, from store.DerivedReader, en journal.Entry, now time.Time) (*Code, error) {
	made, err := event.As[event.CodeMade](en)
	if err != nil {
		return nil, err
	}
	c := &Code{Name: en.Object, Template: made.Template, Names: append([]string{}, made.Names...), Count: made.Count,
		Until: made.Until, Party: made.Party, KeyID: made.KeyID, digest: made.Digest}
	use, used, err := from.DerivedOf(ctx, event.CodeUses, en.Object)
	if err != nil {
		return nil, err
	}
	if used && use.Seq > en.Seq { // by a request, or by an account: both tell their number
		told, err := event.As[event.Enrolled](use)
		if err != nil {
			return nil, err
		}
		c.Used = told.Nth
	}
	end, ended, err := from.DerivedOf(ctx, event.CodeEnds, en.Object)
	if err != nil {
		return nil, err
	}
	switch {
	case ended && end.Seq > en.Seq:
		told, err := event.As[event.CodeEnded](end)
		if err != nil {
			return nil, err
		}
		c.Ended, c.stopped = told.Because, true
	case !now.Before(c.Until):
		c.Ended = "its day has passed"
	case c.Used >= c.Count:
		c.Ended = "it is used up"
	}
	return c, nil
}

// coded is the code that a machine sent; nil if none exists. One that an administrator replaced holds no more.
func coded(ctx context.Context, from store.DerivedReader, code string, now time.Time) (*Code, error) {
	en, found, err := from.DerivedOf(ctx, event.CodeDigests, digestOf(code))
	if err != nil || !found {
		return nil, err
	}
	c, err := current(ctx, from, en, now)
	if err != nil || c == nil || c.KeyID != "" {
		return nil, err
	}
	return c, nil
}

// current is the credential that an entry made; nil where it was replaced since by another of its name.
func current(ctx context.Context, from store.DerivedReader, en journal.Entry, now time.Time) (*Code, error) {
	newest, _, err := from.DerivedOf(ctx, event.Codes, en.Object)
	if err != nil || newest.Seq != en.Seq {
		return nil, err
	}
	return readCode(ctx, from, en, now)
}
