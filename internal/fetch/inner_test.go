package fetch

import "testing"

// Addresses that lead inside, or to the network's own machines, and are no "global unicast" that a fetch should go to.
func TestInnerAddresses(t *testing.T) {
	for what, at := range map[string]string{
		"loopback": "127.0.0.1:80", "mapped loopback": "[::ffff:127.0.0.1]:80", "metadata": "169.254.169.254:80",
		"metadata 6":             "[fd00:ec2::254]:80",
		"this network (RFC 791)": "0.1.2.3:80", "NAT64 of 127.0.0.1 (RFC 6052)": "[64:ff9b::7f00:1]:80",
		"NAT64 of 169.254.169.254": "[64:ff9b::a9fe:a9fe]:80",
		"local NAT64 (RFC 8215)":   "[64:ff9b:1::a00:1]:80", "6to4 of 10.0.0.1 (RFC 3056)": "[2002:a00:1::1]:80",
		"IPv4-compatible 127.0.0.1": "[::127.0.0.1]:80",
		"site-local (RFC 3879)":     "[fec0::1]:80", "IETF protocol assignments (RFC 6890)": "192.0.0.192:80",
		"benchmarks (RFC 2544)": "198.18.0.1:80", "reserved": "240.0.0.1:80", "carrier": "100.100.100.200:80",
	} {
		t.Run(what, func(t *testing.T) {
			if dialer(Usual).Control("tcp", at, nil) == nil {
				t.Errorf("%s: %s is fetched from", what, at)
			}
		})
	}
}
