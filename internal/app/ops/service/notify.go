package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"ironseal/internal/event"
	"ironseal/pki/journal"
)

// Notice is what a notify command reads from its standard input, as one line of JSON.
type Notice struct {
	What    string    `json:"what" doc:"request received, request declined, certificate signed, due"`
	At      time.Time `json:"at" doc:"when"`
	By      string    `json:"by" doc:"who did it"`
	Request string    `json:"request,omitempty" doc:"its number"`
	Title   string    `json:"title,omitempty" doc:"for whom it is"`
	Text    string    `json:"text" doc:"one sentence for people"`
}

type notice = Notice

// notifyLimit is how long a notify command may take.
const notifyLimit = 30 * time.Second

// tell queues notices about entries of the journal after one, up to another. Entries that come meanwhile have their
// notices next time.
func (s *Service) tell(ctx context.Context, after, last int64) error {
	if len(s.Settings().Notify) == 0 {
		return nil
	}
	granted, waits := map[string]bool{}, map[string]string{}
	var list []Notice
	err := s.Estate().Records.Entries(ctx, after+1, int(last-after), func(en journal.Entry) error {
		switch en.Act {
		case event.SigningGranted{}.Act():
			granted[en.Object] = true
		case event.PersonDecides{}.Act():
			told, err := event.As[event.PersonDecides](en)
			if err != nil {
				return err
			}
			waits[en.Object] = strings.Join(told.Why, " ")
		}
		list = append(list, noticesOf(en)...)
		return nil
	})
	for _, n := range list {
		switch {
		case granted[n.Request]: // a machine got what it may have: no one needs to know
			continue
		case n.What == "request received" && waits[n.Request] != "":
			n.Text = fmt.Sprintf("%s for %s waits for you. %s", n.Request, n.Title, waits[n.Request])
		}
		s.queue(n)
	}
	return err
}

func (s *Service) queue(n notice) {
	select {
	case s.notices <- n:
	default:
		s.o.Log.Warn("a notice was dropped: the notify command is too slow", "what", n.What, "request", n.Request)
	}
}

// noticesOf are what an entry gives notice of.
func noticesOf(en journal.Entry) (out []Notice) {
	e, err := event.Read(en)
	if err != nil {
		return nil // estate check tells of it
	}
	switch e := e.(type) {
	case *event.Received:
		e.Each(en.Object, func(r event.ReceivedRequest) {
			out = append(out, Notice{What: "request received", Request: r.Number, Title: r.Title,
				Text: fmt.Sprintf("%s of %s for %s waits.", r.Number, e.From, r.Title)})
		})
	case *event.Declined:
		out = append(out, Notice{What: "request declined", Request: en.Object,
			Text: fmt.Sprintf("%s was declined: %s", en.Object, e.Because)})
	case *event.Signed:
		for _, c := range e.Signed {
			if c.Request == "" { // the key of a responder or of a kit: no one asked for it
				continue
			}
			out = append(out, Notice{What: "certificate signed", Request: c.Request, Title: c.Title,
				Text: fmt.Sprintf("The certificate of %s was signed. It ends on %.10s.", c.Title, c.Until)})
		}
	}
	for i := range out {
		out[i].At, out[i].By = en.At, en.Actor
	}
	return out
}

// notify runs the command for one notice after the other.
func (s *Service) notify(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case n := <-s.notices:
			s.outcome("the notify command", s.run(ctx, n))
		}
	}
}

func (s *Service) run(ctx context.Context, n Notice) error {
	command := s.Settings().Notify
	if len(command) == 0 {
		return nil
	}
	line, err := json.Marshal(n)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, notifyLimit)
	defer cancel()
	c := exec.CommandContext(ctx, command[0], command[1:]...)
	c.Dir, c.Stdin = s.o.Dir, bytes.NewReader(append(line, '\n'))
	c.WaitDelay = time.Second
	var said bytes.Buffer
	c.Stderr = &limited{&said, 4096}
	if err := c.Run(); err != nil {
		return fmt.Errorf("%s: %w: %s", command[0], err, strings.TrimSpace(said.String()))
	}
	return nil
}

// limited keeps so many bytes and drops the rest.
type limited struct {
	to   *bytes.Buffer
	room int
}

func (l *limited) Write(p []byte) (int, error) {
	n := min(len(p), l.room)
	l.room -= n
	l.to.Write(p[:n])
	return len(p), nil
}
