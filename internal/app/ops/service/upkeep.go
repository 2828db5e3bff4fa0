package service

import (
	"context"
	"slices"
	"time"

	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/requests/desk"
	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/keystore"
	"ironseal/pki/span"
)

// upkeep does what is due.
func (s *Service) upkeep(ctx context.Context) {
	for _, duty := range []struct {
		what string
		do   func(context.Context) error
	}{
		{"opening keys to sign with", s.unlock},
		{"making OCSP responders", s.respond},
		{"signing lists", s.publish},
		{"recording what is served", s.placed},
		{"the desk's certificate", s.certify},
		{"the registration certificates", s.register},
		{"ending invitations", s.expire},
		{"looking for machines that are late", s.count},
		{"looking for what is due", s.due},
	} {
		if ctx.Err() != nil {
			return
		}
		err := duty.do(ctx)
		if ctx.Err() == nil {
			s.outcome(duty.what, err)
		}
	}
}

// Begin does once, before anything is served, what asks for passphrases.
func (s *Service) Begin(ctx context.Context) error {
	for _, do := range []func(context.Context) error{s.unlock, s.respond, s.publish, s.placed, s.certify, s.register} {
		if err := do(ctx); err != nil {
			return err
		}
	}
	return nil
}

// unlock opens the keys with which requests are signed without a person: passphrases are asked for at the start.
func (s *Service) unlock(ctx context.Context) error {
	st := s.now.Load()
	ask, any := asks(st.estate.Settings.Serve.Sign)
	if !any || st.unlocked.Load() {
		return nil
	}
	h, err := st.estate.Hierarchy(ctx)
	if err != nil {
		return err
	}
	for _, a := range h {
		g := a.Current()
		if g == nil || len(ask.Only) > 0 && !slices.Contains(ask.Only, a.Handle) ||
			!st.estate.Keys.Has(g.Certificate.Key) {
			continue
		}
		opened, err := st.estate.Keys.Open(ctx, g.Certificate.Key, a.Handle, keystore.ForCertificate)
		if err != nil {
			return err
		}
		opened.Close()
	}
	st.unlocked.Store(true)
	return nil
}

// Unlocked reports whether the server may sign with the key of an authority.
func (s *Service) Unlocked(handle string) bool {
	st := s.now.Load()
	ask, any := asks(st.estate.Settings.Serve.Sign)
	return any && st.unlocked.Load() && (len(ask.Only) == 0 || slices.Contains(ask.Only, handle))
}

// respond makes responders' keys before those that there are end.
func (s *Service) respond(ctx context.Context) error {
	st := s.now.Load()
	ask, any := asks(st.estate.Settings.Serve.Answer)
	if !any {
		return nil
	}
	if err := st.live.Keep(ctx, ask); err != nil {
		return err
	}
	return st.live.Update(ctx, s.last(), s.public.Load().Back)
}

// publish signs the lists that are due.
func (s *Service) publish(ctx context.Context) error {
	e := s.Estate()
	ask, any := asks(e.Settings.Serve.Publish)
	if !any {
		return nil
	}
	p, err := publishing.PlanLists(ctx, e, ask)
	if err != nil || len(p.Signs()) == 0 {
		return err
	}
	if _, err = publishing.Sign(ctx, e, p); err != nil {
		return err
	}
	return s.reread(ctx, s.last())
}

// expire ends the invitations whose day has passed.
func (s *Service) expire(ctx context.Context) error {
	if s.Estate().ReadOnly() != nil {
		return nil
	}
	_, err := desk.Expire(ctx, s.Estate())
	return err
}

// count counts the machines that are late, seldom: it reads every machine's certificate.
func (s *Service) count(ctx context.Context) error {
	if time.Since(s.counted) < countEach {
		return nil
	}
	s.counted = time.Now()
	list, err := fleet.LateOnes(ctx, s.Estate())
	if err == nil {
		s.late.Store(int64(len(list)))
	}
	return err
}

// due gives notice, once a day, of what has to be done soon.
func (s *Service) due(ctx context.Context) error {
	e := s.Estate()
	today := e.Now().Format("2006-01-02")
	if len(e.Settings.Serve.Notify) == 0 || s.noticed == today {
		return nil
	}
	within, err := span.Parse(e.Settings.Defaults.Expiring)
	if err != nil {
		return err
	}
	list, err := overview.DueWithin(ctx, e, within)
	if err != nil {
		return err
	}
	for _, d := range list {
		s.queue(Notice{What: "due", At: e.Now(), By: Actor, Title: d.Title,
			Text: d.Day.Format("2006-01-02") + ": " + d.Title + ": " + d.What})
	}
	s.noticed = today
	return nil
}

// placed records which lists clients find here: an incident is over only then.
func (s *Service) placed(ctx context.Context) error {
	e := s.Estate()
	if e.ReadOnly() != nil || e.Settings.Publication.Address == "" {
		return nil
	}
	return publishing.Served(ctx, e, "serve "+e.Settings.Publication.Address, s.public.Load().Lists)
}
