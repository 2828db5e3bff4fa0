package sqlstore

import (
	"context"

	"ironseal/pki/cert"
	"ironseal/pki/point"
)

// Kinds of places.
const (
	ListPlace   = "list"   // where a revocation list is fetched from
	IssuerPlace = "issuer" // where the issuer's certificate is
)

// Place is an address that certificates of a generation name.
type Place struct {
	Generation string // its name
	Part       int    // of its lists, that the certificates stand on; 0 for the whole
	Kind       string
	Address    string
}

// PlacesIn are the places that one certificate names.
func PlacesIn(c *cert.Certificate) (out []Place) {
	for _, a := range point.ListsOf(c.Extensions, c.Issuer) {
		out = append(out, Place{Kind: ListPlace, Address: a})
	}
	for _, a := range point.IssuersOf(c.Extensions) {
		out = append(out, Place{Kind: IssuerPlace, Address: a})
	}
	return out
}

// Places lists all of them, by generation.
func (s *Store) Places(ctx context.Context) (out []Place, err error) {
	rows, err := s.Q().QueryContext(ctx, "SELECT a.handle || '.g' || g.number, p.part, p.kind, p.address FROM place p "+
		"JOIN generation g ON g.id = p.generation JOIN authority a ON a.id = g.authority ORDER BY 1, 2, 3, 4")
	if err != nil {
		return nil, s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var p Place
		if err := rows.Scan(&p.Generation, &p.Part, &p.Kind, &p.Address); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, s.Explain(rows.Err())
}
