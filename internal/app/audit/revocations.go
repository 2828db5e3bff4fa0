package audit

import (
	"fmt"
	"maps"
	"slices"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/journal"
)

// toldRevocations is what the journal says of what was taken back of one authority.
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

// adoptedRevocations imports what an adoption brought.
func (t *told) adoptedRevocations(handle string, d journal.Detail) {
	a := t.authorities[handle]
	if a == nil || d.Text("revocations") == "" {
		return
	}
	r := &a.revoked
	r.digest, r.before, r.at = d.Text("revocations"), maps.Clone(r.own), -1
	if d["list number"] != nil {
		r.at = d.Number("list number")
		r.number = r.at
	}
}

// revocations applies what was revoked or released here, and lists that were signed.
func (t *told) revocations(en journal.Entry, d journal.Detail, at string) {
	switch en.Act {
	case revoking.RevokeAct:
		for _, s := range d.Objects("revoked") {
			if a := t.authorities[s.Text("by")]; a != nil {
				if a.revoked.own == nil {
					a.revoked.own = map[string]toldRevocation{}
				}
				before, ours := a.revoked.own[s.Text("serial")]
				r := toldRevocation{again: int64(min(len(s.Text("was")), 1)), at: recordDay(s.Text("at")),
					invalid: recordDay(s.Text("invalid")), reason: s.Number("reason"), ends: s.Number("ends"),
					part: s.Number("part"), was: s.Text("was")}
				if ours { // what an adoption brought before that
					r.was = before.was
				}
				a.revoked.own[s.Text("serial")] = r
			}
		}
	case revoking.UnholdAct, "release": // as it was called before
		for _, s := range d.Objects("released") {
			if a := t.authorities[s.Text("by")]; a != nil {
				r, own := a.revoked.own[s.Text("serial")]
				if !own { // one that was adopted
					r = toldRevocation{at: recordDay(s.Text("at")), reason: s.Number("reason"), ends: s.Number("ends")}
					r.was = store.Line(s.Text("serial"), r.at, int(r.reason))
				}
				if r.released = at; a.revoked.own == nil {
					a.revoked.own = map[string]toldRevocation{}
				}
				a.revoked.own[s.Text("serial")] = r
			}
		}
	case compromise.OpenAct, compromise.CloseAct:
		for _, name := range append(d.List("stopped"), d.List("grant again")...) {
			if g := t.generations[name]; g != nil {
				if g.stopped = "incident " + en.Object; en.Act == compromise.CloseAct {
					g.stopped = ""
				}
			}
		}
	case revoking.PublishAct, inventory.TakeInAct:
		for _, s := range d.Objects("authorities") {
			if a := t.authorities[s.Text("by")]; a != nil {
				if r := &a.revoked; r.after <= 0 {
					r.after = s.Number("after")
				}
				a.revoked.number = s.Number("number")
			}
		}
	}
}

// partOf is the part of its issuer's lists that a certificate stands on. What was not signed
// here stands on none, whatever it says.
func (a *auditing) partOf(c *cert.Certificate, issuer int64) int {
	h, err := a.e.Hierarchy(a.ctx)
	told := a.certificates[fmt.Sprintf("%x", c.SHA256())]
	if err != nil || told == nil || told.template == "" {
		return 0
	}
	return revoking.PartOf(c, h.Generation(a.gens[issuer]))
}

// auditRevocations holds what is on record as taken back against the journal.
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

// revocationsFit holds the rows of one authority against what was told of it.
func (a *auditing) revocationsFit(handle string, told toldRevocations, rows map[string]store.Row) bool {
	lines := map[string]string{} // as they were when the adoption was reported
	for serial, r := range rows {
		own, ours := told.own[serial]
		if !ours {
			if r.Text("invalid") != "" || r.Text("released") != "" || r.Int("part") != 0 || r.Int("again") != 0 ||
				r.Int("ends") != 0 && r.Int("ends") != a.ends[handle+" "+serial] {
				return false
			}
			lines[serial] = store.Line(serial, r.Text("at"), int(r.Int("reason")))
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
		lines[serial] = store.Line(serial, b.at, int(b.reason))
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
