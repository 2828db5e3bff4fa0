package records

import (
	"ironseal/pki/coprime"
	"ironseal/pki/journal"

	"context"
	"errors"
	"fmt"
	"math/big"

	"ironseal/internal/records/sqlite"
	"ironseal/pki/finding"
	"ironseal/pki/key"
)

// moduli are the products of what is on record, read once a transaction.
type moduli struct{ rows coprime.Rows }

// learn takes in a key that was not on record before: an RSA key is held against
// all others, and what is found is kept with both.
func (t *Tx) learn(k key.Public, who string) error {
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
	err := t.QueryRow("SELECT EXISTS (SELECT 1 FROM request WHERE key_sha256 = ?1) OR EXISTS "+
		"(SELECT 1 FROM certificate WHERE key_sha256 = ?1)", sum[:]).Scan(&known)
	if err != nil || known {
		return err
	}
	if t.keys == nil {
		if t.keys, err = readModuli(t.Ctx, t.Reads()); err != nil {
			return err
		}
	}
	for i := range t.keys.rows {
		if coprime.Shares(t.keys.rows[i].Product, n) {
			if err := t.tell(t.keys.rows[i], sum, n, who); err != nil {
				return err
			}
		}
	}
	t.keys.rows.Add(sum, n)
	return nil
}

func readModuli(ctx context.Context, q sqlite.Querier) (*moduli, error) {
	rows, err := q.QueryContext(ctx, "SELECT id, keys, product FROM moduli ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := &moduli{}
	for rows.Next() {
		var m coprime.Row
		var product []byte
		if err := rows.Scan(&m.ID, &m.Keys, &product); err != nil {
			return nil, err
		}
		m.Product = new(big.Int).SetBytes(product)
		out.rows = append(out.rows, m)
	}
	return out, rows.Err()
}

// flush writes what was added.
func (m *moduli) flush(t *Tx) error {
	if m == nil {
		return nil
	}
	for _, r := range m.rows {
		var err error
		switch {
		case !r.Changed:
		case r.ID == 0:
			_, err = t.Exec("INSERT INTO moduli (keys, product) VALUES (?,?)", r.Keys,
				r.Product.Bytes())
		default:
			_, err = t.Exec("UPDATE moduli SET keys = ?, product = ? WHERE id = ?", r.Keys,
				r.Product.Bytes(), r.ID)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// tell finds out with which keys of a row a new one shares a prime, and keeps that.
func (t *Tx) tell(row coprime.Row, sum [32]byte, n *big.Int, who string) error {
	for at := 0; at+32 <= len(row.Keys); at += 32 {
		other := row.Keys[at : at+32]
		k, title, err := keyOnRecord(t.Ctx, t.Reads(), other)
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

// FlawAct is the act of an entry that tells of a flaw: the object is the key's
// fingerprint.
const FlawAct = "flaw"

// AddFlaw keeps what was found out about a key.
func (t *Tx) AddFlaw(key [32]byte, f finding.Finding) error {
	t.more = append(t.more, journal.Entry{Act: FlawAct, Object: fmt.Sprintf("%x", key),
		Detail: string(f.Code) + ": " + f.Message})
	_, err := t.Exec("INSERT OR REPLACE INTO flaw VALUES (?,?,?)", key[:], string(f.Code), f.Message)
	return err
}

// Flaws lists what is known against keys: usually nothing.
func (s *Store) Flaws(ctx context.Context) (map[[32]byte]finding.List, error) {
	rows, err := s.Q().QueryContext(ctx, "SELECT key_sha256, code, message FROM flaw ORDER BY key_sha256, code")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	out := map[[32]byte]finding.List{}
	for rows.Next() {
		var sum []byte
		var code, message string
		if err := rows.Scan(&sum, &code, &message); err != nil {
			return nil, err
		}
		if len(sum) != 32 {
			return nil, errors.New("a flaw on record names no key")
		}
		out[[32]byte(sum)] = append(out[[32]byte(sum)], finding.New(finding.Code(code), "%s", message))
	}
	return out, s.Explain(rows.Err())
}

// CheckModuli holds the products against the keys that they are made of, and says
// what does not fit; "" when everything does.
func (s *Store) CheckModuli(ctx context.Context) (string, error) {
	m, err := readModuli(ctx, s.Q())
	if err != nil {
		return "", s.Explain(err)
	}
	for _, r := range m.rows {
		product := big.NewInt(1)
		for at := 0; at+32 <= len(r.Keys); at += 32 {
			k, _, err := keyOnRecord(ctx, s.Q(), r.Keys[at:at+32])
			if err != nil || k.Modulus() == nil {
				return fmt.Sprintf("row %d holds a key that is not on record", r.ID), nil
			}
			product.Mul(product, k.Modulus())
		}
		if product.Cmp(r.Product) != 0 || len(r.Keys)%32 != 0 {
			return fmt.Sprintf("row %d is not the product of its keys", r.ID), nil
		}
	}
	return "", nil
}
