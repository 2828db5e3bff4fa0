// Package service is an estate that is served: it keeps what clients ask for ready in memory, and does on its own
// what is due. It speaks no protocol; internal/httpd asks it.
//
// Two loops run. One looks at the journal several times a second and reads again what changed. The other looks after
// what is due: lists, the keys of OCSP responders, the desk's certificate, invitations. Whatever fails is tried
// again, is logged, and State reports it. Serving continues meanwhile.
package service

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/ordering"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/responding"
	"ironseal/internal/app/revoke/serving"
	"ironseal/internal/estate"
	"ironseal/pki/fault"
)

// Actor is who acts in the journal where a server acts on its own.
const Actor = "serve"

// How often the loops look.
const (
	watchEach  = 200 * time.Millisecond
	upkeepEach = time.Minute
	countEach  = 10 * time.Minute
	rereadEach = 15 * time.Second // lists that were signed ahead take their turn by time alone
	graceOfOld = 30 * time.Second // requests that began with records that were replaced are finished
)

// Options are what a server is started with.
type Options struct {
	Dir    string
	Env    estate.Env
	Change func(*estate.Serve) // what the command line says in place of the settings; may be nil
	Log    *slog.Logger
}

// Service is an estate that is served. It is safe for many at once.
type Service struct {
	o        Options
	now      atomic.Pointer[state]
	public   atomic.Pointer[serving.Public]
	identity atomic.Pointer[Identity]

	registrations atomic.Pointer[map[string]*Registration] // by the handle of the authority
	wake          chan struct{}                            // the upkeep is to look now
	mu            sync.Mutex
	troubles      map[string]Trouble
	failing       atomic.Bool  // the records could not be asked for OCSP
	round         atomic.Int64 // when the watch came round, in Unix nanoseconds
	seen          int64        // the journal's newest entry that was read
	read          time.Time
	noticed       string         // the day on which notice was given of what is due; of the upkeep alone
	asked         sync.WaitGroup // commands of notices that run
	notices       chan notice

	delivered []enrol.Delivery // that are to be recorded
	late      atomic.Int64     // how many machines are late, as of the last time that they were counted
	counted   time.Time        // when that was; of the upkeep alone
}

// state is an open estate and what answers for it.
type state struct {
	estate   *estate.Estate
	live     *responding.Live
	records  os.FileInfo
	settings time.Time   // when the settings were changed
	unlocked atomic.Bool // the keys to sign with were opened
	opening  sync.Mutex
	nonces   *ordering.Nonces // of ACME; nil before the first is asked for
}

// Trouble is something that failed and is tried again.
type Trouble struct {
	What  string
	Err   error
	Since time.Time
}

// Open opens an estate to be served, and reads what clients ask for.
func Open(ctx context.Context, o Options) (*Service, error) {
	s := &Service{o: o, wake: make(chan struct{}, 1), troubles: map[string]Trouble{}, notices: make(chan notice, 256)}
	st, err := s.open(ctx)
	if err != nil {
		return nil, err
	}
	s.now.Store(st)
	head, err := serving.Watched(ctx, st.estate.Records)
	if err == nil {
		s.seen = head
		err = s.reread(ctx, head)
	}
	if err != nil {
		return nil, errors.Join(err, st.estate.Close())
	}
	return s, nil
}

func (s *Service) open(ctx context.Context) (*state, error) {
	env := s.o.Env
	env.Actor = estate.Identity{Name: Actor, Known: estate.ByLogin}
	st := &state{settings: s.settingsTime()}
	var err error
	if st.estate, err = estate.Open(ctx, s.o.Dir, env); err != nil {
		return nil, err
	}
	if s.o.Change != nil {
		s.o.Change(&st.estate.Settings.Serve)
	}
	set := st.estate.Settings.Serve
	if err := set.Check(); err != nil {
		return nil, errors.Join(err, st.estate.Close())
	}
	if !st.estate.Settings.Storage.OnServer() {
		if st.records, err = os.Stat(s.recordsFile(st)); err != nil {
			return nil, errors.Join(err, st.estate.Close())
		}
	}
	st.live = responding.NewLive(st.estate, set.Life(), s.folder(set.Answers))
	if ask, any := asks(set.Answer); any {
		st.live.Expect(ask)
	}
	return st, nil
}

func (s *Service) folder(dir string) string {
	if dir == "" || filepath.IsAbs(dir) {
		return dir
	}
	return filepath.Join(s.o.Dir, dir)
}

func (s *Service) recordsFile(st *state) string {
	return filepath.Join(s.o.Dir, st.estate.Settings.Storage.Records)
}

// sameRecords reports whether the file of the records is the one that was opened. A server's database is.
func (s *Service) sameRecords(st *state) (bool, error) {
	if st.records == nil {
		return true, nil
	}
	info, err := os.Stat(s.recordsFile(st))
	return err == nil && os.SameFile(info, st.records), err
}

func (s *Service) settingsTime() time.Time {
	info, err := os.Stat(filepath.Join(s.o.Dir, estate.SettingsFile))
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// Estate is the estate as it is open now. It is not to be kept beyond a request.
func (s *Service) Estate() *estate.Estate { return s.now.Load().estate }

// Settings are what the server runs by.
func (s *Service) Settings() estate.Serve { return s.Estate().Settings.Serve }

// Public is what clients fetch.
func (s *Service) Public() *serving.Public { return s.public.Load() }

// Answer answers an OCSP request.
func (s *Service) Answer(ctx context.Context, asked []byte) responding.Told {
	told, err := s.now.Load().live.Answer(ctx, asked)
	if err != nil || s.failing.Load() { // no lock is taken as long as all is well
		s.failing.Store(err != nil)
		s.outcome("asking the records for OCSP", err)
	}
	return told
}

// Close ends the use of the estate, after Run has returned.
func (s *Service) Close() error {
	s.asked.Wait()
	return s.Estate().Close()
}

// Reload opens the estate again: its settings or its records were replaced. Where that fails, what is open stays.
func (s *Service) Reload(ctx context.Context) error {
	next, err := s.open(ctx)
	if err != nil {
		return err
	}
	if sameAs(s.now.Load(), next) { // what it certified is on record here
		before := s.now.Load()
		next.live.Inherit(before.live)
	}
	// What the new records lack is known before anything is answered from them.
	head, err := serving.Watched(ctx, next.estate.Records)
	if err != nil {
		return errors.Join(err, next.estate.Close())
	}
	public, err := serving.Read(ctx, next.estate, s.public.Load())
	if err == nil {
		err = next.live.Update(ctx, head, public.Back)
	}
	if err != nil {
		return errors.Join(err, next.estate.Close())
	}
	before := s.now.Swap(next)
	time.AfterFunc(graceOfOld, func() { _ = before.estate.Close() })
	s.public.Store(public)
	s.mu.Lock()
	s.seen, s.read = head, time.Now()
	s.mu.Unlock()
	s.Wake()
	return nil
}

// sameAs reports whether two states have the same records.
func sameAs(a, b *state) bool {
	if a.records == nil || b.records == nil {
		return a.records == b.records && a.estate.Settings.Storage == b.estate.Settings.Storage
	}
	return os.SameFile(a.records, b.records)
}

// Wake lets the upkeep look now.
func (s *Service) Wake() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// Run runs the loops until ctx ends.
func (s *Service) Run(ctx context.Context) {
	var all sync.WaitGroup
	heard := make(chan struct{}, 1)
	all.Go(func() { s.loop(ctx, watchEach, heard, s.watch) })
	all.Go(func() { s.listen(ctx, heard) })
	all.Go(func() { s.loop(ctx, upkeepEach, s.wake, s.upkeep) })
	all.Go(func() { s.loop(ctx, deliverEach, nil, s.deliver) })
	all.Go(func() { s.notify(ctx) })
	all.Wait()
	s.deliver(ctx)
}

// listen wakes whoever waits for changes of records on a server. What it does not hear is found by looking.
func (s *Service) listen(ctx context.Context, heard chan struct{}) {
	for ctx.Err() == nil {
		st := s.now.Load()
		if st.records != nil { // a file sends no notices
			return
		}
		err := st.estate.Records.Listen(ctx, func() {
			select {
			case heard <- struct{}{}:
			default:
			}
		})
		if ctx.Err() == nil {
			s.outcome("hearing of changes of the records", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

func (s *Service) loop(ctx context.Context, each time.Duration, wake chan struct{}, do func(context.Context)) {
	t := time.NewTicker(each)
	defer t.Stop()
	for {
		do(ctx)
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		case <-wake:
		}
	}
}

// watch reads again what changed.
func (s *Service) watch(ctx context.Context) {
	defer func() { s.round.Store(time.Now().UnixNano()) }()
	st := s.now.Load()
	same, err := s.sameRecords(st)
	switch {
	case errors.Is(err, fs.ErrNotExist): // they are being replaced, or gone
		s.outcome("reading the records", err)
		return
	case err == nil && (!same || !s.settingsTime().Equal(st.settings)):
		err := s.Reload(ctx)
		if err != nil { // tried again when the file changes again
			st.settings = s.settingsTime()
		}
		s.outcome("opening the estate again", err)
		if err == nil {
			s.o.Log.Info("the estate was opened again: its records or settings changed")
		}
		return
	}
	head, err := serving.Watched(ctx, st.estate.Records)
	if err == nil && (head != s.last() || time.Since(s.read) > rereadEach) {
		before := s.last()
		if err = s.reread(ctx, head); err == nil && before != 0 && head > before {
			err = s.tell(ctx, before, head)
			s.Wake()
		}
	}
	if ctx.Err() == nil {
		s.outcome("reading the records", err)
	}
}

func (s *Service) last() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.seen
}

// reread reads what clients ask for, as of an entry of the journal.
func (s *Service) reread(ctx context.Context, head int64) error {
	st := s.now.Load()
	before := s.public.Load()
	public, err := serving.Read(ctx, st.estate, before)
	if err != nil && before == nil {
		return err
	}
	if err == nil && public != before {
		s.public.Store(public)
	}
	if e := st.live.Update(ctx, head, s.public.Load().Back); e != nil || err != nil {
		return errors.Join(err, e)
	}
	s.mu.Lock()
	s.seen, s.read = head, time.Now()
	s.mu.Unlock()
	return nil
}

// Replaced says that the records were replaced or taken away since they were opened: what was recorded meanwhile may
// be lost. It is nil where they are in place.
func (s *Service) Replaced() error {
	st := s.now.Load()
	if same, err := s.sameRecords(st); err == nil && same {
		return nil
	}
	return fault.New(fault.Unavailable, "the records are being replaced: try again in a minute")
}

// Alive reports whether the loop that watches the records has come round within a time. Systemd starts a server again
// that hangs.
func (s *Service) Alive(within time.Duration) bool {
	return time.Since(time.Unix(0, s.round.Load())) < within
}

// outcome keeps what failed until it works again, and logs the change.
func (s *Service) outcome(what string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	before, failing := s.troubles[what]
	switch {
	case err == nil && failing:
		delete(s.troubles, what)
		s.o.Log.Info(what+" works again", "failed since", before.Since)
	case err != nil && failing:
		s.troubles[what] = Trouble{What: what, Err: err, Since: before.Since} // said once, and told by State
	case err != nil:
		s.troubles[what] = Trouble{What: what, Err: err, Since: time.Now()}
		s.o.Log.Error(what+" failed", "error", err)
	}
}

// Troubles are what fails at the moment.
func (s *Service) Troubles() (out []Trouble) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, t := range s.troubles {
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b Trouble) int { return a.Since.Compare(b.Since) })
	return out
}

// asks turns the names of authorities in settings into what the acts take; false where none is named.
func asks(names []string) (publishing.Ask, bool) {
	switch {
	case len(names) == 0:
		return publishing.Ask{}, false
	case slices.Contains(names, "all"):
		return publishing.Ask{}, true
	}
	return publishing.Ask{Only: names}, true
}
