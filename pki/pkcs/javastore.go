package pkcs

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// ReadJavaStore reads the certificates that a store trusts, in the form that Java runtimes
// had before PKCS#12: those that are complete in themselves, and the one that belongs to a key; ok
// is false for anything else. Its closing digest, which is no secret where the password is
// the usual one, is not checked: whoever can change the file can make it again.
func ReadJavaStore(data []byte) (out [][]byte, ok bool, err error) {
	if len(data) < 12 || binary.BigEndian.Uint32(data) != 0xfeedfeed {
		return nil, false, nil
	}
	r := javaReader{data: data[8:]}
	count := r.number()
	if count > MostObjects {
		return nil, true, fmt.Errorf("Java key store: more than %d entries", MostObjects)
	}
	for range count {
		kind := r.number()
		r.text() // the alias
		r.take(8)
		switch kind {
		case 1: // a private key with its chain, the first of which Java trusts
			r.take(r.number())
			for n := range min(r.number(), MostObjects) {
				r.text()
				if c := r.take(r.number()); n == 0 {
					out = append(out, c)
				}
			}
		case 2:
			r.text() // the form of the certificate
			out = append(out, r.take(r.number()))
		default:
			r.bad = true
		}
		if r.bad {
			return nil, true, errors.New("Java key store: an entry cannot be parsed")
		}
	}
	return out, true, nil
}

type javaReader struct {
	data []byte
	bad  bool
}

func (r *javaReader) take(n int) []byte {
	if n < 0 || n > len(r.data) {
		r.bad = true
		return nil
	}
	out := r.data[:n]
	r.data = r.data[n:]
	return out
}

func (r *javaReader) number() int {
	b := r.take(4)
	if r.bad {
		return 0
	}
	return int(binary.BigEndian.Uint32(b))
}

func (r *javaReader) text() {
	if b := r.take(2); !r.bad {
		r.take(int(binary.BigEndian.Uint16(b)))
	}
}
