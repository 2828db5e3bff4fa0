package publishing

import (
	"bytes"
	"io"
	"slices"

	"ironseal/pki/bundle"
	"ironseal/pki/revocation"
)

// content is what a file is to hold: objects one after the other. A list of megabytes is kept once, as DER; its other
// forms are made while they are written.
type content []piece

// piece is an object: as it is, or as a list in text.
type piece struct {
	der  []byte
	text bool
}

func octets(der []byte) content { return content{{der: der}} }

// text is lists in PEM, one after the other.
func text(lists ...*revocation.List) (out content) {
	for _, l := range lists {
		out = append(out, piece{l.Raw, true})
	}
	return out
}

// size is how many octets it has.
func (c content) size() (n int64) {
	for _, p := range c {
		if p.text {
			n += bundle.SizeOfPEM(bundle.List, len(p.der))
		} else {
			n += int64(len(p.der))
		}
	}
	return n
}

func (c content) writeTo(w io.Writer) error {
	for _, p := range c {
		var err error
		if p.text {
			err = bundle.WritePEM(w, bundle.List, p.der)
		} else {
			_, err = w.Write(p.der)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// octets is what the file will hold, in one piece.
func (c content) octets() []byte {
	if len(c) == 1 && !c[0].text {
		return c[0].der
	}
	out := bytes.NewBuffer(make([]byte, 0, c.size()))
	_ = c.writeTo(out) // memory takes all
	return out.Bytes()
}

// same reports whether two are made of the same objects in memory.
func (c content) same(o content) bool {
	return slices.EqualFunc(c, o, func(a, b piece) bool {
		return a.text == b.text && len(a.der) == len(b.der) && (len(a.der) == 0 || &a.der[0] == &b.der[0])
	})
}

// asOctets gives the files of a folder in one piece each. What is the same is there once.
func asOctets(files map[string]content) map[string][]byte {
	out := map[string][]byte{}
	var before []string
	for name, c := range files {
		if i := slices.IndexFunc(before, func(o string) bool { return files[o].same(c) }); i >= 0 {
			out[name] = out[before[i]]
			continue
		}
		out[name], before = c.octets(), append(before, name)
	}
	return out
}
