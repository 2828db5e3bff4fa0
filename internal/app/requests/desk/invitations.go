// Package desk has the acts of people who ask for certificates by themselves, over a server: they read a request
// before they hand it in, come back to it by a private address, and may need an invitation.
//
// A private address holds 128 random bits. Only its SHA-256 is on record, so whoever reads the records cannot open
// it. A sender sees the request that was handed in and nothing of other requests or certificates. Who a
// sender says to be is not verified: the records and the review sheet say that it came from the desk.
package desk

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
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

// secretSize is how many random bytes a private address has.
const secretSize = 16

// newSecret makes the secret of a private address, and its digest.
func newSecret(random io.Reader) (secret, digest string, err error) {
	b := make([]byte, secretSize)
	if random == nil {
		random = rand.Reader
	}
	if _, err := io.ReadFull(random, b); err != nil {
		return "", "", err
	}
	secret = base64.RawURLEncoding.EncodeToString(b)
	return secret, digestOf(secret), nil
}

// digestOf is what is on record of a secret. It is looked up by this digest, so the time that it takes tells nothing
// of the secret.
func digestOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Invitation lets one person hand in requests.
type Invitation struct {
	Name      string    `json:"name" doc:"whom it is for"`
	Templates []string  `json:"templates" doc:"templates that may be asked for; none: any"`
	Names     []string  `json:"names" doc:"names that may be asked for, as trees; none: any"`
	Count     int       `json:"count" doc:"how many requests may be handed in; 0: any number"`
	Used      int       `json:"used" doc:"how many were"`
	Until     time.Time `json:"until" doc:"when it ends"`
	Ended     string    `json:"ended" doc:"why it holds no more; empty while it does"`

	recorded bool // its end is on record
}

// InviteAsk says whom to invite, and to what.
type InviteAsk struct {
	Name      string
	Templates []string
	Names     []string // trees, such as quay.ternbay.example or 192.0.2.0/24
	Count     int
	Until     time.Time
}

// Bounds of what is typed.
const (
	mostName     = 100  // characters of a person's name
	mostPurpose  = 1000 // characters
	mostBeside   = 50   // names beside a request
	mostWaiting  = 5000 // requests that wait, above which the desk takes no more
	longestInvit = 2 * 366 * 24 * time.Hour
)

// Invite records an invitation. The secret of its private address is returned once.
func Invite(ctx context.Context, e *estate.Estate, ask InviteAsk) (Invitation, string, error) {
	ask.Name = strings.TrimSpace(ask.Name)
	if err := ask.check(e); err != nil {
		return Invitation{}, "", err
	}
	secret, digest, err := newSecret(e.Env.Random)
	if err != nil {
		return Invitation{}, "", err
	}
	_, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := invitation(ctx, tx, ask.Name, tx.Now())
		if err != nil {
			return nil, err
		}
		if now != nil && now.Ended == "" {
			return nil, fault.New(fault.Refused, "%s is invited already, until %s", ask.Name,
				now.Until.Format("2006-01-02")).Then(advice.To("end that invitation first", advice.EndInvitation,
				"name",
				ask.Name))
		}
		return []event.Record{event.On(ask.Name, event.Invited{Address: digest, Templates: ask.Templates,
			Names: ask.Names,
			Count: ask.Count, Until: ask.Until.UTC()})}, nil
	})
	if err != nil {
		return Invitation{}, "", err
	}
	return Invitation{Name: ask.Name, Templates: append([]string{}, ask.Templates...),
		Names: append([]string{}, ask.Names...), Count: ask.Count, Until: ask.Until}, secret, nil
}

func (ask InviteAsk) check(e *estate.Estate) error {
	if ask.Name == "" || len([]rune(ask.Name)) > mostName || runes.Escape(ask.Name) != ask.Name {
		return fault.New(fault.BadInput, "an invitation needs the name of a person, of at most %d characters", mostName)
	}
	for _, t := range ask.Templates {
		if _, err := e.Template(t); err != nil {
			return err
		}
	}
	for _, n := range ask.Names {
		if _, err := san.ParseConstraint(n); err != nil {
			return fmt.Errorf("names of the invitation: %w", err)
		}
	}
	switch now := e.Now(); {
	case ask.Count < 0:
		return fault.New(fault.BadInput, "the number of requests is below 0")
	case !ask.Until.After(now):
		return fault.New(fault.BadInput, "the invitation would have ended already on %s", ask.Until.
			Format("2006-01-02"))
	case ask.Until.After(now.Add(longestInvit)):
		return fault.New(fault.BadInput, "an invitation lasts two years at most")
	}
	return nil
}

// End ends an invitation. Requests that were handed in by it stay.
func End(ctx context.Context, e *estate.Estate, name, because string) (journal.Head, error) {
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		i, err := invitation(ctx, tx, name, tx.Now())
		if err != nil {
			return nil, err
		}
		if i == nil {
			return nil, unknown(name)
		}
		if i.Ended != "" {
			return nil, fault.New(fault.Changed, "the invitation of %s holds no more: %s", i.Name, i.Ended)
		}
		return []event.Record{event.On(i.Name, event.InvitationEnded{Because: because})}, nil
	})
}

func unknown(name string) error {
	return fault.New(fault.NotFound, "there is no invitation of %q", name).Then(advice.To("see them",
		advice.ListInvitations))
}

// Expire ends the invitations whose day has passed, and says how many.
func Expire(ctx context.Context, e *estate.Estate) (int, error) {
	list, err := Invitations(ctx, e)
	if err != nil {
		return 0, err
	}
	n := 0
	for _, i := range list {
		if i.Ended != itsDay || i.recorded {
			continue
		}
		if _, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
			now, err := invitation(ctx, tx, i.Name, tx.Now())
			if err != nil || now == nil || now.Ended != itsDay || now.recorded {
				return nil, err
			}
			n++
			return []event.Record{event.On(i.Name, event.InvitationEnded{Because: itsDay})}, nil
		}); err != nil {
			return n, err
		}
	}
	return n, nil
}

// Why an invitation is no longer valid, unless a person ended it.
const (
	itsDay    = "its day has passed"
	itsNumber = "all its requests were handed in"
)

// Invitations lists them, those too that hold no more.
func Invitations(ctx context.Context, e *estate.Estate) (out []Invitation, err error) {
	var names []string
	if err := e.Records.Derived(ctx, event.Invitations, func(name string, _ journal.Entry) error {
		names = append(names, name)
		return nil
	}); err != nil {
		return nil, err
	}
	slices.Sort(names)
	for _, n := range names {
		i, err := invitation(ctx, e.Records, n, e.Now())
		if err != nil {
			return nil, err
		}
		if i != nil {
			out = append(out, *i)
		}
	}
	return out, nil
}

// invitation reads one; nil if none has that name.
func invitation(ctx context.Context, from store.DerivedReader, name string, now time.Time) (*Invitation, error) {
	en, found, err := from.DerivedOf(ctx, event.Invitations, name)
	if err != nil || !found {
		return nil, err
	}
	told, err := event.As[event.Invited](en)
	if err != nil {
		return nil, err
	}
	i := &Invitation{Name: en.Object, Templates: append([]string{}, told.Templates...),
		Names: append([]string{}, told.Names...), Count: told.Count, Until: told.Until}
	end, ended, err := from.DerivedOf(ctx, event.InvitationEnds, name)
	if err != nil {
		return nil, err
	}
	use, used, err := from.DerivedOf(ctx, event.InvitationUses, name)
	if err != nil {
		return nil, err
	}
	if used && use.Seq > en.Seq {
		h, err := event.As[event.HandedIn](use)
		if err != nil {
			return nil, err
		}
		i.Used = h.Nth
	}
	switch {
	case ended && end.Seq > en.Seq:
		told, err := event.As[event.InvitationEnded](end)
		if err != nil {
			return nil, err
		}
		i.Ended, i.recorded = told.Because, true
	case !now.Before(i.Until):
		i.Ended = itsDay
	case i.Count > 0 && i.Used >= i.Count:
		i.Ended = itsNumber
	}
	return i, nil
}

// Invited is the invitation with a private address. One that holds no more is returned with the reason in it.
func Invited(ctx context.Context, e *estate.Estate, secret string) (Invitation, error) {
	i, err := invited(ctx, e.Records, secret, e.Now())
	if err != nil {
		return Invitation{}, err
	}
	return *i, nil
}

func invited(ctx context.Context, from store.DerivedReader, secret string, now time.Time) (*Invitation, error) {
	en, found, err := from.DerivedOf(ctx, event.InvitationKeys, digestOf(secret))
	if err != nil {
		return nil, err
	}
	var i *Invitation
	if found {
		if i, err = invitation(ctx, from, en.Object, now); err != nil {
			return nil, err
		}
		newer, _, err := from.DerivedOf(ctx, event.Invitations, en.Object)
		if err != nil {
			return nil, err
		}
		if i != nil && newer.Seq != en.Seq { // another invitation of the same person took its place
			i.Ended = "a newer invitation took its place"
		}
	}
	if i == nil {
		return nil, fault.New(fault.NotFound, "there is no such invitation")
	}
	return i, nil
}
