package shamir

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"testing"

	"ironseal/pki/paper"
)

// slow multiplies as polynomials, bit by bit, and reduces afterwards (FIPS 197 section 4.2).
func slow(a, b byte) byte {
	p := 0
	for i := range 8 {
		if b>>i&1 == 1 {
			p ^= int(a) << i
		}
	}
	for i := 15; i >= 8; i-- {
		if p>>i&1 == 1 {
			p ^= 0x11b << (i - 8)
		}
	}
	return byte(p)
}

func TestTheFieldIsThatOfAES(t *testing.T) {
	for a := range 256 {
		for b := range 256 {
			if got, want := multiply(byte(a), byte(b)), slow(byte(a), byte(b)); got != want {
				t.Fatalf("%d * %d = %d, not %d", a, b, got, want)
			}
		}
		if a > 0 && slow(byte(a), inverse(byte(a))) != 1 {
			t.Fatalf("the inverse of %d is not %d", a, inverse(byte(a)))
		}
	}
	// FIPS 197 section 4.2 and 4.2.1
	for _, v := range [][3]byte{{0x57, 0x83, 0xc1}, {0x57, 0x13, 0xfe}, {0x57, 0x02, 0xae}} {
		if got := multiply(v[0], v[1]); got != v[2] {
			t.Errorf("%x * %x = %x", v[0], v[1], got)
		}
	}
}

// another joins shares by solving linear equations (Gauss), with the slow arithmetic: code that has nothing in common
// with
// what it checks.
func another(shares []Share) []byte {
	n := len(shares)
	out := make([]byte, SecretBytes)
	for k := range out {
		m := make([][]byte, n)
		for i, s := range shares {
			row, power := make([]byte, n+1), byte(1)
			for j := range n {
				row[j] = power
				power = slow(power, byte(s.Number))
			}
			row[n] = s.value[k]
			m[i] = row
		}
		for c := range n {
			p := c
			for m[p][c] == 0 {
				p++
			}
			m[c], m[p] = m[p], m[c]
			var inv byte
			for x := range 256 {
				if slow(m[c][c], byte(x)) == 1 {
					inv = byte(x)
				}
			}
			for j := range m[c] {
				m[c][j] = slow(m[c][j], inv)
			}
			for r := range n {
				if f := m[r][c]; r != c && f != 0 {
					for j := range m[r] {
						m[r][j] ^= slow(f, m[c][j])
					}
				}
			}
		}
		out[k] = m[0][n]
	}
	return out
}

// Any of them that are enough give the secret back; fewer do not.
func TestEnoughSharesGiveTheSecretBack(t *testing.T) {
	for _, c := range []struct{ need, n int }{{2, 2}, {2, 3}, {3, 5}, {5, 5}, {4, 8}, {16, 16}} {
		secret := make([]byte, SecretBytes)
		rand.Read(secret)
		shares, err := Divide(secret, c.need, c.n, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		tried := 0
		for set := range 1 << c.n {
			var some []Share
			for i := range c.n {
				if set>>i&1 == 1 {
					some = append(some, shares[i])
				}
			}
			if len(some) == 0 || len(some) > c.need {
				continue
			}
			if tried++; tried > 2000 && len(some) < c.need {
				continue
			}
			got, err := Combine(some)
			if len(some) < c.need {
				if err == nil {
					t.Fatalf("%d of %d gave something", len(some), c.need)
				}
				if bytes.Equal(join(numbers(some)), secret) {
					t.Fatalf("%d shares have the secret, and %d are needed", len(some), c.need)
				}
				continue
			}
			if err != nil || !bytes.Equal(got, secret) || c.n <= 8 && !bytes.Equal(another(some), secret) {
				t.Fatalf("%d of %d, set %b: %v", c.need, c.n, set, err)
			}
		}
	}
}

func numbers(list []Share) (x []byte, y [][]byte) {
	for _, s := range list {
		x, y = append(x, byte(s.Number)), append(y, s.value)
	}
	return x, y
}

// What one share says of the secret is nothing: over all polynomials its values are as often one as another.
func TestOneShareTellsNothing(t *testing.T) {
	for _, secret := range []byte{0, 1, 0xff} {
		seen := map[byte]int{}
		for c := range 256 {
			seen[at([]byte{secret, byte(c)}, 3)]++
		}
		if len(seen) != 256 {
			t.Errorf("of the secret %d a share has %d values", secret, len(seen))
		}
	}
}

func TestWrongSharesAreNamed(t *testing.T) {
	secret := make([]byte, SecretBytes)
	rand.Read(secret)
	names := []string{"ana", "ben", "cleo"}
	shares, err := Divide(secret, 2, 3, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	earlier, err := Divide(secret, 2, 3, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	note := NoteOf(shares, names)
	if c, err := note.Whose(shares[1]); err != nil || c.Name != "ben" {
		t.Errorf("%v %v", c, err)
	}
	if got := strings.Join(note.Missing(shares[:1]), ","); got != "ben,cleo" {
		t.Error(got)
	}
	changed := shares[2]
	changed.value = append([]byte{changed.value[0] ^ 1}, changed.value[1:]...)
	if c, err := note.Whose(changed); err == nil || c.Name != "cleo" {
		t.Errorf("%v %v", c, err)
	}
	if _, err := note.Whose(earlier[0]); err == nil || !strings.Contains(err.Error(), "earlier") {
		t.Errorf("%v", err)
	}
	if _, err := Combine([]Share{shares[0], earlier[1]}); err == nil {
		t.Error("shares of two divisions were combined")
	}
	if _, err := Combine([]Share{shares[0], shares[0]}); err == nil {
		t.Error("one share was taken twice")
	}
	for _, c := range [][2]int{{1, 3}, {4, 3}, {0, 0}, {2, 17}} {
		if _, err := Divide(secret, c[0], c[1], rand.Reader); err == nil {
			t.Errorf("%v was divided", c)
		}
	}
	for _, bad := range [][]string{{"ana", "Ana"}, {""}, {"../x"}, {"a b"}, {".x"}, {"\u202ex"}} {
		if CheckNames(bad) == nil {
			t.Errorf("%q", bad)
		}
	}
}

func TestSharesOnPaperAndInFiles(t *testing.T) {
	secret := make([]byte, SecretBytes)
	shares, err := Divide(secret, 2, 2, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	data, err := paper.Read(shares[0].Lines())
	if err != nil {
		t.Fatal(err)
	}
	back, err := Decode(data)
	if err != nil || !bytes.Equal(back.Encode(), shares[0].Encode()) {
		t.Errorf("%v", err)
	}
	file, err := shares[1].Seal("ben", "root.g1", []byte("tern and gull"), 8<<20, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ReadSealed(file)
	if err != nil || s.Custodian != "ben" {
		t.Fatalf("%v %v", s, err)
	}
	if got, err := s.Open([]byte("tern and gull")); err != nil || !bytes.Equal(got.Encode(), shares[1].Encode()) {
		t.Errorf("%v", err)
	}
	if _, err := s.Open([]byte("gull and tern")); !errors.Is(err, ErrPassphrase) {
		t.Errorf("%v", err)
	}
	if bytes.Contains(file, shares[1].value) {
		t.Error("the share is in the file")
	}
	for name, edit := range map[string][2]string{"another name": {"Custodian: ben", "Custodian: ana"},
		"another key": {"Key: root.g1", "Key: root.g2"}, "a cheap guess": {"Cost: 8192", "Cost: 16384"},
		"an endless guess": {"Cost: 8192", "Cost: 1073741824"}} {
		changed := bytes.Replace(file, []byte(edit[0]), []byte(edit[1]), 1)
		if bytes.Equal(changed, file) {
			t.Fatalf("%s: %s", name, file)
		}
		s, err := ReadSealed(changed)
		if err == nil {
			_, err = s.Open([]byte("tern and gull"))
		}
		if err == nil {
			t.Errorf("%s: it opened", name)
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(make([]byte, 39))
	f.Add([]byte(fmt.Sprintf("-----BEGIN %s-----\nCustodian: a\nKey: k\nCost: 8192\n\nAAAA\n-----END %[1]s-----\n",
		blockType)))
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, err := Decode(data); err == nil && !bytes.Equal(s.Encode(), data) {
			t.Error("a share is not what it was read from")
		}
		if s, err := ReadSealed(data); err == nil && s.block == nil {
			t.Error("a file without a block")
		}
	})
}
