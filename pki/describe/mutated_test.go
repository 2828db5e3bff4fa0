package describe

import (
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/pki/bundle"
	"ironseal/pki/specimen"
)

// mutations is how often each file is changed.
const mutations = 60

// Whatever is changed in a file, reading and describing it ends, and costs in
// proportion to its length.
func TestMutatedInputsAreBounded(t *testing.T) {
	files, err := filepath.Glob(filepath.Join(corpus, "*"))
	if err != nil || len(files) < 150 {
		t.Fatal(len(files), err)
	}
	r := rand.New(rand.NewPCG(11, 25))
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(file, "expected.txt") {
			continue
		}
		for n := range mutations {
			changed := mutated(r, data)
			specimen.Within(t, time.Now, fmt.Sprintf("%s, change %d", filepath.Base(file), n),
				uint64(8<<20+2000*len(changed)),
				func() { _ = verdict(changed) })
			if t.Failed() {
				t.Fatal(base64.StdEncoding.EncodeToString(changed[:min(len(changed), 6000)]))
			}
		}
	}
}

// mutated changes what is inside of an armour as often as the armour.
func mutated(r *rand.Rand, data []byte) []byte {
	if c, err := bundle.Read(data); err == nil && len(c.Objects) == 1 && r.IntN(3) > 0 {
		o := c.Objects[0]
		return bundle.PEM(o.Kind, altered(r, o.DER))
	}
	return altered(r, data)
}

// altered spoils octets, lengths and order: as a bad line would, and as somebody would
// who knows what readers trust.
func altered(r *rand.Rand, data []byte) []byte {
	out := append([]byte(nil), data...)
	for range 1 + r.IntN(4) {
		if len(out) == 0 {
			return out
		}
		at := r.IntN(len(out))
		switch r.IntN(7) {
		case 0:
			out[at] ^= 1 << r.IntN(8)
		case 1:
			out[at] = []byte{0, 0x30, 0x80, 0x84, 0xff, 0xa0, 0x02}[r.IntN(7)]
		case 2:
			out = out[:at]
		case 3: // a piece again, somewhere else
			piece := out[at:min(len(out), at+1+r.IntN(64))]
			to := r.IntN(len(out))
			out = append(append(append([]byte(nil), out[:to]...), piece...), out[to:]...)
		case 4:
			out = append(out[:at:at], out[min(len(out), at+1+r.IntN(16)):]...)
		case 5: // a number that asks for much work
			copy(out[at:], "\x02\x04\x7f\xff\xff\xff")
		case 6:
			out = append(out, out[at:min(len(out), at+2000)]...)
		}
	}
	return out
}
