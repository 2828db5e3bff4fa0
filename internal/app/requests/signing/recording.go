package signing

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/lifecycle"
)

// RecordAll is the one writer: it gathers what the workers signed, commits it and
// tells of it.
func RecordAll(ctx context.Context, e *estate.Estate, signed <-chan SignResult, tell func(SignResult)) {
	var stopped error
	for {
		list := gathered(signed)
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
			if store.Permanent(r.Err) {
				stopped = r.Err
			}
			tell(r)
		}
	}
}

// gathered takes a batch; it is empty only when there will be no more.
func gathered(signed <-chan SignResult) []SignResult {
	first, open := <-signed
	if !open {
		return nil
	}
	list := []SignResult{first}
	late := time.After(gather)
	for len(list) < batch {
		select {
		case r, open := <-signed:
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

// commit records a batch. Where that fails as a whole, each is tried on its own,
// so that one bad record does not keep the others back.
func commit(ctx context.Context, e *estate.Estate, list []SignResult) []SignResult {
	if len(list) == 0 {
		return nil
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) { return recordSigned(ctx, e, tx, list) })
	if err == nil {
		err = e.Env.Step(estate.StepRecorded)
	} else if len(list) > 1 && !store.Permanent(err) {
		var out []SignResult
		for i := range list {
			out = append(out, commit(ctx, e, list[i:i+1])...)
		}
		return out
	}
	for i := range list {
		list[i].Head = head
		if err != nil {
			outcome := "nothing was signed"
			if errors.Is(err, store.ErrUncertain) {
				outcome = "it was signed, and may be on record"
			}
			list[i].Certificate, list[i].Err = nil,
				fmt.Errorf("R%d: %s: %w", list[i].Sheet.Record.Number, outcome, err)
		}
	}
	return list
}

func recordSigned(ctx context.Context, e *estate.Estate, tx store.Tx, list []SignResult) ([]event.Record, error) {
	var numbers []int64
	for _, r := range list {
		if err := e.CheckAgreed(*r.Sheet.Template, event.Signed{}); err != nil {
			return nil, err
		}
		if !r.Sheet.Again {
			numbers = append(numbers, r.Sheet.Record.Number)
		}
	}
	err := tx.SetStates(numbers, lifecycle.Signed)
	if errors.Is(err, fault.Changed) && len(numbers) == 1 {
		err = tx.CheckWaiting(numbers[0])
	}
	if err != nil {
		return nil, fmt.Errorf("the record changed while the sheet was on screen: %w", err)
	}
	if err := errors.Join(uncompromised(ctx, tx, list), stillFit(ctx, e.InTx(tx), list),
		stillAlone(ctx, e, tx, list)); err != nil {
		return nil, err
	}
	generations := map[string]int64{}
	templates := map[string]bool{}
	var made []store.NewCertificate
	for _, r := range list {
		s := r.Sheet
		if !templates[s.Template.Name] {
			templates[s.Template.Name] = true
			if err := authorities.Unchanged(e, *s.Template); err != nil {
				return nil, err
			}
		}
		label := s.Issuer.Label()
		if generations[label] == 0 {
			if generations[label], err = tx.GenerationID(s.Issuer); err != nil {
				return nil, fmt.Errorf("the record changed while the sheet was on screen: %w", err)
			}
		}
		n := r.made
		n.Issuer, n.Request = generations[label], s.Record.Number
		made = append(made, n)
	}
	if _, err := tx.AddCertificates(made); err != nil {
		return nil, err
	}
	return told(list), nil
}

// written fills in what will be recorded of a certificate, but for what the record itself gives: so the one writer has
// less to do.
func (r *SignResult) written() {
	s, c := r.Sheet, r.Certificate
	digest, sum := s.Digest(), c.SHA256()
	r.made = store.NewCertificate{Certificate: c, Columns: store.ColumnsOf(c), TemplateName: s.Template.Name,
		TemplateSHA: s.Template.SHA256(), TemplateSource: s.Template.Source(), Sheet: digest,
		SwitchDay: s.Issuer.SwitchDay, Replaces: s.Replaces, Part: s.Part(), Waived: estate.Waived(s.Findings())}
	r.told = event.SignedCertificate{Certificate: hex.EncodeToString(sum[:]), Serial: r.made.Columns.Serial,
		Title: r.made.Columns.Title, By: s.Issuer.Name(), Template: s.Template.Name,
		Until: c.NotAfter.Format(time.RFC3339), Sheet: hex.EncodeToString(digest[:]), Replaces: s.Replaces,
		SwitchDay: estate.DayOf(s.Issuer.SwitchDay), Waived: estate.WaivedCodes(s.Findings())}
}

// stillFit asks again what the plans asked, now that no one else can write: whether a subject or a key
// became that of an authority of ours, whether an authority above the issuer was revoked, and
// whether what is to be replaced was revoked or put on hold.
func stillFit(ctx context.Context, e *estate.Estate, list []SignResult) error {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return err
	}
	changed := func(format string, args ...any) error {
		return fault.New(fault.Changed, "the record changed while the sheet was on screen: "+format, args...)
	}
	for _, r := range list {
		s, c := r.Sheet, r.Certificate
		if g := h.Generation(s.Issuer.Name()); g == nil || g.RevokedAbove() != nil {
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
		old, err := e.ReadCertificates(e.Records.CertificateByID(ctx, s.Replaces))
		if err != nil {
			return err
		}
		if len(old) != 1 || old[0].State != s.Was && old[0].State.Rejected() {
			return changed("what is to be replaced, %s, was %s before and is %s now", c.Title(), s.Was,
				stateOf(old))
		}
	}
	return nil
}

func stateOf(list []estate.CertificateRecord) string {
	if len(list) == 0 {
		return "gone"
	}
	return string(list[0].State)
}

// uncompromised refuses keys that came under suspicion while the sheet was on screen.
func uncompromised(ctx context.Context, tx store.Tx, list []SignResult) error {
	keys := make([][32]byte, len(list))
	for i, r := range list {
		keys[i] = r.made.Columns.Key
	}
	compromised, err := compromise.Among(ctx, tx, keys)
	for _, k := range keys {
		if f, ok := compromised[k]; ok && err == nil {
			err = fault.New(fault.Changed, "the record changed while the sheet was on screen: %s", f.Message)
		}
	}
	return err
}

// Decided is the outcome of a request that could not be signed because someone else decided it meanwhile; "" for any
// other failure.
func Decided(ctx context.Context, e *estate.Estate, r SignResult) string {
	if !errors.Is(r.Err, fault.Changed) || r.Sheet.Again {
		return ""
	}
	now, err := e.Records.Request(ctx, r.Sheet.Record.Number)
	if err != nil || now.State == lifecycle.Waiting {
		return ""
	}
	return string(now.State)
}

// told are the events of one commit: every certificate in it, by its fingerprint.
func told(list []SignResult) []event.Record {
	items := make([]event.SignedCertificate, len(list))
	for i, r := range list {
		items[i] = r.told
		items[i].Request = fmt.Sprintf("R%d", r.Sheet.Record.Number)
	}
	return event.SignedOf(items)
}
