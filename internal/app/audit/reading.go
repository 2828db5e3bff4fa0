package audit

import (
	"crypto/sha256"
	"encoding/binary"
	"strings"

	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// Rows that hold a certificate or a request take long to look at. They are read in parts: while one part comes from the
// records, the one before is parsed and its signatures are verified on all cores, and then compared with the journal,
// one after another.

// partOfRows is how many rows a part has.
const partOfRows = 256

// eachRead calls look for every row of a table, on all cores, and then fn with what it gave, one at a time.
func eachRead[T any](a *auditing, table string, look func(store.Row) T, fn func(store.Row, T)) error {
	parts := make(chan []store.Row, 2)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for rows := range parts {
			seen := make([]T, len(rows))
			estate.OnAllCores(len(rows), func(i int) { seen[i] = look(rows[i]) })
			for i := range rows {
				fn(rows[i], seen[i])
			}
		}
	}()
	var part []store.Row
	err := a.e.Records.EachRow(a.ctx, table, func(r store.Row) error {
		if part = append(part, r); len(part) == partOfRows {
			parts <- part
			part = nil
		}
		return a.ctx.Err()
	})
	parts <- part
	close(parts)
	<-done
	return err
}

// seenCertificate is what a certificate on record says itself.
type seenCertificate struct {
	sum     string
	c       *cert.Certificate // nil where it cannot be parsed
	columns *store.Columns
	names   nameSum
	wrong   string // "" where it can be parsed, and its signature is that of the generation on record
}

// lookAt parses a certificate and verifies its signature.
func (a *auditing) lookAt(r store.Row) seenCertificate {
	der := r.Bytes("der")
	digest := sha256.Sum256(der)
	out := seenCertificate{sum: string(digest[:])}
	c, err := cert.Read(der)
	if err != nil {
		out.wrong = "its certificate cannot be parsed: " + err.Error()
		return out
	}
	out.c, out.columns = c, store.ColumnsOf(c)
	for _, n := range c.Names {
		out.names.add(n.Kind(), n.Value())
	}
	name := a.gens[r.Int("issuer")]
	if g := a.h.Generation(name); a.h != nil && g != nil && c.VerifiedBy(g.Certificate.Key) != nil {
		out.wrong = "its certificate was not signed by " + name + ", which the record names"
	}
	return out
}

// nameSum stands for a set of names, in any order: how many, and the sum of their digests.
type nameSum struct {
	count    int
	low, top uint64
}

func (n *nameSum) add(kind san.Kind, value string) {
	sum := sha256.Sum256([]byte(string(kind) + ":" + strings.ToLower(value)))
	n.count++
	n.low += binary.BigEndian.Uint64(sum[:])
	n.top += binary.BigEndian.Uint64(sum[8:])
}

// seenRequest is what a request on record says itself.
type seenRequest struct {
	sum [32]byte
	q   *request.Request // nil where it cannot be parsed
	key [32]byte
}

func lookAtRequest(r store.Row) seenRequest {
	out := seenRequest{sum: sha256.Sum256(r.Bytes("der"))}
	if q, err := request.Read(r.Bytes("der")); err == nil {
		out.q, out.key = q, q.Key.Fingerprint()
	}
	return out
}
