package sqlstore

import (
	"context"
	"fmt"
	"math/big"

	"ironseal/internal/event"
	"ironseal/internal/store/sqlstore/factors"
	"ironseal/pki/coprime"
	"ironseal/pki/finding"
	"ironseal/pki/key"
)

// learnKey records a key that was not on record before: an RSA key is compared with
// all others, and what is found is kept with both.
func (t *Tx) learnKey(k key.Public, who string) error {
	n := k.Modulus()
	if n == nil {
		return nil
	}
	sum := k.Fingerprint()
	if t.learnt[sum] { // and not on record yet
		return nil
	}
	if t.learnt == nil {
		t.learnt = map[[32]byte]bool{}
	}
	t.learnt[sum] = true
	var known bool
	err := t.QueryRow("SELECT EXISTS (SELECT 1 FROM request WHERE key_sha256 = ?1) OR EXISTS (SELECT 1 FROM "+
		"certificate WHERE key_sha256 = ?1)", sum[:]).Scan(&known)
	if err != nil || known {
		return err
	}
	if t.keys == nil {
		if t.keys, err = factors.Read(t.Ctx, t.Querier()); err != nil {
			return err
		}
	}
	for i := range t.keys.Rows {
		if coprime.Shares(t.keys.Rows[i].Product, n) {
			if err := t.findSharedPrimes(t.keys.Rows[i], sum, n, who); err != nil {
				return err
			}
		}
	}
	t.keys.Rows.Add(sum, n)
	return nil
}

// findSharedPrimes finds out with which keys of a row a new one shares a prime, and keeps that.
func (t *Tx) findSharedPrimes(row coprime.Row, sum [32]byte, n *big.Int, who string) error {
	for at := 0; at+32 <= len(row.Keys); at += 32 {
		other := row.Keys[at : at+32]
		k, title, err := factors.KeyOnRecord(t.Ctx, t.Querier(), other)
		if err != nil {
			return err
		}
		m := k.Modulus()
		if m == nil || !coprime.Shares(m, n) {
			continue
		}
		if err := t.AddFlaw(sum, finding.New(finding.SharedPrime,
			"The key shares a prime with the key of %s: both private keys can be computed.", title)); err != nil {
			return err
		}
		if err := t.AddFlaw([32]byte(other), finding.New(finding.SharedPrime,
			"The key shares a prime with the key of %s: both private keys can be computed.", who)); err != nil {
			return err
		}
	}
	return nil
}

// AddFlaw keeps what was found out about a key.
func (t *Tx) AddFlaw(key [32]byte, f finding.Finding) error {
	t.more = append(t.more, event.On(fmt.Sprintf("%x", key), event.FlawFound{Code: string(f.Code), Message: f.Message}))
	_, err := t.Exec("INSERT INTO flaw (key_sha256, code, message) VALUES (?,?,?) ON CONFLICT (key_sha256, code) "+
		"DO UPDATE "+
		"SET message = excluded.message", key[:], string(f.Code), f.Message)
	return err
}

// Flaws lists what is known against keys: usually nothing.
func (s *Store) Flaws(ctx context.Context) (map[[32]byte]finding.List, error) {
	out, err := factors.Flaws(ctx, s.Querier())
	return out, s.Explain(err)
}

// CheckModuli holds the products against the keys that they are made of, and says
// what does not fit; "" when everything does.
func (s *Store) CheckModuli(ctx context.Context) (string, error) {
	why, err := factors.Check(ctx, s.Querier())
	return why, s.Explain(err)
}
