package app_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/operators"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/internal/store/onserver"
	"ironseal/pki/bundle"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/operator"
	"ironseal/pki/specimen"
)

// person is somebody with an SSH key at hand. It is an estate.OperatorKeys.
type person struct {
	name   string
	signer ssh.Signer
	lie    func([]byte) ([]byte, error) // in place of signing
}

func newPerson(t testing.TB, name string) *person {
	t.Helper()
	_, k, err := ed25519.GenerateKey(rand.Reader)
	must0(t, err)
	s, err := ssh.NewSignerFromKey(k)
	must0(t, err)
	return &person{name: name, signer: s}
}

func (p *person) key(t testing.TB) operator.Key {
	t.Helper()
	k, err := operator.KeyOf(p.signer.PublicKey().Marshal())
	must0(t, err)
	return k
}

// Holding implements estate.OperatorKeys.
func (p *person) Holding(_ context.Context, among []operator.Key) (int, func([]byte) ([]byte, error), error) {
	mine, err := operator.KeyOf(p.signer.PublicKey().Marshal())
	if err != nil {
		return -1, nil, err
	}
	for i, k := range among {
		if k.Same(mine) {
			return i, p.sign, nil
		}
	}
	return -1, nil, nil
}

func (p *person) sign(data []byte) ([]byte, error) {
	if p.lie != nil {
		return p.lie(data)
	}
	algorithm := ""
	if p.signer.PublicKey().Type() == ssh.KeyAlgoRSA {
		algorithm = ssh.KeyAlgoRSASHA512
	}
	s, err := p.signer.(ssh.AlgorithmSigner).SignWithAlgorithm(rand.Reader, data, algorithm)
	if err != nil {
		return nil, err
	}
	return ssh.Marshal(s), nil
}

// by is the estate with somebody's key at hand; nil for nobody's.
func by(t testing.TB, dir string, p *person) *estate.Estate {
	t.Helper()
	w := world()
	if p != nil {
		w.Operator = p
	}
	return reopen(t, dir, w)
}

// team is an estate with an administrator, a signer, a clerk and an auditor.
func team(t *testing.T) (dir string, ana, ben, cleo, dag *person, code *operator.Code) {
	t.Helper()
	dir, _ = newEstate(t)
	ana, ben, cleo, dag = newPerson(t, "ana"), newPerson(t, "ben"), newPerson(t, "cleo"), newPerson(t, "dag")
	for _, x := range []struct {
		p    *person
		role operator.Role
	}{{ana, operator.Administrator}, {ben, operator.Signer}, {cleo, operator.Clerk}, {dag, operator.Auditor}} {
		k, err := operators.Keep(ctx, by(t, dir, ana), operators.Ask{Name: x.p.name, Key: x.p.key(t), Role: x.role})
		must0(t, err)
		if k.Code != nil {
			code = k.Code
		}
	}
	if code == nil {
		t.Fatal("the first operator got no recovery code")
	}
	return dir, ana, ben, cleo, dag, code
}

func receiveAs(e *estate.Estate, t testing.TB, host string) error {
	t.Helper()
	_, _, faults := intake.Receive(ctx, e, []intake.Input{{Name: host, Data: bundle.PEM(bundle.Request,
		specimen.Request(t, nil, "CN="+host, []string{host}).Raw)}}, "the yard")
	return errors.Join(faults...)
}

// Every act asks for the role that it needs, of everybody, and the journal proves who did what.
func TestRolesAreEnforced(t *testing.T) {
	t.Parallel()
	dir, ana, ben, cleo, dag, _ := team(t)
	stranger := newPerson(t, "stranger")
	must0(t, receiveAs(by(t, dir, cleo), t, "first.ternbay.example"))
	n := 1
	for _, act := range []struct {
		name  string
		least operator.Role
		do    func(*estate.Estate) error
	}{
		{"receive", operator.Clerk, func(e *estate.Estate) error {
			n++
			return receiveAs(e, t, fmt.Sprintf("h%d.ternbay.example", n))
		}},
		{"decline", operator.Clerk, func(e *estate.Estate) error {
			must0(t, receiveAs(by(t, dir, cleo), t, fmt.Sprintf("d%d.ternbay.example", n)))
			list, err := e.Records.Requests(ctx, lifecycle.Waiting)
			must0(t, err)
			n++
			_, err = intake.Decide(ctx, e, fmt.Sprintf("R%d", list[len(list)-1].Number), lifecycle.Declined, "no",
				false)
			return err
		}},
		{"sign", operator.Signer, func(e *estate.Estate) error {
			host := fmt.Sprintf("s%d.ternbay.example", n)
			n++
			must0(t, receiveAs(by(t, dir, cleo), t, host))
			list, err := e.Records.Requests(ctx, lifecycle.Waiting)
			must0(t, err)
			return sign(e, sheet(t, e, int(list[len(list)-1].Number)))
		}},
		{"publish", operator.Signer, func(e *estate.Estate) error {
			p, err := publishing.PlanLists(ctx, e, publishing.Ask{All: true})
			if err == nil {
				_, err = publishing.Sign(ctx, e, p)
			}
			return err
		}},
		{"make an authority", operator.Administrator, func(e *estate.Estate) error {
			n++
			p, err := authorities.PlanNew(ctx, e, authorities.Ask{Handle: fmt.Sprintf("x%d", n), Under: "root",
				Key: key.P256})
			if err == nil {
				_, _, err = authorities.Create(ctx, e, p)
			}
			return err
		}},
	} {
		for _, who := range []struct {
			p    *person
			role operator.Role
		}{{ana, operator.Administrator}, {ben, operator.Signer}, {cleo, operator.Clerk}, {dag, operator.Auditor},
			{stranger, ""}, {nil, ""}} {
			err := act.do(by(t, dir, who.p))
			if may := who.role.May(act.least); may != (err == nil) || !may && !errors.Is(err, fault.Refused) {
				t.Errorf("%s by a %q: %v", act.name, who.role, err)
			}
		}
	}
	w, err := operators.Witnessed(ctx, by(t, dir, nil))
	if err != nil || w.Vouched < 20 {
		t.Errorf("%d entries are vouched for: %v", w.Vouched, err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// Nobody can take an estate over by operators' acts, and none of them locks it.
func TestOperatorsAreKept(t *testing.T) {
	t.Parallel()
	dir, ana, ben, _, _, code := team(t)
	keep := func(who *person, name string, k operator.Key, role operator.Role) error {
		_, err := operators.Keep(ctx, by(t, dir, who), operators.Ask{Name: name, Key: k, Role: role})
		return err
	}
	other := newPerson(t, "other")
	for name, try := range map[string]func() error{
		"a signer adds an administrator": func() error {
			return keep(ben, "eve", other.key(t), operator.Administrator)
		},
		"a key of somebody else":      func() error { return keep(ana, "eve", ben.key(t), operator.Signer) },
		"a name that differs in case": func() error { return keep(ana, "BEN", other.key(t), operator.Signer) },
		"control characters":          func() error { return keep(ana, "b\x1b[2Jen", other.key(t), operator.Signer) },
		"a right-to-left name":        func() error { return keep(ana, "\u202eneb", other.key(t), operator.Signer) },
		"an empty name":               func() error { return keep(ana, "", other.key(t), operator.Signer) },
		"the name of the code": func() error {
			return keep(ana, event.RecoveryName, other.key(t),
				operator.Signer)
		},
		"the last administrator is made a clerk": func() error {
			return keep(ana, "ana", ana.key(t), operator.Clerk)
		},
		"the last administrator is ended": func() error {
			_, err := operators.End(ctx, by(t, dir, ana), "ana", "trying")
			return err
		},
		"no reason": func() error { _, err := operators.End(ctx, by(t, dir, ana), "ben", " "); return err },
		"the code for a clerk": func() error {
			_, err := operators.Recover(ctx, by(t, dir, nil), code, "cleo", other.key(t))
			return err
		},
		"another code": func() error {
			wrong, err := operator.NewCode(rand.Reader)
			must0(t, err)
			_, err = operators.Recover(ctx, by(t, dir, nil), wrong, "ana", other.key(t))
			return err
		},
		"the code signs a request": func() error {
			e := by(t, dir, nil)
			e.Env.Operator = codeAtHand{code}
			return receiveAs(e, t, "a.ternbay.example")
		},
	} {
		t.Run(name, func(t *testing.T) {
			if err := try(); !errors.Is(err, fault.Refused) && !errors.Is(err, fault.BadInput) {
				t.Errorf("%v", err)
			}
		})
	}
	must0(t, keep(ana, "ben", other.key(t), "")) // a key is replaced
	if err := receiveAs(by(t, dir, ben), t, "a.ternbay.example"); !errors.Is(err, fault.Refused) {
		t.Errorf("the key that was replaced still acts: %v", err)
	}
	must0(t, receiveAs(by(t, dir, other), t, "a.ternbay.example"))
	if err := keep(ana, "eve", ben.key(t), operator.Clerk); !errors.Is(err, fault.Refused) {
		t.Errorf("a key that was somebody's is given to another: %v", err)
	}
	// the administrator loses the key
	again := newPerson(t, "ana")
	k, err := operators.Recover(ctx, by(t, dir, nil), code, "ana", again.key(t))
	must0(t, err)
	must0(t, keep(again, "eve", newPerson(t, "eve").key(t), operator.Administrator))
	if _, err := operators.Recover(ctx, by(t, dir, nil), code, "ana", newPerson(t, "x").key(t)); err == nil {
		t.Error("a code is used twice")
	}
	typed, err := operator.ReadCode(k.Code.Lines())
	must0(t, err)
	_, err = operators.Recover(ctx, by(t, dir, nil), typed, "eve", newPerson(t, "x").key(t))
	must0(t, err)
	if _, err := operators.Witnessed(ctx, by(t, dir, nil)); err != nil {
		t.Error(err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// codeAtHand is a code as the only key.
type codeAtHand struct{ code *operator.Code }

func (c codeAtHand) Holding(_ context.Context, among []operator.Key) (int, func([]byte) ([]byte, error), error) {
	for i, k := range among {
		if k.Same(c.code.Key()) {
			return i, c.code.Sign, nil
		}
	}
	return -1, nil, nil
}

// What somebody writes into the journal without an operator's key is told: entries that nobody vouches for, signatures
// that are replayed, exchanged, or by the wrong key or role.
func TestForgedEntriesAreTold(t *testing.T) {
	t.Parallel()
	dir, ana, ben, cleo, _, _ := team(t)
	must0(t, receiveAs(by(t, dir, cleo), t, "a.ternbay.example"))
	must0(t, receiveAs(by(t, dir, cleo), t, "b.ternbay.example"))
	e := by(t, dir, nil)
	var all []journal.Entry
	must0(t, e.Records.Entries(ctx, 0, 0, func(en journal.Entry) error { all = append(all, en); return nil }))
	vouch := func(who *person, name string, list []journal.Entry) journal.Entry {
		r, err := event.Vouch(event.Operator{Name: name, Key: who.key(t)}, len(list), list[len(list)-1].Hash, who.sign)
		must0(t, err)
		en, err := r.Entry("")
		must0(t, err)
		en.Actor = name
		return en
	}
	last := all[len(all)-1]
	own := func(act, actor string) journal.Entry {
		return journal.Entry{Act: act, Actor: actor, Object: "R9", Detail: `{"v":1}`}
	}
	for name, c := range map[string]struct {
		tail func() []journal.Entry
		good bool
	}{
		"as it is": {func() []journal.Entry { return nil }, true},
		"one more that is vouched for": {func() []journal.Entry {
			first := own("receive", "cleo").After(last)
			return []journal.Entry{first, vouch(cleo, "cleo", []journal.Entry{first})}
		}, true},
		"nobody vouches": {func() []journal.Entry { return []journal.Entry{own("receive", "cleo")} }, false},
		"an earlier signature": {func() []journal.Entry {
			return []journal.Entry{own("receive", "cleo"), {Act: event.VouchAct, Actor: "cleo", Object: "cleo",
				Detail: all[len(all)-1].Detail}}
		}, false},
		"another's name": {func() []journal.Entry {
			first := own("receive", "ana").After(last)
			return []journal.Entry{first, vouch(cleo, "cleo", []journal.Entry{first})}
		}, false},
		"another's key": {func() []journal.Entry {
			first := own("receive", "ana").After(last)
			return []journal.Entry{first, vouch(cleo, "ana", []journal.Entry{first})}
		}, false},
		"a role that does not allow it": {func() []journal.Entry {
			first := own("sign", "cleo").After(last)
			return []journal.Entry{first, vouch(cleo, "cleo", []journal.Entry{first})}
		}, false},
		"more entries than it says": {func() []journal.Entry {
			first := own("receive", "cleo").After(last)
			second := own("receive", "cleo").After(first)
			en := vouch(cleo, "cleo", []journal.Entry{second})
			return []journal.Entry{first, second, en}
		}, false},
		"the last administrator ends": {func() []journal.Entry {
			first := journal.Entry{Act: "end operator", Actor: "ana", Object: "ana", Detail: `{"v":1}`}.After(last)
			return []journal.Entry{first, vouch(ana, "ana", []journal.Entry{first})}
		}, false},
		"a key that another has": {func() []journal.Entry {
			r := event.On("eve", event.OperatorKept{Key: ben.key(t).String(), Role: operator.Clerk})
			first, err := r.Entry("")
			must0(t, err)
			first.Actor = "ana"
			first = first.After(last)
			return []journal.Entry{first, vouch(ana, "ana", []journal.Entry{first})}
		}, false},
	} {
		t.Run(name, func(t *testing.T) {
			w := &event.Witness{}
			before := last
			err := func() error {
				for _, en := range all {
					if err := w.Add(en); err != nil {
						return err
					}
				}
				for _, en := range c.tail() {
					en = en.After(before)
					before = en
					if err := w.Add(en); err != nil {
						return err
					}
				}
				return w.End()
			}()
			if (err == nil) != c.good {
				t.Errorf("%v", err)
			}
		})
	}
	t.Run("written into the records", func(t *testing.T) {
		e := by(t, dir, nil)
		_, err := e.Records.Act(ctx, e.Env.Now, "ana", nil, func(store.Tx) ([]journal.Entry, error) {
			return []journal.Entry{own("revoke", "ana")}, nil
		})
		must0(t, err)
		found := false
		for _, f := range checked(t, dir) {
			found = found || strings.Contains(f.What, "no operator vouches")
		}
		if !found {
			t.Error("the check does not tell of it")
		}
	})
}

// A key that answers wrongly changes nothing.
func TestAKeyThatLiesChangesNothing(t *testing.T) {
	t.Parallel()
	dir, ana, ben, _, _, _ := team(t)
	head, _, err := by(t, dir, nil).Records.Newest(ctx)
	must0(t, err)
	for name, lie := range map[string]func([]byte) ([]byte, error){
		"nothing":             func([]byte) ([]byte, error) { return nil, nil },
		"garbage":             func([]byte) ([]byte, error) { return []byte("garbage"), nil },
		"another key's":       ben.sign,
		"over something else": func([]byte) ([]byte, error) { return newPersonSign(ana)([]byte("something else")) },
		"an error":            func([]byte) ([]byte, error) { return nil, errors.New("it was declined") },
		"a very long answer":  func([]byte) ([]byte, error) { return make([]byte, 1<<20), nil },
		"a shortened signature": func(d []byte) ([]byte, error) {
			s,
				err := newPersonSign(ana)(d)
			return s[:len(s)-3], err
		},
	} {
		t.Run(name, func(t *testing.T) {
			liar := *ana
			liar.lie = lie
			if err := receiveAs(by(t, dir, &liar), t, "x.ternbay.example"); err == nil {
				t.Error("it was recorded")
			}
		})
	}
	if now, _, err := by(t, dir, nil).Records.Newest(ctx); err != nil || now != head {
		t.Errorf("%s became %s: %v", head, now, err)
	}
}

func newPersonSign(p *person) func([]byte) ([]byte, error) {
	return (&person{signer: p.signer}).sign
}

// Keys of each kind vouch; those that prove too little are refused.
func TestKindsOfOperatorsKeys(t *testing.T) {
	t.Parallel()
	rsa2048, err := rsa.GenerateKey(rand.Reader, 2048)
	must0(t, err)
	for name, k := range map[string]any{"RSA": rsa2048, "P-256": mustECDSA(t, elliptic.P256()),
		"P-384": mustECDSA(t, elliptic.P384()), "P-521": mustECDSA(t, elliptic.P521())} {
		t.Run(name, func(t *testing.T) {
			s, err := ssh.NewSignerFromKey(k)
			must0(t, err)
			dir, _ := newEstate(t)
			p := &person{name: "ana", signer: s}
			_, err = operators.Keep(ctx, by(t, dir, p), operators.Ask{Name: "ana", Key: p.key(t),
				Role: operator.Administrator})
			must0(t, err)
			must0(t, receiveAs(by(t, dir, p), t, "a.ternbay.example"))
			if _, err := operators.Witnessed(ctx, by(t, dir, nil)); err != nil {
				t.Error(err)
			}
		})
	}
}

func mustECDSA(t *testing.T, c elliptic.Curve) *ecdsa.PrivateKey {
	t.Helper()
	k, err := ecdsa.GenerateKey(c, rand.Reader)
	must0(t, err)
	return k
}

// Taking operators out of the rows that are derived from the journal gives nobody an estate without operators.
func TestOperatorsAreNotTakenOut(t *testing.T) {
	onserver.FilesOnly(t)
	t.Parallel()
	dir, ana, _, _, _, _ := team(t)
	db, err := sql.Open("sqlite", filepath.Join(dir, "records.db"))
	must0(t, err)
	defer db.Close()
	_, err = db.Exec("DELETE FROM derived WHERE kind = 'operator'")
	must0(t, err)
	for _, who := range []*person{nil, ana} {
		if err := receiveAs(by(t, dir, who), t, "a.ternbay.example"); !errors.Is(err, fault.Refused) {
			t.Errorf("%v", err)
		}
	}
	if len(checked(t, dir)) == 0 {
		t.Error("the check does not tell of it")
	}
}
