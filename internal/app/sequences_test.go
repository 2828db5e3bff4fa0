package app_test

import (
	"bytes"
	"crypto/x509"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	xocsp "golang.org/x/crypto/ocsp"

	"ironseal/internal/app/audit"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/revoke/importing"
	"ironseal/internal/app/revoke/incidents"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/responding"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/app/transfer"
	"ironseal/internal/estate"
	"ironseal/pki/cert"
	"ironseal/pki/lifecycle"
	pkipath "ironseal/pki/path"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
	"ironseal/pki/status"
)

// Two estates work together: a root in a safe, and an authority below it that is online. Random acts follow each
// other, with restored backups among them. After each of them must hold:
//
//   - nobody who has the newest lists that we published accepts what they, or earlier ones, told to be revoked
//     for good;
//   - a key in an open incident signs no certificate;
//   - the numbers of our lists only go up;
//   - everything that certificates name lies in the folder, or the act said that it does not.
type sequence struct {
	t         *testing.T
	r         *rand.Rand
	base      string
	now       time.Time
	safe, on  string // folders of the estates
	pub, ocsp string
	backups   map[string][]string // of each estate, by its role
	made      int
	leaves    []*cert.Certificate
	told      map[string]*cert.Certificate // revoked for good, by what lay in the folder
	numbers   map[string]int64
	log       []string
	lists     [][][]byte // what the safe handed out, by transfer
}

func TestRandomSequencesOfActs(t *testing.T) {
	t.Parallel()
	done := map[string]int{}
	few := 1
	if thorough() {
		few = 4
	}
	generated(t, few, func(seed uint64) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			s := newSequence(t, seed)
			for range 30 {
				s.step(done)
				if t.Failed() {
					t.Fatal(strings.Join(s.log, "\n"))
				}
			}
			s.sound()
		})
	})
	t.Logf("acts that succeeded: %v", done)
	for name := range acts() {
		if done[name] == 0 && os.Getenv("IRONSEAL_GENERATE") != "" {
			t.Errorf("%s never succeeded: it is not tried", name)
		}
	}
}

// thorough reports whether tests that can try less try everything: under CI=true, or with IRONSEAL_LONG=yes.
func thorough() bool { return os.Getenv("CI") == "true" || os.Getenv("IRONSEAL_LONG") != "" }

// generated is for how long random cases are tried: IRONSEAL_GENERATE says it, such as 60m; a few without.
func generated(t *testing.T, few int, try func(seed uint64)) {
	t.Helper()
	long, _ := time.ParseDuration(os.Getenv("IRONSEAL_GENERATE"))
	end, n := time.Now().Add(long), 0
	from := uint64(time.Now().UnixNano())
	if long == 0 {
		from = 1
	}
	for ; !t.Failed() && (n < few || time.Now().Before(end)); n++ {
		try(from + uint64(n))
	}
	t.Logf("%d cases", n)
}

func newSequence(t *testing.T, seed uint64) *sequence {
	t.Helper()
	s := &sequence{t: t, r: rand.New(rand.NewPCG(seed, 29)), base: t.TempDir(),
		backups: map[string][]string{}, told: map[string]*cert.Certificate{}, numbers: map[string]int64{}}
	s.pub, s.ocsp = filepath.Join(s.base, "public"), filepath.Join(s.base, "answers")
	var safe, on *estate.Estate
	s.safe, safe = newEstate(t)
	s.on, on = bareEstate(t, "Tern Bay Gates")
	roots, _, err := safe.Roots(ctx)
	must0(t, err)
	_, err = transfer.OpenFolder(ctx, on, answered(t, safe, applied(t, on), "R1"), roots)
	must0(t, err)
	must0(t, errors.Join(safe.Close(), on.Close()))
	s.now = time.Now().Add(2 * time.Second)
	for _, name := range []string{"sign", "safe lists", "publish", "backup", "safe backup"} {
		must0(t, acts()[name](s))
	}
	return s
}

// in opens an estate at the sequence's moment.
func (s *sequence) in(dir string, fn func(*estate.Estate) error) error {
	w := world()
	now := s.now
	w.Now = func() time.Time { return now }
	e, err := estate.Open(ctx, dir, w)
	if err != nil {
		s.t.Fatal(err)
	}
	e.Settings.Publication.Address = "http://pki.ternbay.example"
	return errors.Join(fn(e), e.Close())
}

func (s *sequence) step(done map[string]int) {
	s.t.Helper()
	all := acts()
	names := make([]string, 0, len(all))
	for name := range all {
		names = append(names, name)
	}
	slices.Sort(names)
	s.now = s.now.Add(time.Duration(1+s.r.IntN(48*60)) * time.Minute)
	name := names[s.r.IntN(len(names))]
	err := all[name](s)
	s.log = append(s.log, fmt.Sprintf("%s %s: %v", s.now.Format("01-02 15:04:05"), name, err))
	if err == nil {
		done[name]++
	}
	s.client()
}

func pick[T any](s *sequence, list []T) T { return list[s.r.IntN(len(list))] }

var errNone = errors.New("there is none")

func acts() map[string]func(*sequence) error {
	return map[string]func(*sequence) error{
		"sign":          (*sequence).sign,
		"revoke":        (*sequence).revoke,
		"release":       (*sequence).release,
		"publish":       (*sequence).publish,
		"publish again": (*sequence).publish,
		"answers":       (*sequence).answers,
		"open incident": (*sequence).incident,
		"close incident": func(s *sequence) error {
			return s.in(s.on, func(e *estate.Estate) error {
				p, err := incidents.Of(ctx, e, fmt.Sprint("I", 1+s.r.IntN(3)))
				if err != nil {
					return err
				}
				_, err = incidents.Close(ctx, e, p, incidents.Ending{Because: "a test", Unfinished: s.r.IntN(2) == 0,
					FalseAlarm: s.r.IntN(2) == 0})
				return err
			})
		},
		"renew by transfer": (*sequence).renew,
		"backup":            func(s *sequence) error { return s.backUp("on", s.on) },
		"safe backup":       func(s *sequence) error { return s.backUp("safe", s.safe) },
		"restore":           func(s *sequence) error { return s.restore("on", &s.on) },
		"safe restore":      func(s *sequence) error { return s.restore("safe", &s.safe) },
		"take in folder":    (*sequence).takeInFolder,
		"safe lists":        (*sequence).safeLists,
		"lists arrive late": (*sequence).late,
		"safe revokes": func(s *sequence) error {
			return s.in(s.safe, func(e *estate.Estate) error {
				return revokeOne(e, pick(s, []string{"R1", "R2"}), pick(s, []revocation.Reason{revocation.CACompromise,
					revocation.CertificateHold}))
			})
		},
		"safe releases": func(s *sequence) error {
			return s.in(s.safe, func(e *estate.Estate) error {
				_, _, err := revoking.Release(ctx, e, []string{"R1"}, "a test")
				return err
			})
		},
		"safe takes in": func(s *sequence) error {
			return s.in(s.safe, func(e *estate.Estate) error {
				ders, _ := s.served()
				err := errNone
				for _, der := range ders { // those of the other estate are none of its own
					if _, oneErr := importing.Lists(ctx, e, [][]byte{der}); oneErr == nil {
						err = nil
					}
				}
				return err
			})
		},
	}
}

func (s *sequence) sign() error {
	return s.in(s.on, func(e *estate.Estate) error {
		s.made++
		host := fmt.Sprintf("h%d.ternbay.example", s.made)
		number := take(s.t, e, specimen.Request(s.t, nil, "CN="+host, []string{host}))
		lost, err := compromise.Keys(ctx, e.Records)
		if err != nil {
			return err
		}
		p, err := signing.Plan(ctx, e, signing.SignAsk{Request: fmt.Sprint("R", number), Template: "web-server",
			By: "gates"})
		if err != nil {
			return err
		}
		if err := sign(e, p); err != nil {
			return err
		}
		c, _, err := e.FindCertificate(ctx, fmt.Sprint("R", number))
		if err != nil {
			return err
		}
		g, err := e.Generation(ctx, "gates")
		if err != nil {
			return err
		}
		if _, compromised := lost[g.Certificate.Key.Fingerprint()]; compromised {
			s.t.Errorf("a suspected key signed %s", host)
		}
		s.leaves = append(s.leaves, c.Certificate)
		return nil
	})
}

func revokeOne(e *estate.Estate, name string, why revocation.Reason) error {
	p, err := revoking.PlanRevoke(ctx, e, revoking.Ask{Names: []string{name}, Reason: why, Because: "a test"})
	if err == nil {
		_, err = revoking.Revoke(ctx, e, p)
	}
	return err
}

func (s *sequence) revoke() error {
	return s.in(s.on, func(e *estate.Estate) error {
		return revokeOne(e, pick(s, s.leaves).SerialHex(), pick(s, []revocation.Reason{revocation.KeyCompromise,
			revocation.Superseded, revocation.CertificateHold}))
	})
}

func (s *sequence) release() error {
	return s.in(s.on, func(e *estate.Estate) error {
		err := errNone
		for _, c := range s.leaves {
			if _, _, oneErr := revoking.Release(ctx, e, []string{c.SerialHex()}, "a test"); oneErr == nil {
				err = nil
			}
		}
		return err
	})
}

func (s *sequence) publish() error {
	return s.in(s.on, func(e *estate.Estate) error {
		if err := publishing.Untouched(ctx, e, s.pub); err != nil {
			return err
		}
		p, err := publishing.PlanLists(ctx, e, publishing.Ask{All: s.r.IntN(3) == 0, Ahead: s.r.IntN(3) / 2})
		if err != nil {
			return err
		}
		if _, err := publishing.Sign(ctx, e, p); err != nil {
			return err
		}
		out, err := publishing.Release(ctx, e, s.pub)
		if err != nil {
			return err
		}
		s.named(e, out)
		return nil
	})
}

// named looks for what certificates name.
func (s *sequence) named(e *estate.Estate, out publishing.Released) {
	s.t.Helper()
	for _, c := range s.leaves {
		if _, known, err := e.OnRecord(ctx, c); err != nil || !known {
			continue // it was signed after the backup from which this estate comes
		}
		for _, u := range parsed(s.t, c).CRLDistributionPoints {
			if _, err := os.Stat(filepath.Join(s.pub, path.Base(u))); err != nil && !slices.Contains(out.Missing, u) {
				s.t.Errorf("%s names %s, which is not there, and nobody said so", c.Title(), u)
			}
		}
	}
}

func (s *sequence) answers() error {
	return s.in(s.on, func(e *estate.Estate) error {
		lost, err := compromise.Keys(ctx, e.Records)
		if err != nil {
			return err
		}
		b, err := responding.Prepare(ctx, e, s.ocsp, publishing.Ask{}, nil)
		if err != nil {
			return err
		}
		for _, serial := range b.Responders {
			c, _, err := e.FindCertificate(ctx, serial)
			if err != nil {
				return err
			}
			line, err := e.Line(ctx, c)
			if err != nil {
				return err
			}
			if _, compromised := lost[line[1].Key.Fingerprint()]; compromised {
				s.t.Errorf("a suspected key certified the responder %s", serial)
			}
		}
		files, err := filepath.Glob(filepath.Join(s.ocsp, "*.ocsp"))
		if err != nil {
			return err
		}
		for _, f := range files {
			der, err := os.ReadFile(f)
			if err != nil {
				return err
			}
			a, err := xocsp.ParseResponse(der, nil)
			if err != nil {
				return err
			}
			c := s.told[fmt.Sprintf("%x", a.SerialNumber)]
			if c == nil || a.Status != xocsp.Good {
				continue
			}
			if held, _, err := e.FindCertificate(ctx, c.SerialHex()); err == nil && held.State == lifecycle.Revoked {
				s.t.Errorf("an answer says that %s is good, and it is revoked on record", c.Title())
			}
		}
		return nil
	})
}

func (s *sequence) incident() error {
	about := "gates"
	if s.r.IntN(2) == 0 {
		about = pick(s, s.leaves).SerialHex()
	}
	return s.in(s.on, func(e *estate.Estate) error {
		_, _, err := incidents.Open(ctx, e, about, "a test")
		return err
	})
}

// renew lets the authority get a certificate for another key from the safe.
func (s *sequence) renew() error {
	stick, back := s.folder(), s.folder()
	err := s.in(s.on, func(e *estate.Estate) error {
		if _, _, err := external.Apply(ctx, e, external.ApplyAsk{Handle: "gates", Parent: "offline"}); err != nil {
			return err
		}
		_, _, err := transfer.Pack(ctx, e, transfer.PackAsk{Dir: stick, Handles: []string{"gates"}})
		return err
	})
	if err == nil {
		err = s.in(s.safe, func(e *estate.Estate) error {
			folder, err := transfer.ReadFolder(stick)
			if err != nil {
				return err
			}
			o, err := transfer.OpenFolder(ctx, e, folder, nil)
			if err != nil || len(o.Faults) > 0 {
				return fmt.Errorf("%v %v", err, o.Faults)
			}
			list, err := e.Records.Requests(ctx, "")
			if err != nil {
				return err
			}
			p, err := signing.Plan(ctx, e, signing.SignAsk{Request: fmt.Sprint("R", list[len(list)-1].Number),
				Template: "intermediate-authority", By: "root"})
			if err != nil {
				return err
			}
			if err := sign(e, p); err != nil {
				return err
			}
			_, _, _, err = transfer.PackAnswers(ctx, e, stick, back)
			return err
		})
	}
	if err != nil {
		return err
	}
	return s.in(s.on, func(e *estate.Estate) error {
		folder, err := transfer.ReadFolder(back)
		if err != nil {
			return err
		}
		o, err := transfer.OpenFolder(ctx, e, folder, nil)
		if err == nil && len(o.Answers) > 0 {
			err = o.Answers[0].Err
		}
		return err
	})
}

func (s *sequence) folder() string {
	s.made++
	return filepath.Join(s.base, fmt.Sprint("f", s.made))
}

func (s *sequence) backUp(role, dir string) error {
	return s.in(dir, func(e *estate.Estate) error {
		file := s.folder()
		_, err := backup.BackUp(ctx, e, file)
		if err == nil {
			s.backups[role] = append(s.backups[role], file)
		}
		return err
	})
}

func (s *sequence) restore(role string, dir *string) error {
	if len(s.backups[role]) == 0 {
		return errNone
	}
	to := s.folder()
	w := world()
	now := s.now
	w.Now = func() time.Time { return now }
	if _, err := backup.Restore(ctx, pick(s, s.backups[role]), to, w); err != nil {
		return err
	}
	*dir = to
	return nil
}

// takeInFolder is what a restore advises.
func (s *sequence) takeInFolder() error {
	return s.in(s.on, func(e *estate.Estate) error {
		lists, _ := s.served()
		_, err := importing.Lists(ctx, e, lists)
		return err
	})
}

// safeLists brings the lists of the safe to the other estate, now or, lost on the way, later.
func (s *sequence) safeLists() error {
	if err := s.in(s.safe, func(e *estate.Estate) error {
		p, err := publishing.PlanLists(ctx, e, publishing.Ask{Only: []string{"root"}, All: true, Ahead: s.r.IntN(3)})
		if err == nil {
			_, err = publishing.Sign(ctx, e, p)
		}
		return err
	}); err != nil {
		return err
	}
	var lists [][]byte
	must0(s.t, s.in(s.safe, func(e *estate.Estate) error {
		lists = kept(s.t, e)
		return nil
	}))
	if s.lists = append(s.lists, lists); s.r.IntN(4) == 0 && len(s.lists) > 1 {
		return errNone // it comes late
	}
	return s.arrive(lists)
}

func (s *sequence) arrive(lists [][]byte) error {
	return s.in(s.on, func(e *estate.Estate) error {
		_, err := importing.Carried(ctx, e, lists)
		return err
	})
}

func (s *sequence) late() error { return s.arrive(pick(s, s.lists)) }

// served are the lists of the folder, and what they are.
func (s *sequence) served() (ders [][]byte, lists []*revocation.List) {
	s.t.Helper()
	files, err := filepath.Glob(filepath.Join(s.pub, "*.crl"))
	must0(s.t, err)
	for _, f := range files {
		der, err := os.ReadFile(f)
		must0(s.t, err)
		l, err := revocation.ReadList(der)
		must0(s.t, err)
		if !slices.ContainsFunc(ders, func(o []byte) bool { return bytes.Equal(o, der) }) {
			ders, lists = append(ders, der), append(lists, l)
		}
		name := filepath.Base(f)
		if !strings.HasPrefix(name, "gates.") {
			continue
		}
		if l.Number.Int64() < s.numbers[name] {
			s.t.Errorf("%s had the number %d, and has %s", name, s.numbers[name], l.Number)
		}
		s.numbers[name] = l.Number.Int64()
	}
	return ders, lists
}

// client looks at the folder as a client does that must know of everything whether it was revoked.
func (s *sequence) client() {
	s.t.Helper()
	_, lists := s.served()
	known := slices.Clone(s.leaves)
	var above []*cert.Certificate
	for _, dir := range []string{s.on, s.safe} {
		must0(s.t, s.in(dir, func(e *estate.Estate) error {
			h, err := e.Hierarchy(ctx)
			for _, g := range estate.AllGenerations(h) {
				above = append(above, g.Certificate)
			}
			return err
		}))
	}
	for _, c := range append(known, above...) {
		var line []*cert.Certificate
		for up := c; up != nil; {
			line = append(line, up)
			at := slices.IndexFunc(above, func(a *cert.Certificate) bool {
				return !up.SelfSigned() && a.Subject.Equal(up.Issuer) && up.VerifiedBy(a.Key) == nil
			})
			if up = nil; at >= 0 {
				up = above[at]
			}
		}
		if len(line) < 2 {
			continue
		}
		q := pkipath.Question{Now: s.now, Anchors: line[len(line)-1:]}
		st := status.New(status.Evidence{Lists: lists}, q, true).Of(line)
		name := fmt.Sprintf("%x", c.Serial.Big())
		switch _, before := s.told[name]; {
		case st.State == status.Revoked:
			s.told[name] = c
		case before && st.State != status.Unknown && s.now.Before(c.NotAfter):
			s.t.Errorf("%s was told to be revoked, and is %s by %s", c.Title(), st.State, st.By)
		}
	}
}

// sound lets both estates check themselves, and the standard library read what is served.
func (s *sequence) sound() {
	s.t.Helper()
	for _, dir := range []string{s.on, s.safe} {
		must0(s.t, s.in(dir, func(e *estate.Estate) error {
			out, err := audit.Check(ctx, e, audit.CheckAsk{})
			if len(out.Faults) > 0 {
				s.t.Errorf("%s: %v\n%s", dir, out.Faults, strings.Join(s.log, "\n"))
			}
			return err
		}))
	}
	ders, _ := s.served()
	for _, der := range ders {
		if _, err := x509.ParseRevocationList(der); err != nil {
			s.t.Error(err)
		}
	}
}
