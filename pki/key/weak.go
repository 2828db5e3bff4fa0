package key

import (
	"crypto/ed25519"
	"crypto/rsa"
	"math/big"
	"sync"

	"ironseal/pki/finding"
)

// A key can be well-formed and worthless: anyone can compute its private side, or
// sign in its name without one. What is known of such keys is looked for here.

// Weakness says what is wrong with the key, as findings: a bar for what must
// not be certified, a warning for what some devices cannot use.
func (p Public) Weakness() finding.List {
	bar := func(format string, args ...any) finding.List {
		return finding.List{finding.New(finding.WeakKey, format, args...)}
	}
	odd := func(format string, args ...any) finding.List {
		return finding.List{finding.New(finding.OddKey, format, args...)}
	}
	switch {
	case p.Fault != "":
		return bar("The key cannot be used: %s.", p.Fault)
	case p.Kind.Family() != "rsa":
		return nil
	case p.Bits < 2048:
		return bar("The RSA key has %d bits; the least is 2048.", p.Bits)
	}
	if pub, ok := p.Key.(*rsa.PublicKey); ok {
		if why := modulusFault(pub.N); why != "" {
			return bar("The RSA key is worthless: %s.", why)
		}
	}
	switch {
	case p.Exponent.Cmp(big.NewInt(65537)) < 0:
		return odd("The RSA key has the small exponent %s; 65537 is usual.", p.Exponent)
	case p.Bits%512 != 0:
		return odd("The RSA key has %d bits, an unusual size.", p.Bits)
	}
	return nil
}

// Bounds of what is tried on a modulus. They find the faults that were seen in the
// field; they are no attempt at factoring.
const (
	smallPrimes = 10_000 // prime factors below this are looked for
	closeTries  = 100    // steps of Fermat's method, which finds primes that are close
)

// modulusFault says why a modulus gives its factors away, or "".
func modulusFault(n *big.Int) string {
	if g := new(big.Int).GCD(nil, nil, n, new(big.Int).Rem(smallProduct(), n)); g.Cmp(big.NewInt(1)) != 0 &&
		n.Cmp(g) != 0 {
		return "its modulus has a small factor"
	}
	root := new(big.Int).Sqrt(n)
	if new(big.Int).Mul(root, root).Cmp(n) == 0 {
		return "its modulus is a square"
	}
	switch {
	case closePrimes(n, root):
		return "the two primes of its modulus are close to each other"
	case weakGenerator(n):
		return "it was made by a generator that is known to be weak (CVE-2017-15361)"
	}
	return ""
}

// Scrutiny is Weakness and what takes longer than a signature to find out: an RSA
// modulus that is a prime. It is for the moment at which a key comes to be known.
func (p Public) Scrutiny() finding.List {
	out := p.Weakness()
	if n := p.Modulus(); n != nil && len(out.Refusing()) == 0 && n.ProbablyPrime(0) {
		out = append(out, finding.New(finding.WeakKey, "The RSA key is worthless: its modulus is a prime."))
	}
	return out
}

var primesBelow = sync.OnceValue(func() []int64 {
	composite := make([]bool, smallPrimes)
	var out []int64
	for i := 2; i < smallPrimes; i++ {
		if composite[i] {
			continue
		}
		out = append(out, int64(i))
		for j := i * i; j < smallPrimes; j += i {
			composite[j] = true
		}
	}
	return out
})

// smallProduct is the product of the small primes.
var smallProduct = sync.OnceValue(func() *big.Int {
	product := big.NewInt(1)
	for _, p := range primesBelow() {
		product.Mul(product, big.NewInt(p))
	}
	return product
})

// closePrimes tries Fermat's method: n = a*a - b*b with a just above the root of n.
func closePrimes(n, root *big.Int) bool {
	a := new(big.Int).Add(root, big.NewInt(1))
	rest := new(big.Int).Mul(a, a)
	rest.Sub(rest, n)
	b, square := new(big.Int), new(big.Int)
	for range closeTries {
		// A square ends in 0, 1, 4 or 9 in base 16: three in four are passed over.
		switch low(rest) & 15 {
		case 0, 1, 4, 9:
			if b.Sqrt(rest); square.Mul(b, b).Cmp(rest) == 0 {
				return true
			}
		}
		rest.Add(rest, a)
		rest.Add(rest, a)
		rest.Add(rest, big.NewInt(1))
		a.Add(a, big.NewInt(1))
	}
	return false
}

func low(n *big.Int) big.Word {
	if w := n.Bits(); len(w) > 0 {
		return w[0]
	}
	return 0
}

// weakPrimes is how many of the first primes the weak generator built its own
// primes from, for every size of modulus that it made.
const weakPrimes = 39

// weakGenerator recognises the moduli of CVE-2017-15361: both primes are powers of
// 65537 modulo the product of the first primes, so the modulus is one modulo each
// of them. A random modulus is so by chance less than once in 2^80.
func weakGenerator(n *big.Int) bool {
	rest := new(big.Int)
	for _, p := range primesBelow()[1:weakPrimes] {
		if !powerOf65537(rest.Rem(n, big.NewInt(p)).Int64(), p) {
			return false
		}
	}
	return true
}

func powerOf65537(n, p int64) bool {
	for x := int64(1); ; {
		if x == n {
			return true
		}
		if x = x * 65537 % p; x == 1 {
			return false
		}
	}
}

// Modulus is the modulus of an RSA key; nil for every other key.
func (p Public) Modulus() *big.Int {
	if pub, ok := p.Key.(*rsa.PublicKey); ok {
		return pub.N
	}
	return nil
}

// edwardsFault says why an Ed25519 key verifies signatures that were never made, or "": its
// point has an order of at most eight, so that signatures hold for many messages
// at once; or it is not written in its one form (RFC 8032 section 5.1.3).
func edwardsFault(b []byte) string {
	y := make([]byte, ed25519.PublicKeySize)
	for i := range b {
		y[len(b)-1-i] = b[i]
	}
	y[0] &= 0x7f
	n := new(big.Int).SetBytes(y)
	prime := new(big.Int).Lsh(big.NewInt(1), 255)
	prime.Sub(prime, big.NewInt(19))
	if n.Cmp(prime) >= 0 {
		return "its point is not written in the one form of RFC 8032"
	}
	if smallOrder(n, prime) {
		return "its point is of small order: signatures by it hold without any key"
	}
	return ""
}

// smallOrder reports whether the point of a y-coordinate has an order of at most
// eight. Doubling needs y alone: with d the curve's constant and x*x = (y*y - 1) /
// (d*y*y + 1), the double has y' = (y*y + x*x) / (1 - d*x*x*y*y). After three
// doublings the neutral element, y = 1, is reached or not.
func smallOrder(y, p *big.Int) bool {
	mod := func(n *big.Int) *big.Int { return n.Mod(n, p) }
	mul := func(a, b *big.Int) *big.Int { return mod(new(big.Int).Mul(a, b)) }
	over := func(a, b *big.Int) *big.Int { // a zero below gives zero, which is no y of a double
		inverse := new(big.Int).ModInverse(b, p)
		if inverse == nil {
			return new(big.Int)
		}
		return mul(a, inverse)
	}
	one := big.NewInt(1)
	d := mod(new(big.Int).Neg(over(big.NewInt(121665), big.NewInt(121666))))
	for range 3 {
		yy := mul(y, y)
		xx := over(mod(new(big.Int).Sub(yy, one)), mod(new(big.Int).Add(mul(d, yy), one)))
		y = over(mod(new(big.Int).Add(yy, xx)), mod(new(big.Int).Sub(one, mul(d, mul(xx, yy)))))
	}
	return y.Cmp(one) == 0
}
