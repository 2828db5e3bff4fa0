// Package ordering has the acts of ACME (RFC 8555): accounts, orders, and challenges. What a client sees of an order is
// worked out from the records each time, so several servers of one estate agree, and one that is started again
// continues where another stopped. Signing goes the way of every machine's request, in package enrol.
//
// Faults of a client's message are a *acme.Problem; other errors are of the records.
package ordering

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/acme"
	"ironseal/pki/jose"
	"ironseal/pki/journal"
	"ironseal/pki/san"
)

// Account is a machine's account.
type Account struct {
	ID       string    `json:"account" doc:"its identifier"`
	Template string    `json:"template" doc:"by which it orders"`
	Code     string    `json:"credential" doc:"that it registered with; empty where registration is open"`
	Nth      int       `json:"nth" doc:"of the accounts by this credential"`
	Names    []string  `json:"names" doc:"trees of names that may be ordered; none: any"`
	Party    string    `json:"party" doc:"whose machine it is; empty for none"`
	Contacts []string  `json:"contacts" doc:"that the machine gave"`
	Kept     time.Time `json:"changed" doc:"when it was registered, or changed"`
	Ended    string    `json:"ended" doc:"why it holds no more; empty while it does"`

	Key jose.Key `json:"-"`
	seq int64
}

// Sender is who sends the account's requests.
func (a Account) Sender() string {
	switch {
	case a.Party != "":
		return a.Party
	case a.Code != "":
		return "acme: " + a.Title()
	}
	return "acme: account " + a.ID
}

// Title names the account for people.
func (a Account) Title() string {
	if a.Code == "" {
		return a.ID
	}
	return a.Code + "/" + strconv.Itoa(a.Nth)
}

func problem(kind acme.Kind, detail string) error { return &acme.Problem{Kind: kind, Detail: detail} }

// newID names an account or an order. It is no secret: a signature decides who may see it.
func newID() string { return strings.ToLower(rand.Text()[:20]) }

// ByID finds an account of a template.
func ByID(ctx context.Context, e *estate.Estate, template, id string) (Account, error) {
	a, err := account(ctx, e.Records, id)
	if err == nil && (a == nil || a.Template != template) {
		err = problem(acme.AccountDoesNotExist, "there is no such account here")
	}
	if err != nil {
		return Account{}, err
	}
	return *a, nil
}

// ByKey finds the account of a template that has a key today.
func ByKey(ctx context.Context, e *estate.Estate, template string, k jose.Key) (Account, error) {
	a, err := byKey(ctx, e.Records, template, k)
	if err == nil && a == nil {
		err = problem(acme.AccountDoesNotExist, "no account has this key")
	}
	if err != nil {
		return Account{}, err
	}
	return *a, nil
}

func byKey(ctx context.Context, from store.DerivedReader, template string, k jose.Key) (*Account, error) {
	en, found, err := from.DerivedOf(ctx, event.AccountKeys, event.AccountKeyName(template, k.Thumbprint()))
	if err != nil || !found {
		return nil, err
	}
	a, err := account(ctx, from, en.Object)
	if err != nil || a == nil || !a.Key.Same(k) { // it has another key by now
		return nil, err
	}
	return a, nil
}

// account reads an account; nil if none exists.
func account(ctx context.Context, from store.DerivedReader, id string) (*Account, error) {
	en, found, err := from.DerivedOf(ctx, event.Accounts, id)
	if err != nil || !found {
		return nil, err
	}
	return readAccount(ctx, from, en)
}

func readAccount(ctx context.Context, from store.DerivedReader, en journal.Entry) (*Account, error) {
	kept, err := event.As[event.AccountKept](en)
	if err != nil {
		return nil, err
	}
	a := &Account{ID: en.Object, Template: kept.Template, Code: kept.Code, Nth: kept.Nth,
		Names: append([]string{}, kept.Names...), Party: kept.Party, Contacts: append([]string{}, kept.Contacts...),
		Kept: en.At, seq: en.Seq}
	if a.Key, err = jose.Known([]byte(kept.Key)); err != nil {
		return nil, err
	}
	end, ended, err := from.DerivedOf(ctx, event.AccountEnds, a.ID)
	if err != nil {
		return nil, err
	}
	if ended && end.Seq > en.Seq {
		told, err := event.As[event.AccountEnded](end)
		a.Ended = told.Because
		return a, err
	}
	if a.Code == "" {
		return a, nil
	}
	end, ended, err = from.DerivedOf(ctx, event.CodeEnds, a.Code)
	if err == nil && ended && end.Seq > en.Seq {
		var told event.CodeEnded
		told, err = event.As[event.CodeEnded](end)
		a.Ended = told.Because
	}
	return a, err
}

// EachAccount calls fn for every account.
func EachAccount(ctx context.Context, e *estate.Estate, fn func(Account) error) error {
	var entries []journal.Entry
	if err := e.Records.Derived(ctx, event.Accounts, func(_ string, en journal.Entry) error {
		entries = append(entries, en)
		return nil
	}); err != nil {
		return err
	}
	for _, en := range entries {
		a, err := readAccount(ctx, e.Records, en)
		if err != nil {
			return err
		}
		if err := fn(*a); err != nil {
			return err
		}
	}
	return nil
}

// RegisterAsk is what a client registers an account with.
type RegisterAsk struct {
	Template string
	Key      jose.Key
	Contacts []string
	KeyID    string // of the credential that it is bound to; "" for none
	Open     bool   // accounts that are bound to none are taken
}

// Register registers an account. The key of an account that is there gives that account, and created is false.
func Register(ctx context.Context, e *estate.Estate, ask RegisterAsk) (a Account, created bool, err error) {
	if err := acme.CheckContacts(ask.Contacts); err != nil {
		return a, false, err
	}
	if ask.KeyID == "" && !ask.Open {
		return a, false, problem(acme.ExternalRequired, "an account is registered with a key identifier and a key "+
			"that the administrator gives out (RFC 8555 section 7.3.4)")
	}
	id := newID()
	_, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		created = false
		if there, err := byKey(ctx, tx, ask.Template, ask.Key); err != nil || there != nil {
			if there != nil {
				id = there.ID
			}
			return nil, err
		}
		kept := event.AccountKept{Thumbprint: ask.Key.Thumbprint(), Key: ask.Key.JSON(), Template: ask.Template,
			Contacts: ask.Contacts}
		if ask.KeyID != "" {
			c, err := enrol.UseAccountKey(ctx, tx, ask.KeyID)
			if err != nil {
				return nil, err
			}
			if c.Template != ask.Template {
				return nil, problem(acme.Unauthorized, "the credential is for the template "+c.Template)
			}
			kept.Code, kept.Nth, kept.Names, kept.Party = c.Name, c.Used+1, c.Names, c.Party
		}
		created = true
		return []event.Record{event.On(id, kept)}, nil
	})
	if errors.Is(err, enrol.ErrCredentials) {
		err = problem(acme.Unauthorized, "the key identifier is not known here, or holds no more")
	}
	if err != nil {
		return a, false, err
	}
	a, err = ByID(ctx, e, ask.Template, id)
	return a, created, err
}

// Bind verifies the binding of an account to a credential (RFC 8555 section 7.3.4), and tells the key identifier.
func Bind(ctx context.Context, e *estate.Estate, binding []byte, address string, k jose.Key) (string, error) {
	m, err := jose.Read(binding)
	if err != nil {
		return "", err
	}
	switch {
	case m.URL != address:
		return "", problem(acme.Malformed, "the binding is for another address")
	case m.Nonce != "" || m.Header.Key != nil || m.KeyID == "":
		return "", problem(acme.Malformed, "the binding has a key identifier, and neither a nonce nor a key")
	}
	bound, err := jose.ReadKey(m.Payload)
	if err != nil {
		return "", err
	}
	if !bound.Same(k) {
		return "", problem(acme.Malformed, "the binding is for another key")
	}
	unknown := problem(acme.Unauthorized, "the key identifier is not known here, or the binding is not by its key")
	_, secret, err := enrol.Bound(ctx, e, m.KeyID)
	if errors.Is(err, enrol.ErrCredentials) {
		return "", unknown
	}
	if err != nil {
		return "", err
	}
	defer clear(secret)
	switch err := m.VerifyMAC(secret); {
	case errors.Is(err, jose.ErrAlgorithm):
		return "", err
	case err != nil:
		return "", unknown
	}
	return m.KeyID, nil
}

// change records an account as it is from now on, as long as it holds.
func change(ctx context.Context, e *estate.Estate, id string, fn func(tx store.Tx, k *event.AccountKept) error) error {
	_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		a, err := account(ctx, tx, id)
		if err != nil {
			return nil, err
		}
		if a == nil || a.Ended != "" {
			return nil, problem(acme.Unauthorized, "the account holds no more")
		}
		k := event.AccountKept{Thumbprint: a.Key.Thumbprint(), Key: a.Key.JSON(), Template: a.Template, Code: a.Code,
			Nth: a.Nth, Names: a.Names, Party: a.Party, Contacts: a.Contacts, Change: true}
		if err := fn(tx, &k); err != nil {
			return nil, err
		}
		return []event.Record{event.On(id, k)}, nil
	})
	return err
}

// SetContacts changes the contacts of an account.
func SetContacts(ctx context.Context, e *estate.Estate, a Account, contacts []string) error {
	if err := acme.CheckContacts(contacts); err != nil {
		return err
	}
	if slices.Equal(contacts, a.Contacts) {
		return nil
	}
	return change(ctx, e, a.ID, func(_ store.Tx, k *event.AccountKept) error {
		k.Contacts = contacts
		return nil
	})
}

// ErrKeyTaken says that another account has a key.
var ErrKeyTaken = errors.New("another account has this key")

// SetKey gives an account another key (RFC 8555 section 7.3.5). ErrKeyTaken is returned where an account has it.
func SetKey(ctx context.Context, e *estate.Estate, a Account, next jose.Key) error {
	return change(ctx, e, a.ID, func(tx store.Tx, k *event.AccountKept) error {
		if k.Key != a.Key.JSON() {
			return problem(acme.Unauthorized, "the account has another key by now")
		}
		if there, err := byKey(ctx, tx, a.Template, next); err != nil || there != nil {
			return errors.Join(err, ErrKeyTaken)
		}
		k.Thumbprint, k.Key = next.Thumbprint(), next.JSON()
		return nil
	})
}

// End ends an account. Certificates that it got stay as they are.
func End(ctx context.Context, e *estate.Estate, id, because string) error {
	_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		a, err := account(ctx, tx, id)
		if err != nil {
			return nil, err
		}
		if a == nil {
			return nil, problem(acme.AccountDoesNotExist, "there is no such account here")
		}
		if a.Ended != "" {
			return nil, nil
		}
		return []event.Record{event.On(id, event.AccountEnded{Because: because})}, nil
	})
	return err
}

// mayOrder reports whether an account may order a name.
func (a Account) mayOrder(n san.Name) bool { return len(a.Names) == 0 || enrol.Within(a.Names, n) }
