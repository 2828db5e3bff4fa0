package responding

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/lifecycle"
	"ironseal/pki/ocsp"
	"ironseal/pki/revocation"
)

// Batch is what was made.
type Batch struct {
	Dir        string    `json:"dir" doc:"the folder"`
	Answers    int       `json:"answers" doc:"how many"`
	Responders []string  `json:"responders" doc:"serials of the certificates of the keys that signed them"`
	Skipped    []string  `json:"skipped" doc:"generations about which nothing is answered, and why"`
	Next       time.Time `json:"next_update,omitzero" doc:"until when they are fresh"`
}

// subject is a certificate about which an answer is made.
type subject struct {
	file   string
	serial cert.Serial
	status ocsp.Status
	at     time.Time
	reason revocation.Reason
}

// Prepare signs an answer about every certificate that has not ended, and writes each into a
// file of a folder, which replaces the one before in one step. Answers of authorities that are
// left out stay, unless they tell otherwise than the records.
//
// Signing takes its time. So the records are asked again before the folder is replaced, and once more
// when it was: an answer never stays that is older than what someone recorded meanwhile.
func Prepare(ctx context.Context, e *estate.Estate, dir string, ask publishing.Ask, progress func(int)) (Batch, error) {
	p := preparing{e: e, ask: ask, out: Batch{Dir: dir, Responders: []string{}, Skipped: []string{}},
		count: estate.Counting(progress)}
	if err := p.begin(ctx); err != nil {
		return p.out, err
	}
	if len(p.by) == 0 {
		return p.out, p.clean(ctx, dir)
	}
	for range mostAgain {
		if err := p.sign(ctx); err != nil {
			return p.out, err
		}
		if changed, err := p.changed(ctx); err != nil {
			return p.out, err
		} else if changed {
			continue
		}
		if err := p.record(ctx); err != nil {
			return p.out, err
		}
		if err := p.release(ctx, dir); err != nil {
			return p.out, err
		}
		changed, err := p.changed(ctx)
		if err != nil || !changed {
			return p.out, err
		}
	}
	return p.out, fault.New(fault.Busy, "what is revoked changes all the time: the answers in %s may be older than "+
		"the records: run it again", dir)
}

// mostAgain is how often answers are made again because someone changed what they are about.
const mostAgain = 5

// preparing is a batch under way.
type preparing struct {
	e        *estate.Estate
	ask      publishing.Ask
	out      Batch
	count    func()
	by       []*answering
	recorded bool
}

// answering are the answers about what one generation signed.
type answering struct {
	r     *Responder
	until time.Time
	list  []subject
	files map[string]disk.File // by what they tell
}

// begin makes a responder for each generation that is meant and can sign.
func (p *preparing) begin(ctx context.Context) error {
	all, err := publishing.Signers(ctx, p.e, p.ask)
	if err != nil {
		return err
	}
	for _, s := range all {
		if s.Unable != "" {
			p.out.Skipped = append(p.out.Skipped, s.Generation.Label()+": "+s.Unable)
			continue
		}
		list, err := subjects(ctx, p.e, s.Generation)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			continue
		}
		r, err := newResponder(ctx, p.e, s.Generation, s.Next, "")
		if err != nil {
			return err
		}
		a := &answering{r: r, until: s.Next, files: map[string]disk.File{}}
		if r.Certificate.NotAfter.Before(a.until) {
			a.until = r.Certificate.NotAfter
		}
		p.by = append(p.by, a)
		p.out.Responders = append(p.out.Responders, r.Certificate.SerialHex())
		if next := a.until.UTC().Truncate(time.Second); p.out.Next.IsZero() || next.Before(p.out.Next) {
			p.out.Next = next
		}
	}
	return nil
}

// sign signs the answers that are not there yet: all at first, and then those that tell something else.
func (p *preparing) sign(ctx context.Context) error {
	p.out.Answers = 0
	for _, a := range p.by {
		var err error
		if a.list, err = subjects(ctx, p.e, a.r.Issuer); err != nil {
			return err
		}
		var fresh []subject
		for _, s := range a.list {
			if _, there := a.files[s.key()]; !there {
				fresh = append(fresh, s)
			}
		}
		made, err := a.r.answers(p.e, fresh, p.e.Now(), a.until, p.count)
		if err != nil {
			return err
		}
		for i, s := range fresh {
			a.files[s.key()] = made[i]
		}
		p.out.Answers += len(a.list)
	}
	return nil
}

// key tells a subject with its status from every other.
func (s subject) key() string {
	return fmt.Sprintf("%s %d %d %d", s.file, s.status, s.at.Unix(), s.reason)
}

// changed reports whether the records tell something else by now than what was signed.
func (p *preparing) changed(ctx context.Context) (bool, error) {
	for _, a := range p.by {
		now, err := subjects(ctx, p.e, a.r.Issuer)
		if err != nil {
			return false, err
		}
		if !slices.EqualFunc(now, a.list, func(x, y subject) bool { return x.key() == y.key() }) {
			return true, nil
		}
	}
	return false, nil
}

// record puts the responders' certificates on record, once.
func (p *preparing) record(ctx context.Context) error {
	if p.recorded {
		return nil
	}
	var made []*Responder
	for _, a := range p.by {
		made = append(made, a.r)
	}
	_, err := record(ctx, p.e, made)
	p.recorded = err == nil
	return err
}

// release writes the folder.
func (p *preparing) release(ctx context.Context, dir string) error {
	var files []disk.File
	ours := map[string]bool{}
	for _, a := range p.by {
		ours[a.r.Issuer.Name()] = true
		for _, s := range a.list {
			files = append(files, a.files[s.key()])
		}
	}
	kept, err := p.others(ctx, dir, ours)
	if err != nil {
		return err
	}
	return release(p.e, dir, append(files, kept...))
}

// clean removes answers that disagree with the records from a folder when no others can be signed.
func (p *preparing) clean(ctx context.Context, dir string) error {
	if _, err := os.Lstat(dir); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return p.release(ctx, dir)
}

// others are the answers in a folder that were signed for generations which are left out this time: they
// are handed out on, but for those that tell otherwise than the records.
func (p *preparing) others(ctx context.Context, dir string, ours map[string]bool) (out []disk.File, err error) {
	h, err := p.e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	for _, g := range inventory.Signers(h, p.e.Now()) {
		if ours[g.Name()] {
			continue
		}
		list, err := subjects(ctx, p.e, g)
		if err != nil {
			return nil, err
		}
		for _, s := range list {
			data, err := disk.ReadRegular(filepath.Join(dir, s.file), ocsp.MostSize)
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return nil, err
			}
			if a, err := ocsp.ReadResponse(data); err == nil && tells(a, s) {
				out = append(out, disk.File{Path: s.file, Data: data, Mode: 0o644})
			}
		}
	}
	return out, nil
}

// tells reports whether an answer tells of a certificate what the records do.
func tells(a *ocsp.Response, s subject) bool {
	return slices.ContainsFunc(a.Responses, func(x ocsp.SingleResponse) bool {
		return x.ID.Serial.Hex() == s.serial.Hex() && x.Status == s.status
	})
}

// subjects are the certificates that the generations with one name and key signed, and that
// have not ended.
func subjects(ctx context.Context, e *estate.Estate, g *hierarchy.Generation) (out []subject, err error) {
	revoked := map[string]store.Revocation{}
	some := store.RevocationFilter{Handle: g.Authority.Handle, Part: -1}
	if err := e.Records.EachRevocation(ctx, some, func(r store.Revocation) error {
		revoked[r.Serial] = r
		return nil
	}); err != nil {
		return nil, err
	}
	for _, o := range g.Authority.Generations {
		if !hierarchy.SameList(o, g) {
			continue
		}
		list, err := e.ReadCertificates(e.Records.CertificatesOf(ctx, o.Authority.Handle, o.Number))
		if err != nil {
			return nil, err
		}
		for _, c := range list {
			if c.State == lifecycle.Expired || ocsp.NoCheck(c.Certificate) {
				continue
			}
			s := subject{file: answerFile(g, c.Serial), serial: c.Serial}
			if r, ok := revoked[c.SerialHex()]; ok {
				s.status, s.at, s.reason = ocsp.Revoked, r.At, revocation.Reason(r.Reason)
			}
			out = append(out, s)
		}
	}
	return out, nil
}

// answerFile is the file of a prepared answer.
func answerFile(g *hierarchy.Generation, serial cert.Serial) string {
	return fmt.Sprintf("%s.%s.ocsp", g.Name(), serial.Hex())
}

// provenEach is how many answers of a batch have one among them whose signature is verified.
const provenEach = 64

func (r *Responder) answers(e *estate.Estate, list []subject, at, next time.Time, count func()) ([]disk.File, error) {
	batch, err := ocsp.NewBatch(r.Issuer.Certificate, r.Certificate, at, next, r.Signer)
	if err != nil {
		return nil, err
	}
	out, faults := make([]disk.File, len(list)), make([]error, len(list))
	estate.OnAllCores(len(list), func(i int) {
		sign := batch.Sign
		if i%provenEach == 0 {
			sign = batch.SignVerified
		}
		var der []byte
		der, faults[i] = sign(list[i].serial, list[i].status, list[i].at, list[i].reason, e.Env.Random)
		out[i] = disk.File{Path: list[i].file, Data: der, Mode: 0o644}
		count()
	})
	return out, errors.Join(faults...)
}

// release writes the folder.
func release(e *estate.Estate, dir string, files []disk.File) error {
	var known []string
	list, err := disk.Entries(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", dir, disk.Explain(err))
	}
	for _, f := range list {
		if strings.HasSuffix(f.Name(), ".ocsp") {
			known = append(known, f.Name())
		}
	}
	for _, f := range files {
		known = append(known, f.Path)
	}
	slices.Sort(known)
	done, err := e.UnderWay(filepath.Dir(filepath.Clean(dir)))
	if err != nil {
		return err
	}
	defer done()
	return disk.ReplaceFolder(dir, slices.Compact(known), func(into string) error {
		if err := disk.SetMode(into, 0o755); err != nil {
			return fmt.Errorf("%s: %w", into, disk.Explain(err))
		}
		named := make([]disk.File, len(files))
		for i, f := range files {
			named[i] = f
			named[i].Path = filepath.Join(into, f.Path)
		}
		const at = 2000 // files that are open at once
		for from := 0; from < len(named); from += at {
			if err := errors.Join(e.Env.Disk.NewAll(named[from:min(from+at, len(named))])...); err != nil {
				return err
			}
		}
		return e.Env.Step(estate.StepHandingOut)
	})
}

// Knowledge is what the estate knows of the certificates of one generation, at this moment:
// what is revoked and on no list yet is revoked, and what was never issued is unknown.
type Knowledge struct {
	ctx   context.Context
	e     *estate.Estate
	g     *hierarchy.Generation
	names []string // of the generations with its name and key
	err   error

	learnt *status // of the certificate that is asked about, where it is known; else nil
}

// Of implements ocsp.Knowledge.
func (k *Knowledge) Of(serial cert.Serial) (ocsp.Status, time.Time, revocation.Reason) {
	if k.learnt != nil {
		return k.learnt.status, k.learnt.at, k.learnt.reason
	}
	r, found, err := k.e.Records.RevocationOf(k.ctx, k.g.Authority.Handle, serial.Hex())
	if err != nil {
		k.err = err
		return ocsp.Unknown, time.Time{}, 0
	}
	if found && r.Released.IsZero() {
		return ocsp.Revoked, r.At, revocation.Reason(r.Reason)
	}
	list, err := k.e.Records.CertificatesBySerial(k.ctx, serial.Hex())
	if err != nil {
		k.err = err
	}
	for _, r := range list { // records are found by the first digits of their serials
		if !slices.Contains(k.names, r.Issuer) {
			continue
		}
		if c, err := cert.Read(r.DER); err == nil && c.SerialHex() == serial.Hex() {
			return ocsp.Good, time.Time{}, 0
		}
	}
	return ocsp.Unknown, time.Time{}, 0
}

// Open makes a responder for a generation, and puts its certificate on record. Its key is kept in memory only, or is
// the one that an agent holds by the settings.
func Open(ctx context.Context, e *estate.Estate, g *hierarchy.Generation, life time.Duration) (*Responder, error) {
	r, err := newResponder(ctx, e, g, e.Now().Add(life), e.Settings.Serve.AnswerKey)
	if err != nil {
		return nil, err
	}
	_, err = record(ctx, e, []*Responder{r})
	return r, err
}

// Ends reports whether a responder's certificate ends so soon that another should take its
// place: a third of its life is left.
func (r *Responder) Ends(now time.Time) bool {
	life := r.Certificate.NotAfter.Sub(r.Certificate.NotBefore)
	return now.After(r.Certificate.NotAfter.Add(-life / 3))
}
