package signing

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
)

// Signing is a pipeline: workers plan and sign on every core, one writer records
// what they made, some hundreds to a commit. A result is reported only after its
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
	return estate.Snapshot(ctx, e, func(e *estate.Estate) ([]Planned, error) {
		return planMany(ctx, e, out,
			progress)
	})
}

func planMany(ctx context.Context, e *estate.Estate, out []Planned, progress func(done int)) ([]Planned, error) {
	p, seen, err := bulkPlanning(ctx, e)
	if err != nil {
		return nil, err
	}
	waiting := map[int64]store.Request{}
	if err := e.Records.EachRequest(ctx, lifecycle.Waiting,
		func(r store.Request) { waiting[r.Number] = r }); err != nil {
		return nil, err
	}
	p.numbered(waiting)
	for i := range out {
		if out[i].Err == nil {
			out[i].Err = p.Learn(ctx, e, out[i].Ask)
		}
	}
	count := estate.Counting(progress)
	estate.OnAllCores(len(out), func(i int) {
		if out[i].Err == nil && ctx.Err() == nil {
			out[i].Sheet, out[i].Err = planNumbered(ctx, e, p, out[i].Ask, waiting, seen)
		}
		count()
	})
	return out, context.Cause(ctx)
}

// PlanAll plans every request that waits, while they are still being read.
func PlanAll(ctx context.Context, e *estate.Estate, ask SignAsk, progress func(done int)) ([]Planned, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) ([]Planned, error) {
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
	count := estate.Counting(progress)
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	err = e.Records.EachRequest(ctx, lifecycle.Waiting, func(r store.Request) {
		if p.first == 0 {
			p.first = r.Number
		}
		g.Go(func() error {
			one := Planned{Ask: ask, Name: fmt.Sprintf("R%d %s", r.Number, r.Title)}
			one.Sheet, one.Err = planWaiting(ctx, e, p, ask, r, seen)
			mu.Lock()
			out = append(out, one)
			mu.Unlock()
			count()
			return nil
		})
	})
	_ = g.Wait() // each request keeps its own failure
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
func (p *Planning) numbered(waiting map[int64]store.Request) {
	p.batch = len(waiting)
	for n := range waiting {
		if p.first == 0 || n < p.first {
			p.first = n
		}
	}
}

func planNumbered(ctx context.Context, e *estate.Estate, p *Planning, ask SignAsk, waiting map[int64]store.Request,
	seen map[int64][]string) (*Sheet, error) {
	n, err := estate.ParseNumber(ask.Request)
	if err != nil {
		return nil, err
	}
	rec, ok := waiting[n]
	if !ok {
		return nil, fmt.Errorf("R%d: no such request is waiting", n)
	}
	return planWaiting(ctx, e, p, ask, rec, seen)
}

func planWaiting(ctx context.Context, e *estate.Estate, p *Planning, ask SignAsk, rec store.Request,
	seen map[int64][]string) (*Sheet,
	error) {
	r, err := request.Read(rec.DER)
	if err != nil {
		return nil, fmt.Errorf("R%d on record cannot be parsed: %w", rec.Number, err)
	}
	s, err := PlanRead(ctx, e, p, ask, rec, r, seen[rec.Number], 0)
	if err == nil && len(s.Plan.Findings) == 0 {
		s.Plan.Rows = nil // only sheets with findings are shown one by one
	}
	return s, err
}

// SignResult is the outcome of one sheet.
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
	if err := e.Env.Step(estate.StepPlanned); err != nil {
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
	together := map[int64]bool{}
	for _, s := range good {
		together[s.Record.Number], s.together = true, together
	}
	ready := make([]SignResult, len(good)) // encoded while the keys are being opened, which takes one core
	encoded := make(chan struct{})
	go func() {
		defer close(encoded)
		estate.OnAllCores(len(good), func(i int) { ready[i] = prepare(e, good[i]) })
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
	if err := e.Env.Step(estate.StepOpened); err != nil {
		return err
	}
	signed := make(chan SignResult, 8*batch) // workers continue while the writer waits for the disk
	go func() {
		defer close(signed)
		estate.OnAllCores(len(good), func(i int) {
			s := good[i]
			if err := context.Cause(ctx); err != nil {
				signed <- SignResult{Sheet: s, Err: fmt.Errorf("R%d: stopped before it was signed: %w", s.Record.Number,
					err)}
				return
			}
			signed <- signOne(e, ready[i], opened[s.Issuer.Label()])
		})
	}()
	RecordAll(ctx, e, signed, tell)
	return nil
}

// Ready opens the keys that sheets will be signed with, before a person reads them.
func Ready(ctx context.Context, e *estate.Estate, sheets []*Sheet) error {
	for _, s := range sheets {
		if err := e.Keys.Ahead(ctx, s.Issuer.Certificate.Key, s.Issuer.Authority.Handle,
			keystore.ForCertificate); err != nil {
			return err
		}
	}
	return nil
}

func openAll(ctx context.Context, e *estate.Estate, sheets []*Sheet) (map[string]keystore.Opened, error) {
	out := map[string]keystore.Opened{}
	for _, s := range sheets {
		label := s.Issuer.Label()
		if out[label] != nil {
			continue
		}
		o, err := e.Keys.Open(ctx, s.Issuer.Certificate.Key, s.Issuer.Authority.Handle, keystore.ForCertificate)
		if err != nil {
			return nil, err
		}
		out[label] = o
	}
	return out, nil
}

func prepare(e *estate.Estate, s *Sheet) SignResult {
	out := SignResult{Sheet: s}
	serial, err := issue.Serial(e.Env.Random)
	if err == nil {
		out.ready, err = issue.Prepare(s.Plan, serial)
	}
	if err != nil {
		out.Err = fmt.Errorf("R%d: %w", s.Record.Number, err)
	}
	return out
}

func signOne(e *estate.Estate, r SignResult, signer keystore.Opened) SignResult {
	if r.Err != nil {
		return r
	}
	c, err := r.ready.Sign(signer, e.Env.Random)
	if err == nil {
		err = e.Env.Step(estate.StepSigned)
	}
	if err != nil {
		return SignResult{Sheet: r.Sheet, Err: fmt.Errorf("R%d: %w", r.Sheet.Record.Number, err)}
	}
	return SignResult{Sheet: r.Sheet, Certificate: c}
}
