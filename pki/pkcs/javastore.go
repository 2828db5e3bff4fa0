package pkcs

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// ReadJavaStore reads the trusted certificates of a store in the form that Java runtimes
// had before PKCS#12; ok is false for anything else. Its closing digest, which is no secret
// where the password is the usual one, is not checked: whoever can change the file can make
// it anew.
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
		case 1: // a private key with its chain, which is no trust
			r.take(r.number())
			for range min(r.number(), MostObjects) {
				r.text()
				r.take(r.number())
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
