package event

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"

	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/operator"
)

// OperatorKept records that someone is an operator, with this key and this role from now on. The entry's object is the
// operator's name.
type OperatorKept struct {
	v1
	Key  string        `json:"key"` // as a line of a file of public keys
	Role operator.Role `json:"role"`
}

// OperatorEnded records that someone is an operator no more.
type OperatorEnded struct {
	v1
	Because string `json:"because"`
}

// Vouched records that an operator signed all entries since the one that was vouched for before: the signature is over
// the hash of the entry before this one. The entry's object is the operator's name.
type Vouched struct {
	v1
	Key       string `json:"key"`       // its fingerprint, as SSH writes it
	Entries   int    `json:"entries"`   // how many it is for
	Signature string `json:"signature"` // in the form of SSH, in base 64
}

// VouchAct is the act of an entry that vouches for those before it.
const VouchAct = "vouch"

// Act implements Event.
func (OperatorKept) Act() string { return "keep operator" }

// Act implements Event.
func (OperatorEnded) Act() string { return "end operator" }

// Act implements Event.
func (Vouched) Act() string { return VouchAct }

var operatorKinds = []maker{
	func() Event { return &OperatorKept{} }, func() Event { return &OperatorEnded{} },
	func() Event { return &Vouched{} },
}

// Operator is an operator as the journal tells of one.
type Operator struct {
	Name string
	Key  operator.Key
	Role operator.Role
}

// OperatorIn reads the operator that an entry keeps.
func OperatorIn(en journal.Entry) (Operator, error) {
	k, err := As[OperatorKept](en)
	if err != nil {
		return Operator{}, err
	}
	out := Operator{Name: en.Object, Role: k.Role}
	if out.Key, err = operator.ParseKey(k.Key); err != nil {
		return out, fmt.Errorf("journal J%d: %w", en.Seq, err)
	}
	return out, nil
}

// Witness proves from the journal alone who did what: it reads all entries in their order, and checks that those since
// the first operator are each vouched for by someone who was an operator then, in a role that allows them. The links
// between entries are checked elsewhere (journal.Verifier).
type Witness struct {
	by      map[string]Operator
	used    map[string]string // every key that was ever an operator's: whose, by fingerprint
	pending []journal.Entry
	last    journal.Entry
	Vouched int // entries that are vouched for
}

// Add reads the next entry. An error says what cannot be: it is about that entry, and the witness is of no use after
// it.
func (w *Witness) Add(en journal.Entry) error {
	fail := func(format string, args ...any) error {
		return fault.New(fault.Refused, "journal J%d: %w", en.Seq, fmt.Errorf(format, args...))
	}
	if w.by == nil {
		w.by, w.used = map[string]Operator{}, map[string]string{}
	}
	before := w.last
	w.last = en
	switch {
	case en.Act == VouchAct:
		if err := w.vouched(en, before); err != nil {
			return fail("%w", err)
		}
		return nil
	case len(w.by) == 0 && len(w.pending) == 0 && en.Act != (OperatorKept{}).Act():
		return nil
	case len(w.pending) == 0 && en.Act == (RecordsUpgraded{}).Act():
		return nil // a newer program brings the records to its form when it opens them
	}
	w.pending = append(w.pending, en)
	return nil
}

// vouched checks the signature over what is pending, and lets it count.
func (w *Witness) vouched(en, before journal.Entry) error {
	v, err := As[Vouched](en)
	if err != nil {
		return err
	}
	if v.Entries != len(w.pending) || len(w.pending) == 0 {
		return fmt.Errorf("it vouches for %d entries, and there are %d", v.Entries, len(w.pending))
	}
	who, known := w.by[en.Object]
	if !known && len(w.by) == 0 { // the first vouches for itself
		if who, err = OperatorIn(w.pending[0]); err != nil {
			return err
		}
		if who.Name != en.Object || who.Role != operator.Administrator {
			return fmt.Errorf("the first operator is an administrator who vouches for this")
		}
		known = true
	}
	if !known || who.Key.Fingerprint() != v.Key {
		return fmt.Errorf("%s was no operator with the key %s then", en.Object, v.Key)
	}
	signature, err := base64.StdEncoding.DecodeString(v.Signature)
	if err != nil {
		return fmt.Errorf("its signature cannot be read")
	}
	if err := who.Key.Verify(before.Hash, signature); err != nil {
		return err
	}
	for _, p := range w.pending {
		if p.Actor != who.Name {
			return fmt.Errorf("J%d names %s, and %s vouches for it", p.Seq, p.Actor, who.Name)
		}
		if err := May(who.Role, p.Act); err != nil {
			return fmt.Errorf("J%d: %w", p.Seq, err)
		}
		if who.Role == operator.Recovery {
			o, err := OperatorIn(p)
			if err == nil {
				err = RecoveryMay(w.by, o)
			}
			if err != nil {
				return fmt.Errorf("J%d: %w", p.Seq, err)
			}
		}
		if err := w.change(p); err != nil {
			return err
		}
	}
	w.Vouched += len(w.pending)
	w.pending = nil
	return nil
}

// RecoveryName is the name under which the code on paper acts.
const RecoveryName = "recovery code"

// RecoveryMay refuses what the code on paper is not for: it gives an administrator another key, and is then replaced by
// another code.
func RecoveryMay(by map[string]Operator, o Operator) error {
	if o.Name == RecoveryName && o.Role == operator.Recovery ||
		by[o.Name].Role == operator.Administrator && o.Role == operator.Administrator {
		return nil
	}
	return fault.New(fault.Refused, "the recovery code gives an administrator another key, and does nothing else")
}

// change follows who is an operator.
func (w *Witness) change(p journal.Entry) error {
	switch p.Act {
	case (OperatorKept{}).Act():
		o, err := OperatorIn(p)
		if err != nil {
			return err
		}
		if whose, taken := w.used[o.Key.Fingerprint()]; taken && whose != o.Name {
			return fmt.Errorf("J%d: the key is that of %s", p.Seq, whose)
		}
		w.by[o.Name], w.used[o.Key.Fingerprint()] = o, o.Name
	case (OperatorEnded{}).Act():
		delete(w.by, p.Object)
	default:
		return nil
	}
	if !HasAdministrator(w.by) {
		return fmt.Errorf("J%d: no administrator is left", p.Seq)
	}
	return nil
}

// HasAdministrator reports whether any of the operators is one.
func HasAdministrator(by map[string]Operator) bool {
	for _, o := range by {
		if o.Role == operator.Administrator {
			return true
		}
	}
	return false
}

// End reports entries without a valid signature of an operator.
func (w *Witness) End() error {
	if len(w.pending) > 0 {
		return fault.New(fault.Refused, "journal J%d: no operator vouches for it", w.pending[0].Seq)
	}
	return nil
}

// Operators are those of today, by name.
func (w *Witness) Operators() map[string]Operator { return w.by }

// Vouch is the event by which an operator vouches for entries, the last of which has this hash.
func Vouch(who Operator, entries int, hash []byte, sign func([]byte) ([]byte, error)) (Record, error) {
	signature, err := sign(operator.ToSign(hash))
	if err != nil {
		return Record{}, err
	}
	if err := who.Key.Verify(hash, signature); err != nil {
		return Record{}, fmt.Errorf("what signed for %s did not sign as it was asked (entry %s): %w", who.Name,
			hex.EncodeToString(hash[:4]), err)
	}
	return On(who.Name, Vouched{Key: who.Key.Fingerprint(), Entries: entries,
		Signature: base64.StdEncoding.EncodeToString(signature)}), nil
}
