package app_test

import (
	"crypto"
	"fmt"
	"math/big"
	"testing"
	"time"

	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/responding"
	"ironseal/pki/cert"
	"ironseal/pki/ocsp"
)

// BenchmarkAsked answers OCSP on an estate that has next to nothing, and on one of 1,000,000 certificates: about a
// certificate whose answer is kept, and about serials that nobody asked about before.
func BenchmarkAsked(b *testing.B) {
	for _, size := range []int{1, 1_000_000} {
		dir, e, list := signed(b, 1)
		crowd(b, dir, size)
		g, err := e.Generation(ctx, "services")
		if err != nil {
			b.Fatal(err)
		}
		l := responding.NewLive(e, 24*time.Hour, "")
		if err := l.Keep(ctx, publishing.Ask{Only: []string{"services"}}); err != nil {
			b.Fatal(err)
		}
		head, _, err := e.Records.Newest(ctx)
		if err == nil {
			err = l.Update(ctx, head.Seq, nil)
		}
		if err != nil {
			b.Fatal(err)
		}
		id, err := ocsp.IDOf(crypto.SHA1, g.Certificate, list[0].Serial)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(fmt.Sprintf("kept/%d", size), func(b *testing.B) {
			asked, err := ocsp.Request{Asked: []ocsp.ID{id}}.DER()
			if err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				if told, err := l.Answer(ctx, asked); err != nil || told.Status != ocsp.Successful {
					b.Fatal(told.Status, err)
				}
			}
		})
		b.Run(fmt.Sprintf("unheard of/%d", size), func(b *testing.B) {
			n := 0
			for b.Loop() {
				n++
				other := id
				other.Serial = cert.SerialOf(new(big.Int).Lsh(big.NewInt(int64(n)), 80))
				asked, err := ocsp.Request{Asked: []ocsp.ID{other}}.DER()
				if err != nil {
					b.Fatal(err)
				}
				if told, err := l.Answer(ctx, asked); err != nil || told.Of != ocsp.Unknown {
					b.Fatal(told.Of, err)
				}
			}
		})
	}
}
