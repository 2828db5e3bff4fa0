package audit

import (
	"maps"
	"slices"

	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/journal"
)

// toldRevocations is what the journal says of what was revoked of one authority.
type toldRevocations struct {
	own map[string]toldRevocation // by acts here, by serial

	// An adoption tells a digest of all that was on record after it, and no serials.
	digest string
	before map[string]toldRevocation // of own, when it was reported
	at     int64                     // the number of the list then; -1 where it was not told
	number int64                     // of the newest list; -1 where no list was signed since
	after  int64                     // the number before the first list that was signed here; -1 for none
}

type toldRevocation struct {
	at, invalid, released string
	reason, ends, part    int64
	again                 int64  // 1 where something was on record of it before
	was                   string // the line of an adopted one that it took the place of
}

// adoptedRevocations applies what an adoption brought.
func (t *told) adoptedRevocations(handle string, e *event.AuthorityAdopted) {
	a := t.authorities[handle]
	if a == nil || e.Revocations == "" {
		return
	}
	r := &a.revoked
	r.digest, r.before, r.at = e.Revocations, maps.Clone(r.own), -1
	if e.ListNumber != nil {
		r.at, r.number = *e.ListNumber, *e.ListNumber
	}
}

// revocations applies what was revoked or released here, and lists that were signed.
func (t *told) revocations(en journal.Entry, what event.Event, at string) {
	switch e := what.(type) {
	case *event.Revoked:
		for _, s := range e.Revoked {
			t.revoked(s)
		}
	case *event.Released:
		for _, s := range e.Released {
			t.released(s, at)
		}
	case *event.IncidentOpened:
		t.stopped(e.Stopped, "incident "+en.Object)
	case *event.IncidentClosed:
		t.stopped(e.GrantAgain, "")
	case *event.ListsSigned:
		t.numbered(e.Authorities)
	case *event.ListsImported:
		t.numbered(e.Authorities)
	}
}

func (t *told) revoked(s event.RevokedCertificate) {
	a := t.authorities[s.By]
	if a == nil {
		return
	}
	if a.revoked.own == nil {
		a.revoked.own = map[string]toldRevocation{}
	}
	r := toldRevocation{again: int64(min(len(s.Was), 1)), at: recordDay(s.At), invalid: recordDay(s.Invalid),
		reason: int64(s.Reason), ends: s.Ends, part: int64(s.Part), was: s.Was}
	if before, ours := a.revoked.own[s.Serial]; ours { // what an adoption brought before that
		r.was = before.was
	}
	a.revoked.own[s.Serial] = r
}

func (t *told) released(s event.RevokedCertificate, at string) {
	a := t.authorities[s.By]
	if a == nil {
		return
	}
	r, own := a.revoked.own[s.Serial]
	if !own { // one that was adopted
		r = toldRevocation{at: recordDay(s.At), reason: int64(s.Reason), ends: s.Ends}
		r.was = store.DigestLine(s.Serial, r.at, s.Reason)
	}
	if r.released = at; a.revoked.own == nil {
		a.revoked.own = map[string]toldRevocation{}
	}
	a.revoked.own[s.Serial] = r
}

func (t *told) stopped(generations []string, why string) {
	for _, name := range generations {
		if g := t.generations[name]; g != nil {
			g.stopped = why
		}
	}
}

func (t *told) numbered(list []event.ListNumber) {
	for _, s := range list {
		if a := t.authorities[s.By]; a != nil {
			if a.revoked.after <= 0 {
				a.revoked.after = s.After
			}
			a.revoked.number = s.Number
		}
	}
}

// partOf is the part of its issuer's lists that a certificate is on. What was not signed
// here is on none, whatever it says.
func (a *auditing) partOf(x seenCertificate, issuer int64) int {
	told := a.certificates[x.sum]
	if a.h == nil || told == nil || told.template == "" {
		return 0
	}
	return revoking.PartOf(x.c, a.h.Generation(a.gens[issuer]))
}

// auditRevocations holds what is on record as revoked against the journal.
func (a *auditing) auditRevocations() error {
	rows := map[string]map[string]store.Row{}
	if err := a.each("revocation", func(r store.Row) {
		handle := a.handles[r.Int("authority")]
		if rows[handle] == nil {
			rows[handle] = map[string]store.Row{}
		}
		rows[handle][r.Text("serial")] = r
	}); err != nil {
		return err
	}
	for handle, want := range a.authorities {
		if !a.revocationsFit(handle, want.revoked, rows[handle]) {
			a.fault(handle, "what is on record as revoked does not agree with the journal")
		}
		delete(rows, handle)
		number, have := want.revoked.number, a.listNumber[handle]
		if number > 0 && have != number || number == 0 && want.revoked.digest == "" && have != 0 {
			a.fault(handle, "the number of its last list is %d on record, and %d in the journal", have, number)
		}
	}
	if len(rows) > 0 && !a.older {
		a.fault("revocations", "something is revoked on record of an authority that there is not")
	}
	return nil
}

// revocationsFit holds the rows of one authority against what the journal says of it.
func (a *auditing) revocationsFit(handle string, told toldRevocations, rows map[string]store.Row) bool {
	lines := map[string]string{} // as they were when the adoption was reported
	for serial, r := range rows {
		own, ours := told.own[serial]
		if !ours {
			if r.Text("invalid") != "" || r.Text("released") != "" || r.Int("part") != 0 || r.Int("again") != 0 ||
				r.Int("ends") != 0 && r.Int("ends") != a.ends[handle+" "+serial] {
				return false
			}
			lines[serial] = store.DigestLine(serial, r.Text("at"), int(r.Int("reason")))
			continue
		}
		if r.Text("at") != own.at || r.Text("invalid") != own.invalid || r.Text("released") != own.released ||
			r.Int("reason") != own.reason || r.Int("ends") != own.ends || r.Int("part") != own.part ||
			r.Int("again") != own.again {
			return false
		}
	}
	for serial, own := range told.own {
		if rows[serial] == nil {
			return false
		}
		if own.was != "" {
			lines[serial] = own.was
		}
	}
	if told.digest == "" {
		return len(lines) == 0
	}
	for serial, b := range told.before {
		lines[serial] = store.DigestLine(serial, b.at, int(b.reason))
	}
	var sorted []string
	for _, serial := range slices.Sorted(maps.Keys(lines)) {
		sorted = append(sorted, lines[serial])
	}
	number := told.at
	switch {
	case number >= 0:
	case told.after > 0:
		number = told.after
	default:
		number = a.listNumber[handle]
	}
	return store.Digest(number, sorted) == told.digest
}
