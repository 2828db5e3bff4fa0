package demo

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/probe"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
)

// PlayRenewal plays fourteen years of the same company in a minute, ending today:
// grants shrink, the forecast says so, the root and what is below it are
// renewed in order, and clients that hold only the old root or only the new one go
// on accepting. It is played in a rehearsal, whose clock can be moved.
func PlayRenewal(ctx context.Context, s Stage, now time.Time) error {
	if entries, err := os.ReadDir(s.Dir); err == nil && len(entries) > 0 {
		return fmt.Errorf("demo: %s is not empty: give another directory", s.Dir)
	}
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	if err := os.Chdir(s.Dir); err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	if err := s.play(s.renewalScenes(now.UTC())); err != nil {
		return err
	}
	return s.bothRoots(ctx)
}

// Stages are the chains that the story hands out today, with the root that each
// is signed under: before anything is renewed, after the root is, and after
// everything is.
var Stages = []string{"1-before", "2-root-renewed", "3-all-renewed"}

func (s Stage) renewalScenes(now time.Time) []scene {
	ago := func(years int) string { return " --as-of " + now.AddDate(-years, 0, -1).Format("2006-01-02") }
	year := func(years int) string { return now.AddDate(-years, 0, -1).Format("2006") }
	const host = "booking.ternbay.example"
	hand := func(stage string) []string {
		return []string{"certificate export " + host + " --with issuers --out ../handed-out/" + stage + ".pem"}
	}
	return []scene{
		{say: "This is a rehearsal: throwaway keys, and a clock that can be moved.\nIt begins in " + year(14) +
			", when Tern Bay Ferries founded its authority.",
			typed: []string{`estate rehearse history --blank --organisation "Tern Bay Ferries" --country NO` + ago(14)},
			then:  func() error { return os.Chdir("history") }},
		{say: "They give a root fifteen years and an intermediate five, and set this in the\n" +
			"templates. They keep one more template, for web servers.",
			then: prepareTemplates},
		{typed: []string{"authority create root --lifetime 15y --key ecdsa-p384 --yes" + ago(14),
			"authority create services --under root --key ecdsa-p384 --yes" + ago(14)}},
		{say: year(10) + ", and " + year(6) + ": services is renewed in time, a year before its end. All is well.",
			typed: []string{"authority renew services --yes" + ago(10), "authority renew services --yes" + ago(6)}},
		{say: year(2) + ": services is renewed once more. It should get five years, but the root has\nthree left, so " +
			"it " +
			"gets three. The sheet says so.",
			typed: []string{"authority renew services --lifetime 5y --yes" + ago(2), "authority tree" + ago(2)}},
		{say: "Today. The booking site asks for 397 days. It gets fewer, because the root ends\nbefore that.",
			typed: append([]string{"request draft " + host + " localhost --out ../drafts",
				"request receive ../drafts/" + host + ".request.pem", "sign R1 --template web-server --yes",
				"authority export root --out ../handed-out/old-root.pem"}, hand(Stages[0])...)},
		{say: "What did the forecast say in " + year(6) + ", and what does it say now?",
			typed: []string{"forecast" + ago(6), "forecast --horizon 15y"}},
		{say: "So renew the root first, with a new key. Two link certificates come with it: each\nroot vouches for " +
			"the other.",
			typed: append([]string{"authority renew root --yes",
				"authority export root --out ../handed-out/new-root.pem"}, hand(Stages[1])...)},
		{say: "Below the root, nothing has changed yet. --cascade continues with services.",
			typed: append([]string{"authority renew root --cascade --yes", "certificate renew " + host + " --yes"},
				hand(Stages[2])...)},
		{say: "New certificates get their full life again. The old ones stay valid until they end.",
			typed: []string{"authority tree", "forecast --plot ../handed-out/lifetimes.png", "journal verify",
				"estate check"}},
	}
}

// prepareTemplates sets the lifetime of intermediates to five years, and removes
// the templates that the story does not need.
func prepareTemplates() error {
	const file = "templates/intermediate-authority.toml"
	all, err := filepath.Glob("templates/*.toml")
	if err != nil {
		return err
	}
	for _, f := range all {
		switch filepath.Base(f) {
		case "web-server.toml", "root-authority.toml", "intermediate-authority.toml":
		default:
			if err := os.Remove(f); err != nil {
				return err
			}
		}
	}
	data, err := disk.Read(file, 1<<20)
	if err != nil {
		return err
	}
	short := bytes.Replace(data, []byte(`lifetime         = "10y"`), []byte(`lifetime         = "5y"`), 1)
	if bytes.Equal(short, data) {
		return fmt.Errorf("demo: %s does not look as expected", file)
	}
	return disk.Disk{}.Replace(file, short, 0o644)
}

// bothRoots lets clients that hold only one of the two roots connect to a server
// that presents each of the chains.
func (s Stage) bothRoots(ctx context.Context) error {
	s.Narrate("Now with live TLS and the real clock. A server presents each of the three chains.\nOne client " +
		"trusts only the old root, another only the new one.")
	for i, stage := range Stages {
		pair, err := tls.LoadX509KeyPair("../handed-out/"+stage+".pem", "../drafts/booking.ternbay.example.key.pem")
		if err != nil {
			return fmt.Errorf("demo: the server does not take its files: %w", err)
		}
		for _, root := range []string{"old-root", "new-root"} {
			want := i > 0 || root == "old-root" // before the renewal no one knows the new root
			if err := s.tryRoot(ctx, pair, stage, root, want); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s Stage) tryRoot(ctx context.Context, pair tls.Certificate, stage, file string, want bool) error {
	data, err := disk.Read(filepath.Join("../handed-out", file+".pem"), 1<<20)
	if err != nil {
		return err
	}
	found, err := bundle.Read(data)
	if err != nil {
		return err
	}
	root, err := cert.Read(found.Objects[0].DER)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	defer listener.Close()
	go serve(listener, pair)
	r, err := probe.Connect(ctx, listener.Addr().String(), "booking.ternbay.example", []*cert.Certificate{root},
		time.Now())
	if err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	if r.Trusted != want || r.Verdict.Valid != want {
		return fmt.Errorf("demo: the live proof failed for %s with the %s alone: trusted %v, our verdict %v: %w", stage,
			file, r.Trusted, r.Verdict.Valid, r.Refusal)
	}
	text := fmt.Sprintf("chain %s, client with the %s alone: ", stage, file)
	if !r.Trusted {
		s.Answer(false, text+"refused, as expected: that root did not exist yet")
		return nil
	}
	for _, st := range r.Verdict.Steps {
		if c := st.Certificate; c.SelfIssued() && !c.SelfSigned() {
			text += "through the link certificate, "
		}
	}
	s.Answer(true, text+"trusted")
	return nil
}
