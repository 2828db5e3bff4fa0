package signing

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"ironseal/internal/act/authorities"
	"ironseal/internal/act/doubt"
	"ironseal/internal/custody"
	"ironseal/internal/estate"
	"ironseal/internal/failure"
	"ironseal/internal/parallel"
	"ironseal/internal/records"
	"ironseal/internal/records/sqlite"
	"ironseal/pki/cert"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/request"
)

// Signing is a pipeline: workers plan and seal on every core, one writer records
// what they made, some hundreds to a commit. A result is told only after its
// commit. One certificate goes the same way as ten thousand.

// batch is how many certificates one commit holds at most, and gather how long
// the writer waits for more.
const (
	batch  = 250
	gather = 50 * time.Millisecond
)

// Planned is one ask with its sheet, or with the reason why there is none.
type Planned struct {
	Ask   SignAsk
	Name  string // the request, or the row, that the person knows it by
	Sheet *Sheet
	Err   error
}

// PlanMany fills in the sheets of many asks from one snapshot, on every core. An
// ask that cannot be planned does not keep the others back.
func PlanMany(ctx context.Context, e *estate.Estate, out []Planned, progress func(done int)) ([]Planned, error) {
	return estate.AtOneMoment(ctx, e, func(e *estate.Estate) ([]Planned, error) {
		return planMany(ctx, e, out,
			progress)
	})
}

func planMany(ctx context.Context, e *estate.Estate, out []Planned, progress func(done int)) ([]Planned, error) {
	p, seen, err := bulkPlanning(ctx, e)
	if err != nil {
		return nil, err
	}
	waiting := map[int64]records.Request{}
	if err := e.Records.EachRequest(ctx, records.Waiting,
		func(r records.Request) { waiting[r.Number] = r }); err != nil {
		return nil, err
	}
	p.numbered(waiting)
	for i := range out {
		if out[i].Err == nil {
			out[i].Err = p.Learn(ctx, e, out[i].Ask)
		}
	}
	count := parallel.Counting(progress)
	parallel.Each(len(out), func(i int) {
		if out[i].Err == nil && ctx.Err() == nil {
			out[i].Sheet, out[i].Err = planNumbered(e, p, out[i].Ask, waiting, seen)
		}
		count()
	})
	return out, context.Cause(ctx)
}

// PlanAll plans every request that waits, while they are still being read.
func PlanAll(ctx context.Context, e *estate.Estate, ask SignAsk, progress func(done int)) ([]Planned, error) {
	return estate.AtOneMoment(ctx, e, func(e *estate.Estate) ([]Planned, error) {
		return planAll(ctx, e, ask,
			progress)
	})
}

func planAll(ctx context.Context, e *estate.Estate, ask SignAsk, progress func(done int)) ([]Planned, error) {
	p, seen, err := bulkPlanning(ctx, e)
	if err != nil {
		return nil, err
	}
	if err := p.Learn(ctx, e, ask); err != nil {
		return nil, err
	}
	counts, err := e.Records.Count(ctx)
	if err != nil {
		return nil, err
	}
	p.batch = counts.Waiting
	var mu sync.Mutex
	var out []Planned
	count := parallel.Counting(progress)
	jobs := make(chan records.Request, 256)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for rec := range jobs {
				one := Planned{Ask: ask, Name: fmt.Sprintf("R%d %s", rec.Number, rec.Title)}
				one.Sheet, one.Err = planWaiting(e, p, ask, rec, seen)
				mu.Lock()
				out = append(out, one)
				mu.Unlock()
				count()
			}
		})
	}
	err = e.Records.EachRequest(ctx, records.Waiting, func(r records.Request) {
		if p.first == 0 {
			p.first = r.Number
		}
		jobs <- r
	})
	close(jobs)
	wg.Wait()
	slices.SortFunc(out, func(a, b Planned) int { return int(a.number() - b.number()) })
	return out, errors.Join(err, context.Cause(ctx))
}

// number orders what was planned; what has no sheet comes first.
func (p Planned) number() int64 {
	if p.Sheet == nil {
		return 0
	}
	return p.Sheet.Record.Number
}

func bulkPlanning(ctx context.Context, e *estate.Estate) (*Planning, map[int64][]string, error) {
	p, err := NewPlanning(ctx, e)
	if err != nil {
		return nil, nil, err
	}
	seen, err := e.Records.KeysSeen(ctx)
	return p, seen, err
}

// numbered tells which requests a batch may be of.
func (p *Planning) numbered(waiting map[int64]records.Request) {
	p.batch = len(waiting)
	for n := range waiting {
		if p.first == 0 || n < p.first {
			p.first = n
		}
	}
}

func planNumbered(e *estate.Estate, p *Planning, ask SignAsk, waiting map[int64]records.Request,
	seen map[int64][]string) (*Sheet, error) {
	n, err := estate.ParseNumber(ask.Request)
	if err != nil {
		return nil, err
	}
	rec, ok := waiting[n]
	if !ok {
		return nil, fmt.Errorf("R%d: no such request is waiting", n)
	}
	return planWaiting(e, p, ask, rec, seen)
}

func planWaiting(e *estate.Estate, p *Planning, ask SignAsk, rec records.Request, seen map[int64][]string) (*Sheet,
	error) {
	r, err := request.Read(rec.DER)
	if err != nil {
		return nil, fmt.Errorf("R%d on record cannot be parsed: %w", rec.Number, err)
	}
	s, err := PlanRead(e, p, ask, rec, r, seen[rec.Number])
	if err == nil && len(s.Plan.Findings) == 0 {
		s.Plan.Rows = nil // only sheets with findings are shown one by one
	}
	return s, err
}

// SignResult is what became of one sheet.
type SignResult struct {
	Sheet       *Sheet
	Certificate *cert.Certificate
	Head        journal.Head
	Err         error
	ready       issue.Prepared
}

// Sign signs sheets that a person agreed to. tell is called for each, one at a
// time, after it was recorded or failed; a failure of one does not keep the
// others back. The key of an authority is opened once.
func Sign(ctx context.Context, e *estate.Estate, sheets []*Sheet, tell func(SignResult)) error {
	if err := e.World.Step(estate.StepPlanned); err != nil {
		return err
	}
	var good []*Sheet
	for _, s := range sheets {
		if r := s.Plan.Findings.Refusing(); len(r) > 0 {
			tell(SignResult{Sheet: s, Err: &issue.Refused{About: fmt.Sprintf("R%d", s.Record.Number), Findings: r}})
			continue
		}
		good = append(good, s)
	}
	ready := make([]SignResult, len(good)) // encoded while the keys are being opened, which takes one core
	encoded := make(chan struct{})
	go func() {
		defer close(encoded)
		parallel.Each(len(good), func(i int) { ready[i] = prepare(e, good[i]) })
	}()
	opened, err := openAll(ctx, e, good)
	<-encoded
	if err != nil {
		return err
	}
	defer func() {
		for _, o := range opened {
			o.Close()
		}
	}()
	if err := e.World.Step(estate.StepOpened); err != nil {
		return err
	}
	sealed := make(chan SignResult, 8*batch) // workers go on while the writer waits for the disk
	go func() {
		defer close(sealed)
		parallel.Each(len(good), func(i int) {
			s := good[i]
			if err := context.Cause(ctx); err != nil {
				sealed <- SignResult{Sheet: s, Err: fmt.Errorf("R%d: stopped before it was signed: %w", s.Record.Number,
					err)}
				return
			}
			sealed <- seal(e, ready[i], opened[s.Issuer.Label()])
		})
	}()
	RecordAll(ctx, e, sealed, tell)
	return nil
}

func openAll(ctx context.Context, e *estate.Estate, sheets []*Sheet) (map[string]*custody.Opened, error) {
	out := map[string]*custody.Opened{}
	for _, s := range sheets {
		label := s.Issuer.Label()
		if out[label] != nil {
			continue
		}
		o, err := e.Custody.Open(ctx, s.Issuer.Certificate.Key, s.Issuer.Authority.Handle, custody.ForCertificate)
		if err != nil {
			return nil, err
		}
		out[label] = o
	}
	return out, nil
}

func prepare(e *estate.Estate, s *Sheet) SignResult {
	out := SignResult{Sheet: s}
	serial, err := issue.Serial(e.World.Random)
	if err == nil {
		out.ready, err = issue.Prepare(s.Plan, serial)
	}
	if err != nil {
		out.Err = fmt.Errorf("R%d: %w", s.Record.Number, err)
	}
	return out
}

func seal(e *estate.Estate, r SignResult, signer *custody.Opened) SignResult {
	if r.Err != nil {
		return r
	}
	c, err := r.ready.Seal(signer, e.World.Random)
	if err == nil {
		err = e.World.Step(estate.StepSealed)
	}
	if err != nil {
		return SignResult{Sheet: r.Sheet, Err: fmt.Errorf("R%d: %w", r.Sheet.Record.Number, err)}
	}
	return SignResult{Sheet: r.Sheet, Certificate: c}
}

// record is the one writer: it gathers what the workers sealed, commits it and
// tells of it.
func RecordAll(ctx context.Context, e *estate.Estate, sealed <-chan SignResult, tell func(SignResult)) {
	var stopped error
	for {
		list := gathered(sealed)
		if len(list) == 0 {
			return
		}
		for i := range list {
			if stopped != nil && list[i].Err == nil { // one wait for a busy database is enough
				list[i].Certificate, list[i].Err = nil,
					fmt.Errorf("R%d: nothing was signed: %w", list[i].Sheet.Record.Number, stopped)
			}
		}
		var good []SignResult
		for _, r := range list {
			if r.Err != nil {
				tell(r)
				continue
			}
			good = append(good, r)
		}
		for _, r := range commit(ctx, e, good) {
			if Hopeless(r.Err) {
				stopped = r.Err
			}
			tell(r)
		}
	}
}

// gathered takes a batch; it is empty only when there will be no more.
func gathered(sealed <-chan SignResult) []SignResult {
	first, open := <-sealed
	if !open {
		return nil
	}
	list := []SignResult{first}
	late := time.After(gather)
	for len(list) < batch {
		select {
		case r, open := <-sealed:
			if !open {
				return list
			}
			list = append(list, r)
		case <-late:
			return list
		}
	}
	return list
}

// commit records a batch. Where that fails as a whole, each is tried by itself,
// so that one bad record does not keep the others back.
func commit(ctx context.Context, e *estate.Estate, list []SignResult) []SignResult {
	if len(list) == 0 {
		return nil
	}
	head, err := e.Act(ctx, func(tx *records.Tx) ([]journal.Entry, error) { return recordSigned(ctx, e, tx, list) })
	if err == nil {
		err = e.World.Step(estate.StepRecorded)
	} else if len(list) > 1 && !Hopeless(err) {
		var out []SignResult
		for i := range list {
			out = append(out, commit(ctx, e, list[i:i+1])...)
		}
		return out
	}
	for i := range list {
		list[i].Head = head
		if err != nil {
			list[i].Certificate, list[i].Err = nil,
				fmt.Errorf("R%d: nothing was signed: %w", list[i].Sheet.Record.Number, err)
		}
	}
	return list
}

// Hopeless reports a failure that has nothing to do with what was to be recorded: the
// next attempt would only wait again.
func Hopeless(err error) bool {
	var behind *records.BehindError
	return errors.Is(err, sqlite.ErrBusy) || errors.Is(err, sqlite.ErrFull) || errors.Is(err, sqlite.ErrReadOnly) ||
		errors.Is(err, records.ErrUncertain) || errors.As(err, &behind)
}

func recordSigned(ctx context.Context, e *estate.Estate, tx *records.Tx, list []SignResult) ([]journal.Entry, error) {
	var numbers []int64
	for _, r := range list {
		if !r.Sheet.Again {
			numbers = append(numbers, r.Sheet.Record.Number)
		}
	}
	err := tx.DecideMany(numbers, records.Signed)
	if errors.Is(err, failure.ErrChanged) && len(numbers) == 1 {
		err = tx.StillWaiting(numbers[0])
	}
	if err != nil {
		return nil, fmt.Errorf("the record changed while the sheet was on screen: %w", err)
	}
	if err := errors.Join(undoubted(ctx, tx, list), stillFit(ctx, e.Within(tx), list)); err != nil {
		return nil, err
	}
	generations := map[string]int64{}
	templates := map[string]bool{}
	var made []records.NewCertificate
	for _, r := range list {
		s := r.Sheet
		if !templates[s.Template.Name] {
			templates[s.Template.Name] = true
			if err := authorities.Unchanged(e, s.Template); err != nil {
				return nil, err
			}
		}
		label := s.Issuer.Label()
		if generations[label] == 0 {
			if generations[label], err = tx.GenerationID(s.Issuer); err != nil {
				return nil, fmt.Errorf("the record changed while the sheet was on screen: %w", err)
			}
		}
		made = append(made, records.NewCertificate{Certificate: r.Certificate, Issuer: generations[label],
			Request: s.Record.Number, TemplateName: s.Template.Name,
			TemplateSHA: s.Template.SHA256(), TemplateSource: s.Template.Source(), Sheet: s.Plan.Digest(),
			Staged: s.Issuer.Staged, Replaces: s.Replaces, Part: s.Plan.Part, Waived: estate.Waived(s.Plan.Findings)})
	}
	if _, err := tx.AddCertificates(made); err != nil {
		return nil, err
	}
	return []journal.Entry{signEntry(list)}, nil
}

// stillFit asks again what the plans asked, now that nobody else can write: whether a subject or a key
// became that of an authority of ours, whether an authority above the issuer was revoked, and
// whether what is to be replaced was revoked or put on hold.
func stillFit(ctx context.Context, e *estate.Estate, list []SignResult) error {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return err
	}
	changed := func(format string, args ...any) error {
		return failure.Of(failure.ErrChanged, "the record changed while the sheet was on screen: "+format, args...)
	}
	for _, r := range list {
		s, c := r.Sheet, r.Certificate
		if g := h.Generation(s.Issuer.Name()); g == nil || g.TakenBack() != nil {
			return changed("%s, or an authority above it, was revoked", s.Issuer.Label())
		}
		if a := h.SubjectTaken(c.Subject, ""); a != nil {
			return changed("%s is the subject of the authority %s", c.Subject, a.Handle)
		}
		if a := h.KeyTaken(c.Key); a != nil {
			return changed("the key is that of the authority %s", a.Handle)
		}
		if s.Replaces == 0 {
			continue
		}
		old, err := e.HeldAll(e.Records.CertificateByID(ctx, s.Replaces))
		if err != nil {
			return err
		}
		if len(old) != 1 || old[0].State != s.Was && estate.TakenBack(old[0].State) {
			return changed("what is to be replaced, %s, was %s before and is %s now", c.Title(), s.Was,
				stateOf(old))
		}
	}
	return nil
}

func stateOf(list []estate.Held) string {
	if len(list) == 0 {
		return "gone"
	}
	return list[0].State
}

// undoubted refuses keys that came into doubt while the sheet was on screen.
func undoubted(ctx context.Context, tx *records.Tx, list []SignResult) error {
	keys := make([][32]byte, len(list))
	for i, r := range list {
		keys[i] = r.Certificate.Key.Fingerprint()
	}
	doubted, err := doubt.Among(ctx, tx, keys)
	for _, k := range keys {
		if f, ok := doubted[k]; ok && err == nil {
			err = failure.Of(failure.ErrChanged, "the record changed while the sheet was on screen: %s", f.Message)
		}
	}
	return err
}

// signedItem is one certificate in a journal entry.
type signedItem struct {
	Request     string `json:"request"`
	Certificate string `json:"certificate"` // SHA-256
	Serial      string `json:"serial"`
	Title       string `json:"title"`
	By          string `json:"by"`
	Template    string `json:"template"`
	Until       string `json:"until"`
	Sheet       string `json:"sheet"`
	Replaces    int64  `json:"replaces,omitempty"` // the record of the certificate in whose place it is
	Staged      string `json:"switch_day,omitempty"`
	Waived      any    `json:"waived,omitempty"`
}

// signEntry tells of one commit: every certificate in it, by fingerprint.
func signEntry(list []SignResult) journal.Entry {
	items := make([]signedItem, len(list))
	for i, r := range list {
		s, c := r.Sheet, r.Certificate
		sum := c.SHA256()
		items[i] = signedItem{fmt.Sprintf("R%d", s.Record.Number), hex.EncodeToString(sum[:]), c.SerialHex(), c.Title(),
			fmt.Sprintf("%s.g%d", s.Issuer.Authority.Handle, s.Issuer.Number), s.Template.Name,
			c.NotAfter.Format(time.RFC3339), fmt.Sprintf("%x", s.Plan.Digest()), s.Replaces,
			estate.DayOf(s.Issuer.Staged),
			nil}
		if w := estate.WaivedCodes(s.Plan.Findings); len(w) > 0 {
			items[i].Waived = w
		}
	}
	object := items[0].Request
	if len(items) > 1 {
		object = fmt.Sprintf("%s and %d more", object, len(items)-1)
	}
	return estate.Entry("sign", object, "signed", items)
}
