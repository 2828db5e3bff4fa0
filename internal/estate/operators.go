package estate

import (
	"context"
	"errors"
	"slices"
	"strings"

	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/operator"
)

// From the first operator on, every act is vouched for by an operator's key, and allowed by an operator's role. Both
// are
// asked here, for all acts, inside the change that they are about.

// OperatorKeys are the keys of the person at this machine.
type OperatorKeys interface {
	// Holding finds the first of some keys that can sign here, and how; -1 if none exists.
	Holding(ctx context.Context, among []operator.Key) (at int, sign func([]byte) ([]byte, error), err error)
}

// speaking is who vouches for a change.
type speaking struct {
	any  bool // there are operators
	who  event.Operator
	sign func([]byte) ([]byte, error)
}

// OperatorsIn are the operators of today, by name.
func OperatorsIn(ctx context.Context, r store.DerivedReader) ([]event.Operator, error) {
	var out []event.Operator
	err := r.Derived(ctx, event.Operators, func(_ string, en journal.Entry) error {
		o, err := event.OperatorIn(en)
		out = append(out, o)
		return err
	})
	slices.SortFunc(out, func(a, b event.Operator) int { return strings.Compare(a.Name, b.Name) })
	return out, err
}

// speaker finds out who acts, where there are operators, and lets the change be recorded in that name.
func speaker(ctx context.Context, tx store.Tx, w Env) (*speaking, error) {
	list, err := OperatorsIn(ctx, tx)
	if err == nil && len(list) == 0 {
		err = neverAny(ctx, tx)
	}
	if err != nil || len(list) == 0 {
		return &speaking{}, err
	}
	s, err := holding(ctx, list, w)
	if err != nil {
		return nil, err
	}
	tx.ActAs(s.who.Name, s.vouch)
	return s, nil
}

// neverAny refuses a change where the journal tells of operators and the rows that are derived from it do not: there is
// always one left, so these rows were taken out.
func neverAny(ctx context.Context, tx store.Tx) error {
	return tx.EntriesOf(ctx, event.OperatorKept{}.Act(), func(en journal.Entry) error {
		return fault.New(fault.Refused, "nothing was changed: J%d tells of an operator, and the records have none: "+
			"they were "+
			"changed by hand", en.Seq).Then(advice.To("see what is wrong", advice.CheckEstate))
	})
}

// holding finds the operator whose key is available.
func holding(ctx context.Context, list []event.Operator, w Env) (*speaking, error) {
	keys := make([]operator.Key, len(list))
	for i, o := range list {
		keys[i] = o.Key
	}
	at, why := -1, error(nil)
	var sign func([]byte) ([]byte, error)
	if w.Operator != nil {
		at, sign, why = w.Operator.Holding(ctx, keys)
	}
	if at < 0 {
		return nil, errors.Join(fault.New(fault.Refused, "nothing was changed: every act is signed by an "+
			"operator's key, "+
			"and this machine has no key of one").Then(
			advice.To("see whose keys are", advice.ListOperators),
			advice.Say("add yours to the SSH agent (ssh-add), or name its file")), why)
	}
	return &speaking{any: true, who: list[at], sign: sign}, nil
}

// vouch makes the entry by which the operator vouches for entries.
func (s *speaking) vouch(list []journal.Entry) (journal.Entry, error) {
	r, err := event.Vouch(s.who, len(list), list[len(list)-1].Hash, s.sign)
	if err != nil {
		return journal.Entry{}, fault.New(fault.Refused, "nothing was changed: %w", err)
	}
	return r.Entry("")
}

// may refuses records that the role of the one who acts does not allow, or that others must agree to. The first
// operator
// vouches for itself. What it returns is recorded with them.
func (s *speaking) may(ctx context.Context, tx store.Tx, w Env, records []event.Record) ([]event.Record, error) {
	if !s.any {
		for _, r := range records {
			if n := w.Approvals.For(guardOf(ctx, tx, r)); n > 1 {
				return nil, fault.New(fault.Refused, "nothing was changed: %d operators must agree to the act %q, "+
					"and there are "+
					"none: add them first, with [approvals] at 0", n, r.Event.Act())
			}
			k, ok := r.Event.(event.OperatorKept)
			if !ok {
				continue
			}
			key, err := operator.ParseKey(k.Key)
			if err != nil {
				return nil, err
			}
			first, err := holding(ctx, []event.Operator{{Name: r.Object, Key: key, Role: k.Role}}, w)
			if err != nil {
				return nil, err
			}
			tx.ActAs(r.Object, first.vouch)
			return nil, nil
		}
		return nil, nil
	}
	for _, r := range records {
		if err := event.May(s.who.Role, r.Event.Act()); err != nil {
			return nil, fault.New(fault.Refused, "nothing was changed: %s: %w", s.who.Name, err)
		}
	}
	return s.agreed(ctx, tx, w, records)
}

// Signing is the operator who would act now, and how they sign.
func (e *Estate) Signing(ctx context.Context) (event.Operator, func([]byte) ([]byte, error), error) {
	list, err := OperatorsIn(ctx, e.Records)
	if err != nil {
		return event.Operator{}, nil, err
	}
	if len(list) == 0 {
		return event.Operator{}, nil, fault.New(fault.Refused, "there are no operators who could agree")
	}
	s, err := holding(ctx, list, e.Env)
	if err != nil {
		return event.Operator{}, nil, err
	}
	return s.who, func(what []byte) ([]byte, error) { return s.sign(operator.ToSign(what)) }, nil
}

// Acting is the operator who would act now; false where the estate has no operators.
func (e *Estate) Acting(ctx context.Context) (event.Operator, bool, error) {
	list, err := OperatorsIn(ctx, e.Records)
	if err != nil || len(list) == 0 {
		return event.Operator{}, false, err
	}
	s, err := holding(ctx, list, e.Env)
	if err != nil {
		return event.Operator{}, true, err
	}
	return s.who, true, nil
}

// Allowed refuses, before anything is asked or opened, what would be refused when it is recorded.
func (e *Estate) Allowed(ctx context.Context, acts ...string) error {
	who, any, err := e.Acting(ctx)
	if err != nil || !any {
		return err
	}
	for _, act := range acts {
		if err := event.May(who.Role, act); err != nil {
			return fault.New(fault.Refused, "nothing was changed: %s: %w", who.Name, err)
		}
	}
	return nil
}
