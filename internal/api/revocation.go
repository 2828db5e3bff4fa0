package api

import (
	"time"

	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/pki/finding"
)

// Revoked is what was revoked by one act.
type Revoked struct {
	Certificates []RevokedCertificate `json:"certificates" doc:"those that were revoked"`
	Reason       string               `json:"reason" doc:"why, by the name of the standard"`
	Since        string               `json:"since,omitempty" doc:"since when they are to be taken as bad"`
	Because      string               `json:"because" doc:"the reason in words"`
	Dependents   []RevokedCertificate `json:"dependents" doc:"the certificates below a revoked authority, in the order in which to replace them"`
	Parties      []string             `json:"parties" doc:"who loses what they hold"`
	Findings     finding.List         `json:"findings" doc:"what was found"`
	Head         string               `json:"journal_head" doc:"the journal's head after the act"`
}

// RevokedCertificate is one certificate of a revocation.
type RevokedCertificate struct {
	Title     string   `json:"title" doc:"for whom it is"`
	Serial    string   `json:"serial" doc:"its serial number, in hex"`
	By        string   `json:"by" doc:"the generation that signed it"`
	Authority bool     `json:"ca" doc:"whether it is an authority's"`
	Until     string   `json:"not_after" doc:"last moment"`
	HeldBy    []string `json:"held_by" doc:"who is known to hold it"`
}

// RevokedOf is an act of revoking as JSON has it.
func RevokedOf(p revoking.Plan, head string, s Speller) Revoked {
	out := Revoked{Certificates: []RevokedCertificate{}, Reason: p.Ask.Reason.String(), Because: p.Ask.Because,
		Dependents: []RevokedCertificate{}, Parties: append([]string{}, p.Parties...),
		Findings: FindingsOf(p.Findings, s), Head: head}
	if !p.Ask.Since.IsZero() {
		out.Since = Time(p.Ask.Since)
	}
	for _, t := range p.Targets {
		out.Certificates = append(out.Certificates, RevokedCertificate{Title: t.Title(), Serial: t.SerialHex(),
			By: t.By.Name(), Authority: t.IsAuthority(), Until: Time(t.NotAfter), HeldBy: []string{}})
	}
	for _, f := range p.Dependents {
		out.Dependents = append(out.Dependents, RevokedCertificate{Title: f.Title(), Serial: f.SerialHex(), By: f.Under,
			Authority: f.Authority, Until: Time(f.NotAfter), HeldBy: append([]string{}, f.Holders...)})
	}
	return out
}

// OffHoldOf is an act of releasing as JSON has it.
func OffHoldOf(list []revoking.Target, head string) map[string]any {
	out := []RevokedCertificate{}
	for _, t := range list {
		out = append(out, RevokedCertificate{Title: t.Title(), Serial: t.SerialHex(), By: t.By.Name(),
			Authority: t.IsAuthority(), Until: Time(t.NotAfter), HeldBy: []string{}})
	}
	return map[string]any{"off_hold": out, "journal_head": head}
}

// RevocationList is one list, as the estate knows it.
type RevocationList struct {
	Title   string `json:"title" doc:"the file under which it is served"`
	By      string `json:"by" doc:"the generation whose key signs it"`
	Part    int    `json:"part" doc:"the part that it is about; 0: all"`
	Number  int64  `json:"number" doc:"its number; 0 if there is no list"`
	This    string `json:"this_update,omitempty" doc:"its date"`
	Next    string `json:"next_update,omitempty" doc:"when its successor is there at the latest"`
	Until   string `json:"fresh_until,omitempty" doc:"until when lists are signed, those ahead too"`
	Entries int    `json:"entries" doc:"how many certificates stand on it"`
	State   string `json:"state" doc:"fresh, stale, missing"`
	Why     string `json:"why" doc:"why it is to be signed now; empty where it is not"`
	Unable  string `json:"unable" doc:"why it cannot be signed here; empty where it can"`
}

// States of a list.
const (
	ListFresh   = "fresh"
	ListStale   = "stale"
	ListMissing = "missing"
)

// RevocationListOf is a list as JSON has it.
func RevocationListOf(d publishing.Due, now time.Time) RevocationList {
	out := RevocationList{Title: d.Title(), By: d.Generation.Name(), Part: d.Part, Number: d.Now.Number,
		Entries: d.Now.Entries, State: ListMissing, Why: d.Why, Unable: d.Unable}
	if d.Now.Number != 0 {
		out.This, out.Next, out.Until = Time(d.Now.This), Time(d.Now.Next), Time(d.Until)
		out.State = ListFresh
		if now.After(d.Now.Next) {
			out.State = ListStale
		}
	}
	return out
}
