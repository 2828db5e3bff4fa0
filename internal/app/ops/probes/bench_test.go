package probes

import (
	"context"
	"crypto/tls"
	"net"
	"sync"
	"testing"
	"time"

	"ironseal/internal/probe"
	"ironseal/pki/cert"
	"ironseal/pki/specimen"
)

// BenchmarkProbe looks at 1,000 endpoints on loopback and judges them, and reports how long
// that takes as a ratio to the bare handshakes of the standard library, as many at once.
func BenchmarkProbe(b *testing.B) {
	line := specimen.NewLine(b)
	pair := tls.Certificate{Certificate: [][]byte{line.Leaf.Cert.Raw, line.Mid.Cert.Raw}, PrivateKey: line.Signer}
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _ = c.(*tls.Conn).Handshake(); c.Close() }()
		}
	}()
	const many = 1000
	var list []probe.Target
	for range many {
		t, err := probe.ParseTarget("a.ternbay.example@" + l.Addr().String())
		if err != nil {
			b.Fatal(err)
		}
		list = append(list, t)
	}
	bare := func() {
		var wg sync.WaitGroup
		next := make(chan struct{})
		for range probe.AtOnce {
			wg.Go(func() {
				for range next {
					raw, err := net.Dial("tcp", l.Addr().String())
					if err != nil {
						b.Error(err)
						continue
					}
					c := tls.Client(raw, &tls.Config{InsecureSkipVerify: true, ServerName: "a.ternbay.example"})
					if err := c.Handshake(); err != nil {
						b.Error(err)
					}
					c.Close()
				}
			})
		}
		for range many {
			next <- struct{}{}
		}
		close(next)
		wg.Wait()
	}
	looking, err := Begin(context.Background(), nil, Ask{Anchors: []*cert.Certificate{line.Root.Cert}, Set: "own",
		Now: specimen.Now, Clock: time.Now})
	if err != nil {
		b.Fatal(err)
	}
	var ours, theirs time.Duration
	for b.Loop() {
		begun := time.Now()
		bare()
		theirs += time.Since(begun)
		begun = time.Now()
		for _, o := range looking.All(context.Background(), list, nil) {
			if !o.Trusted {
				b.Fatal(o.Findings, o.Err)
			}
		}
		ours += time.Since(begun)
	}
	b.ReportMetric(ours.Seconds()/theirs.Seconds(), "x-bare")
	b.ReportMetric(float64(ours.Milliseconds())/float64(b.N), "ms/1000")
}
