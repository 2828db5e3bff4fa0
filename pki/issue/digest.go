package issue

import (
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"strconv"
	"time"

	"ironseal/pki/finding"
)

// SheetVersion is the version of the digest. A digest of another version is kept and shown, and is not computed again.
const SheetVersion = 2

// Moment is the moment for which the plan was made; zero for no plan. The same request, template, authority and moment
// give the same plan.
func (p Plan) Moment() time.Time {
	if p.in == nil {
		return time.Time{}
	}
	return p.in.Now
}

// Digest is a hash of everything that a person agrees to: what will be signed, from what, by whom, in the
// place of what, and what they waived. Every part is written with its length or its number, so that
// two sheets never give the same octets.
func (p Plan) Digest() [32]byte {
	d := &digest{sum: sha256.New(), room: make([]byte, 0, 64)} // most texts fit
	if p.in == nil {
		return [32]byte{} // no plan at all
	}
	d.text("ironseal sheet v" + strconv.Itoa(SheetVersion))
	var request, issuer []byte
	if p.in.Request != nil {
		request = p.in.Request.Raw
	}
	if p.in.Issuer != nil {
		issuer = p.in.Issuer.Certificate.Raw
	}
	sum := p.in.Template.SHA256()
	for _, v := range [][]byte{request, sum[:], issuer, p.Draft.Issuer.DER(), p.Draft.Subject.DER(), p.Draft.SPKI,
		p.Replaces} {
		d.add(v)
	}
	d.number(p.Draft.NotBefore.Unix())
	d.number(p.Draft.NotAfter.Unix())
	d.number(int64(len(p.Draft.Extensions)))
	for _, e := range p.Draft.Extensions {
		d.text(e.ID.String())
		critical := int64(0)
		if e.Critical {
			critical = 1
		}
		d.number(critical)
		d.add(e.Value)
	}
	var waived []finding.Finding
	for _, f := range p.Findings {
		if f.Waived != "" {
			waived = append(waived, f)
		}
	}
	d.number(int64(len(waived)))
	for _, f := range waived {
		d.text(string(f.Code))
		d.text(f.Waived)
	}
	return [32]byte(d.sum.Sum(nil))
}

// digest hashes what it is given.
type digest struct {
	sum  hash.Hash // which never fails
	room []byte    // for what is added next
}

func (d *digest) add(v []byte) {
	d.number(int64(len(v)))
	d.sum.Write(v)
}

func (d *digest) text(s string) {
	d.room = append(binary.BigEndian.AppendUint64(d.room[:0], uint64(len(s))), s...)
	d.sum.Write(d.room)
}

func (d *digest) number(n int64) {
	d.room = binary.BigEndian.AppendUint64(d.room[:0], uint64(n))
	d.sum.Write(d.room)
}
