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
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
)

// Signing is a pipeline: workers plan and sign on every core, one writer records
// what they made, some hundreds to a commit. A result is reported only after its
// commit. One certificate goes the same way as ten thousand.

// batch is how many certificates one commit holds at most, and gather how long
// the writer waits for more. A larger batch writes each page of an index less often.
const (
	batch  = 500
	gather = 50 * time.Millisecond
)

// Planned is one ask with its sheet, or with the reason why it has no sheet.
type Planned struct {
	Ask   *SignAsk
	Name  string // the row, or the certificate, that the person knows it by; "" for the request
	Sheet *Sheet
	Err   error
}

// Title is what the person knows it by.
func (p Planned) Title() string {
	if p.Name == "" && p.Sheet != nil {
		return titleOf(p.Sheet.Record)
	}
	return p.Name
}

func titleOf(r store.Request) string { return fmt.Sprintf("R%d %s", r.Number, r.Title) }

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
			out[i].Err = p.Learn(ctx, e, *out[i].Ask)
		}
	}
	count := estate.Counting(progress)
	estate.OnAllCores((len(out)+planned-1)/planned, func(i int) {
		part := out[i*planned : min((i+1)*planned, len(out))]
		list := make([]store.Request, len(part))
		for i := range part {
			if part[i].Err == nil {
				list[i], part[i].Err = numberedIn(waiting, *part[i].Ask)
			}
		}
		planTogether(ctx, e, p, part, list, seen, count)
	})
	return out, context.Cause(ctx)
}

// planned is how many requests one worker plans together: what they ask the records, they ask at once.
const planned = 128

// planTogether fills in the sheets of requests. Those that have failed already stay as they are.
func planTogether(ctx context.Context, e *estate.Estate, p *Planning, out []Planned, list []store.Request,
	seen map[int64][]string, count func()) {
	read := make([]*request.Request, len(list))
	for i, rec := range list {
		if out[i].Err != nil {
			continue
		}
		var err error
		if read[i], err = request.Read(rec.DER); err != nil {
			out[i].Err = fmt.Errorf("R%d on record cannot be parsed: %w", rec.Number, err)
		}
	}
	done, err := p.ahead(ctx, e, read)
	defer done()
	for i := range out {
		switch {
		case err != nil && out[i].Err == nil:
			out[i].Err = err
		case out[i].Err == nil && ctx.Err() == nil:
			out[i].Sheet, out[i].Err = planWaiting(ctx, e, p, *out[i].Ask, list[i], read[i], seen)
		}
		count()
	}
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
	var part []store.Request
	plan := func() {
		list := part
		part = nil
		g.Go(func() error {
			some := make([]Planned, len(list))
			for i := range list {
				some[i].Ask = &ask
			}
			planTogether(ctx, e, p, some, list, seen, count)
			for i, r := range list {
				if some[i].Sheet == nil {
					some[i].Name = titleOf(r)
				}
			}
			mu.Lock()
			defer mu.Unlock()
			out = append(out, some...)
			return nil
		})
	}
	err = e.Records.EachRequest(ctx, lifecycle.Waiting, func(r store.Request) {
		if p.first == 0 {
			p.first = r.Number
		}
		if part = append(part, r); len(part) == planned {
			plan()
		}
	})
	plan()
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

// numberedIn is the waiting request that an ask names.
func numberedIn(waiting map[int64]store.Request, ask SignAsk) (store.Request, error) {
	n, err := estate.ParseNumber(ask.Request)
	if err != nil {
		return store.Request{}, err
	}
	rec, ok := waiting[n]
	if !ok {
		return rec, fmt.Errorf("R%d: no such request is waiting", n)
	}
	return rec, nil
}

func planWaiting(ctx context.Context, e *estate.Estate, p *Planning, ask SignAsk, rec store.Request, r *request.Request,
	seen map[int64][]string) (*Sheet, error) {
	s, err := PlanRead(ctx, e, p, ask, rec, r, seen[rec.Number], 0)
	if err == nil && len(s.Plan.Findings.Refusing()) == 0 && e.NeedsFor(*s.Template) < 2 {
		err = s.settle(e, p)
	}
	return s, err
}

// SignResult is the outcome of one sheet.
type SignResult struct {
	Sheet       *Sheet
	Certificate *cert.Certificate
	Head        journal.Head
	Err         error

	ready issue.Prepared
	made  store.NewCertificate    // see written
	told  event.SignedCertificate // the same
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
		if r := s.Findings().Refusing(); len(r) > 0 {
			tell(SignResult{Sheet: s, Err: &issue.Refused{About: fmt.Sprintf("R%d", s.Record.Number), Findings: r}})
			continue
		}
		good = append(good, s)
	}
	together := map[int64]bool{}
	for _, s := range good {
		together[s.Record.Number], s.together = true, together
	}
	opened, err := openAll(ctx, e, good)
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
	signed := make(chan SignResult, batch) // workers continue while the writer waits for the disk
	go func() {
		defer close(signed)
		estate.OnAllCores(len(good), func(i int) {
			s := good[i]
			if err := context.Cause(ctx); err != nil {
				signed <- SignResult{Sheet: s, Err: fmt.Errorf("R%d: stopped before it was signed: %w", s.Record.Number,
					err)}
				return
			}
			signed <- signOne(e, prepare(e, s), opened[s.Issuer])
		})
	}()
	RecordAll(ctx, e, signed, tell)
	return nil
}

// Ready opens the keys that sheets will be signed with, before a person reads them.
func Ready(ctx context.Context, e *estate.Estate, sheets []*Sheet) error {
	done := map[*hierarchy.Generation]bool{}
	for _, s := range sheets {
		if done[s.Issuer] {
			continue
		}
		done[s.Issuer] = true
		if err := e.Keys.Ahead(ctx, s.Issuer.Certificate.Key, s.Issuer.Authority.Handle,
			keystore.ForCertificate); err != nil {
			return err
		}
	}
	return nil
}

func openAll(ctx context.Context, e *estate.Estate, sheets []*Sheet) (map[*hierarchy.Generation]keystore.Opened,
	error) {
	out := map[*hierarchy.Generation]keystore.Opened{}
	for _, s := range sheets {
		if out[s.Issuer] != nil {
			continue
		}
		o, err := e.Keys.Open(ctx, s.Issuer.Certificate.Key, s.Issuer.Authority.Handle, keystore.ForCertificate)
		if err != nil {
			return nil, err
		}
		out[s.Issuer] = o
	}
	return out, nil
}

func prepare(e *estate.Estate, s *Sheet) SignResult {
	out := SignResult{Sheet: s}
	if s.Plan == nil {
		out.ready = s.settled.ready
		return out
	}
	serial, err := issue.Serial(e.Env.Random)
	if err == nil {
		out.ready, err = issue.Prepare(*s.Plan, serial)
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
	out := SignResult{Sheet: r.Sheet, Certificate: c}
	r.Sheet.settled.ready = issue.Prepared{}
	out.written()
	return out
}
