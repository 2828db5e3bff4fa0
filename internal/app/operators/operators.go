// Package operators keeps the people who act on an estate: who they are, by which key they are known, and what they may
// do. Without any, an estate is one person's, and nothing is signed. From the first on, every act is.
package operators

import (
	"context"
	"maps"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/operator"
)

// Listed is an operator with the entry that made it what it is.
type Listed struct {
	event.Operator
	Since time.Time
	By    string
}

// List lists the operators, by name. The recovery code is among them.
func List(ctx context.Context, e *estate.Estate) (out []Listed, err error) {
	list, err := estate.OperatorsIn(ctx, e.Records)
	for _, o := range list {
		en, _, err := e.Records.DerivedOf(ctx, event.Operators, o.Name)
		if err != nil {
			return nil, err
		}
		out = append(out, Listed{o, en.At, en.Actor})
	}
	return out, err
}

// Find finds an operator by name.
func Find(ctx context.Context, e *estate.Estate, name string) (Listed, error) {
	list, err := List(ctx, e)
	if err != nil {
		return Listed{}, err
	}
	for _, o := range list {
		if o.Name == name {
			return o, nil
		}
	}
	return Listed{}, fault.New(fault.NotFound, "no operator is called %q", name).Then(
		advice.To("see who is", advice.ListOperators))
}

// Ask is what an operator is to be.
type Ask struct {
	Name string
	Key  operator.Key
	Role operator.Role // "" leaves the role that the operator has
}

// Kept is what came of it.
type Kept struct {
	Operator event.Operator
	First    bool // from now on every act is signed
	Replaced bool // there was one of the name
	Code     *operator.Code
	Head     journal.Head
}

// Keep adds an operator, or gives one another key or role. The first is an administrator, vouches for itself, and gets
// a recovery code.
func Keep(ctx context.Context, e *estate.Estate, ask Ask) (*Kept, error) {
	if err := operator.CheckName(ask.Name); err != nil {
		return nil, err
	}
	if ask.Name == event.RecoveryName {
		return nil, fault.New(fault.Refused, "%q is the name of the code on paper", ask.Name)
	}
	code, err := operator.NewCode(e.Env.Random)
	if err != nil {
		return nil, err
	}
	out := &Kept{}
	out.Head, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		by, err := byName(ctx, tx)
		if err != nil {
			return nil, err
		}
		o, err := kept(ctx, tx, by, ask)
		if err != nil {
			return nil, err
		}
		_, there := by[o.Name]
		*out = Kept{Operator: o, First: len(by) == 0, Replaced: there}
		records := []event.Record{event.On(o.Name, event.OperatorKept{Key: o.Key.String(), Role: o.Role})}
		if out.First {
			out.Code = code
			records = append(records, newCode(code))
		}
		return records, nil
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

func newCode(c *operator.Code) event.Record {
	return event.On(event.RecoveryName, event.OperatorKept{Key: c.Key().String(), Role: operator.Recovery})
}

func byName(ctx context.Context, r store.DerivedReader) (map[string]event.Operator, error) {
	list, err := estate.OperatorsIn(ctx, r)
	by := map[string]event.Operator{}
	for _, o := range list {
		by[o.Name] = o
	}
	return by, err
}

// kept is the operator that is asked for, where it can be one.
func kept(ctx context.Context, tx store.Tx, by map[string]event.Operator, ask Ask) (event.Operator, error) {
	before, there := by[ask.Name]
	o := event.Operator{Name: ask.Name, Key: ask.Key, Role: ask.Role}
	if o.Role == "" {
		o.Role = before.Role
	}
	switch {
	case len(by) == 0 && o.Role != operator.Administrator:
		return o, fault.New(fault.Refused, "the first operator is an administrator: no other could add operators")
	case o.Role == "":
		return o, fault.New(fault.BadInput, "say which role %s has", ask.Name)
	case there && before.Role == o.Role && before.Key.Same(o.Key):
		return o, fault.New(fault.Refused, "%s is an operator with this key and this role already", o.Name)
	}
	for name := range by {
		if name != o.Name && strings.EqualFold(name, o.Name) {
			return o, fault.New(fault.Refused, "there is an operator %s: two names that differ in case are one to "+
				"people", name)
		}
	}
	en, used, err := tx.DerivedOf(ctx, event.OperatorKeys, o.Key.Fingerprint())
	if err != nil {
		return o, err
	}
	if used && en.Object != o.Name {
		return o, fault.New(fault.Refused, "the key %s is or was that of %s: everybody has a key of their own",
			o.Key.Fingerprint(), en.Object)
	}
	then := maps.Clone(by)
	then[o.Name] = o
	if !event.HasAdministrator(then) {
		return o, lastOne(o.Name)
	}
	return o, nil
}

func lastOne(name string) error {
	return fault.New(fault.Refused, "%s is the last administrator: no one could add another: make another operator "+
		"an administrator first",
		name)
}

// End takes an operator's rights away. What they signed stays theirs.
func End(ctx context.Context, e *estate.Estate, name, because string) (journal.Head, error) {
	if strings.TrimSpace(because) == "" {
		return journal.Head{}, fault.New(fault.BadInput, "say why: the journal tells it")
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		by, err := byName(ctx, tx)
		if err != nil {
			return nil, err
		}
		if _, there := by[name]; !there || name == event.RecoveryName {
			return nil, fault.New(fault.NotFound, "no operator is called %q", name).Then(
				advice.To("see who is", advice.ListOperators))
		}
		if delete(by, name); !event.HasAdministrator(by) {
			return nil, lastOne(name)
		}
		return []event.Record{event.On(name, event.OperatorEnded{Because: because})}, nil
	})
}

// codeKey is a recovery code as the available key.
type codeKey struct{ code *operator.Code }

// Holding implements estate.OperatorKeys.
func (c codeKey) Holding(_ context.Context, among []operator.Key) (int, func([]byte) ([]byte, error), error) {
	for i, k := range among {
		if k.Same(c.code.Key()) {
			return i, c.code.Sign, nil
		}
	}
	return -1, nil, nil
}

// Recover gives an administrator who lost a key another one, by the code on paper. The code is used up: another one
// takes its place.
func Recover(ctx context.Context, e *estate.Estate, code *operator.Code, name string, k operator.Key) (*Kept, error) {
	next, err := operator.NewCode(e.Env.Random)
	if err != nil {
		return nil, err
	}
	mine := *e
	mine.Env.Operator = codeKey{code}
	out := &Kept{Replaced: true, Code: next}
	out.Head, err = mine.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		by, err := byName(ctx, tx)
		if err != nil {
			return nil, err
		}
		if by[name].Role != operator.Administrator {
			return nil, fault.New(fault.Refused,
				"%s is no administrator: an administrator gives others another key", name)
		}
		if out.Operator, err = kept(ctx, tx, by, Ask{Name: name, Key: k}); err != nil {
			return nil, err
		}
		return []event.Record{event.On(name, event.OperatorKept{Key: k.String(), Role: operator.Administrator}),
			newCode(next)}, nil
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// Witnessed reads the whole journal, and proves from it alone who did what. A fault of the kind refused says what
// cannot
// be; any other error is about reading.
func Witnessed(ctx context.Context, e *estate.Estate) (*event.Witness, error) {
	w := &event.Witness{}
	if err := e.Records.Entries(ctx, 0, 0, w.Add); err != nil {
		return w, err
	}
	return w, w.End()
}
