package control

import (
	"context"
	"net/netip"
	"testing"

	"ironseal/internal/fetch"
	"ironseal/pki/san"
)

// Addresses that no challenge may lead to, and those of one's own networks, which it may.
func TestAddresses(t *testing.T) {
	own := []netip.AddrPort{netip.MustParseAddrPort("192.0.2.9:8446"), netip.MustParseAddrPort("[::]:8085")}
	l := Looker{Own: own}
	for at, good := range map[string]bool{
		"10.1.2.3:80": true, "192.168.7.1:80": true, "192.0.2.9:80": true, "[fd12:3456::1]:80": true,
		"[2001:db8::1]:443": true, "203.0.113.4:80": true,
		"127.0.0.1:80": false, "127.8.8.8:80": false, "[::1]:80": false, "[::ffff:127.0.0.1]:80": false,
		"169.254.169.254:80": false, "[fe80::1]:80": false, "[fe80::1%25eth0]:80": false, "0.0.0.0:80": false,
		"[::]:80": false, "224.0.0.1:80": false, "255.255.255.255:80": false, "[ff02::1]:80": false,
		"[64:ff9b::7f00:1]:80": false, "[2002:7f00:1::]:80": false, "[fd00:ec2::254]:80": false, "0.1.2.3:80": false,
		"192.0.2.9:8446": false, "127.0.0.1:8085": false,
	} {
		p, err := netip.ParseAddrPort(at)
		if err != nil {
			continue // it is no address at all
		}
		if err := l.Refuses(p); (err == nil) != good {
			t.Errorf("%s: %v", at, err)
		}
	}
	open := Looker{Own: own, Local: true}
	if open.Refuses(netip.MustParseAddrPort("127.0.0.1:80")) != nil {
		t.Error("loopback is refused though it is allowed")
	}
	if open.Refuses(netip.MustParseAddrPort("127.0.0.1:8085")) == nil {
		t.Error("the server's own address is taken")
	}
}

// A fetch for a client follows redirects to the same host alone.
func TestRedirectsStayAtTheHost(t *testing.T) {
	for address, good := range map[string]bool{"http://gate.example/a": true, "https://gate.example/a": true,
		"http://gate.example:8080/a": true, "http://gate.example:22/a": false, "http://other.example/a": false,
		"http://gate.example.other.example/": false,
		"http://gate.example@other.example/": false, "file:///etc/passwd": false, "ftp://gate.example/": false,
		"http://u:p@gate.example/": false} {
		err := fetch.Source{Host: "gate.example", Ports: []int{80, 443, 8080}}.Follows(address)
		if (err == nil) != good {
			t.Errorf("%s: %v", address, err)
		}
	}
}

func TestNothingAnswers(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	n, err := san.ParseTyped("dns:gate.example")
	if err != nil {
		t.Fatal(err)
	}
	l := Looker{Resolver: "127.0.0.1:1", Local: true}
	if _, err := l.Page(ctx, n, "token"); err == nil {
		t.Error("a page came")
	}
	if _, err := l.Texts(ctx, "gate.example"); err == nil {
		t.Error("a text came")
	}
	if _, err := l.Certificate(ctx, n); err == nil {
		t.Error("a certificate came")
	}
}
