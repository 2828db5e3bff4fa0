// Package factors keeps products of the moduli of all RSA keys on record, so that a new key which shares a
// prime with any of them is found with a few divisions.
package factors

import (
	"context"
	"errors"
	"fmt"
	"math/big"

	"ironseal/internal/store/sqldb"
	"ironseal/pki/cert"
	"ironseal/pki/coprime"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/request"
)

// Moduli are the products of what is on record, read once a transaction.
type Moduli struct{ Rows coprime.Rows }

// Read reads the products.
func Read(ctx context.Context, q sqldb.Querier) (*Moduli, error) {
	rows, err := q.QueryContext(ctx, "SELECT id, keys, product FROM moduli ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := &Moduli{}
	for rows.Next() {
		var m coprime.Row
		var product []byte
		if err := rows.Scan(&m.ID, &m.Keys, &product); err != nil {
			return nil, err
		}
		m.Product = new(big.Int).SetBytes(product)
		out.Rows = append(out.Rows, m)
	}
	return out, rows.Err()
}

// Flush writes what was added.
func (m *Moduli) Flush(t *sqldb.Change) error {
	if m == nil {
		return nil
	}
	for _, r := range m.Rows {
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

// Flaws lists what is known against keys: usually nothing.
func Flaws(ctx context.Context, q sqldb.Querier) (map[[32]byte]finding.List, error) {
	rows, err := q.QueryContext(ctx, "SELECT key_sha256, code, message FROM flaw ORDER BY key_sha256, code")
	if err != nil {
		return nil, err
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
	return out, rows.Err()
}

// Check holds the products against the keys that they are made of, and says
// what does not fit; "" when everything does.
func Check(ctx context.Context, q sqldb.Querier) (string, error) {
	m, err := Read(ctx, q)
	if err != nil {
		return "", err
	}
	for _, r := range m.Rows {
		product := big.NewInt(1)
		for at := 0; at+32 <= len(r.Keys); at += 32 {
			k, _, err := KeyOnRecord(ctx, q, r.Keys[at:at+32])
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

// KeyOnRecord finds a key by its fingerprint, and whose it is.
func KeyOnRecord(ctx context.Context, q sqldb.Querier, sum []byte) (key.Public, string, error) {
	var der []byte
	if err := q.QueryRowContext(ctx, "SELECT der FROM certificate WHERE key_sha256 = ? LIMIT 1",
		sum).Scan(&der); err == nil {
		c, err := cert.Read(der)
		if err != nil {
			return key.Public{}, "", err
		}
		return c.Key, c.Title(), nil
	}
	if err := q.QueryRowContext(ctx, "SELECT der FROM request WHERE key_sha256 = ? LIMIT 1",
		sum).Scan(&der); err != nil {
		return key.Public{}, "", err
	}
	r, err := request.Read(der)
	if err != nil {
		return key.Public{}, "", err
	}
	return r.Key, r.Title(), nil
}
